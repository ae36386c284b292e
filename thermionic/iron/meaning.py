"""What a transformer whose turns have been found is good for: an output transformer, or one for the mains."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations

from thermionic.iron.unknown import Found, Winding

LOUDSPEAKERS = (4.0, 8.0, 16.0)
# Primary loads of usual stages and the tubes that they are for, from published operation: Ω, words. Nominal.
_SINGLE = (
    (2500.0, "one 2A3 or 6L6 class tube"), (3500.0, "one 300B or KT88 strapped as a triode"),
    (5000.0, "one EL84, 6V6 or 45"), (7000.0, "one small pentode"),
)  # fmt: skip
_PAIR = (
    (4000.0, "two KT88 or 6550"), (5000.0, "two 2A3 or 6L6"), (6600.0, "two EL34"), (8000.0, "two EL84"),
    (10000.0, "two 6V6"),
)  # fmt: skip
_NEAR = 1.2
_LEAST_SUITED, _MOST_SUITED = 800.0, 14000.0
HEATERS = (2.5, 4.0, 5.0, 6.3, 7.5, 12.6)
# Nothing drawn, a heater winding gives this much over what it is for.
_NO_LOAD = (0.97, 1.25)
_HT_VOLT, _BIAS_VOLT = 100.0, 15.0
# A core of so many cm² carries so many VA at 50 Hz: A = 1.1 sqrt(VA), the usual rule (F. Langford-Smith, Radiotron
# Designer's Handbook, 4th ed. (1953), section 5.5); a twentieth of it is what each side's copper may lose.
_CORE, _LOST = 1.1, 0.05
# A capacitor-input supply under load gives about so much of the winding's peak.
_RECTIFIED = 0.9


@dataclass(frozen=True)
class Tap:
    """What one pair of secondary leads reflects: the turns' ratio, and the whole primary's load for usual
    loudspeakers, Ω; ``suits`` says what tubes that would do for, where it is any."""

    a: str
    b: str
    ratio: float
    primary_ohm: tuple[float, ...]
    suits: tuple[str, ...]


@dataclass(frozen=True)
class AsOutput:
    """The readings as an output transformer's: its primary's leads, the centre tap ("" if none) and where other taps
    lie as shares of a half's turns (of the whole without a centre), and every pair of secondary leads. ``ampere`` is
    what the copper stands of steady current by the size of the core, None where that was not given."""

    primary: Winding
    centre: str
    screen_taps: tuple[tuple[str, float], ...]
    taps: tuple[Tap, ...]
    ampere: float | None
    watt: float | None


@dataclass(frozen=True)
class Secondary:
    """One winding of a mains transformer: its leads, open-circuit voltage (rms, each half where it has a centre tap),
    what it is by that, the direct voltage to be expected from a rectifier under load for an HT winding, and what the
    copper stands, A, where the core's size was given."""

    winding: Winding
    volt: float
    what: str
    direct_volt: float | None
    ampere: float | None


@dataclass(frozen=True)
class AsMains:
    """The readings as a mains transformer's, with ``primary`` on ``mains_volt``."""

    primary: Winding
    mains_volt: float
    secondaries: tuple[Secondary, ...]
    volt_ampere: float | None


def as_output(found: Found, core_cm2: float | None = None) -> AsOutput | None:
    """An output transformer; None where its turns are not known, or it has but one winding."""
    known = [winding for winding in found.windings if winding.turns]
    if len(known) < 2:
        return None
    primary = max(known, key=lambda winding: winding.whole or 0.0)
    whole = primary.whole or 0.0
    taps = []
    for winding in known:
        if winding is primary or winding.turns is None:
            continue
        for one, other in combinations(range(len(winding.leads)), 2):
            turns = abs(winding.turns[one] - winding.turns[other])
            if turns <= 0:
                continue
            ratio = whole / turns
            loads = tuple(ratio**2 * ohm for ohm in LOUDSPEAKERS)
            suits = tuple(_suits(load, bool(primary.centre)) for load in loads)
            taps.append(Tap(winding.leads[one], winding.leads[other], ratio, loads, suits))
    volt_ampere = (core_cm2 / _CORE) ** 2 if core_cm2 else None
    ohms = primary.ohms[-1] if primary.ohms else 0.0
    ampere = (_LOST * volt_ampere / ohms) ** 0.5 if volt_ampere and ohms > 0 else None
    return AsOutput(primary, primary.centre, _screen_taps(primary), tuple(taps), ampere, volt_ampere)


def _suits(ohm: float, pair: bool) -> str:
    """Tubes whose usual load is near, in words; "" where none is."""
    if not _LEAST_SUITED <= ohm <= _MOST_SUITED:
        return ""
    usual = _PAIR if pair else _SINGLE
    near, words = min(usual, key=lambda one: abs(one[0] / ohm - 1))
    return words if max(near / ohm, ohm / near) <= _NEAR else ""


def _screen_taps(primary: Winding) -> tuple[tuple[str, float], ...]:
    if primary.turns is None:
        return ()
    whole = primary.turns[-1]
    result = []
    for lead, at in zip(primary.leads[1:-1], primary.turns[1:-1], strict=True):
        if lead == primary.centre:
            continue
        # From the centre, where there is one, to the end; from the nearer end else.
        share = abs(at - whole / 2) / (whole / 2) if primary.centre else at / whole
        result.append((lead, share))
    return tuple(result)


def as_mains(found: Found, mains_volt: float, primary: str = "", core_cm2: float | None = None) -> AsMains | None:
    """A mains transformer with the winding that lead ``primary`` is of on the mains; the likeliest if none is named.

    None where its turns are not known, or no winding as the primary makes heaters and HT of the others.
    """
    known = [winding for winding in found.windings if winding.turns and (winding.whole or 0.0) > 0]
    if len(known) < 2:
        return None
    if primary:
        chosen = next((winding for winding in known if primary in winding.leads), None)
        return None if chosen is None else _on_mains(known, chosen, mains_volt, core_cm2)
    tried = [_on_mains(known, winding, mains_volt, core_cm2) for winding in known]
    sound = [one for one in tried if _makes_sense(one)]
    return sound[0] if len(sound) == 1 else None


def _makes_sense(one: AsMains) -> bool:
    kinds = [secondary.what for secondary in one.secondaries]
    return any(kind.startswith("heater") for kind in kinds) and all(kind != "" for kind in kinds)


def _on_mains(known: list[Winding], primary: Winding, mains_volt: float, core_cm2: float | None) -> AsMains:
    per_turn = mains_volt / (primary.whole or 1.0)
    volt_ampere = (core_cm2 / _CORE) ** 2 if core_cm2 else None
    secondaries = []
    for winding in known:
        if winding is primary:
            continue
        whole = (winding.whole or 0.0) * per_turn
        volt = whole / 2 if winding.centre else whole
        what, direct = _what(volt, whole, bool(winding.centre))
        ohms = winding.ohms[-1] if winding.ohms else 0.0
        ampere = (_LOST * volt_ampere / len(known) / ohms) ** 0.5 if volt_ampere and ohms > 0 else None
        secondaries.append(Secondary(winding, volt, what, direct, ampere))
    return AsMains(primary, mains_volt, tuple(secondaries), volt_ampere)


def _what(volt: float, whole: float, centred: bool) -> tuple[str, float | None]:
    """What a winding is by its open-circuit voltage, and the direct voltage of an HT winding."""
    for heater in HEATERS:
        if _NO_LOAD[0] * heater <= whole <= _NO_LOAD[1] * heater:
            rectifier = " or a rectifier's" if heater in (4.0, 5.0) else ""
            return f"heaters of {heater:g} V{rectifier}", None
    if volt >= _HT_VOLT:
        return "HT, full-wave" if centred else "HT, bridge", _RECTIFIED * 2**0.5 * volt
    if volt >= _BIAS_VOLT:
        return "bias, or a low supply", _RECTIFIED * 2**0.5 * volt
    return "", None


def kind_of(found: Found, mains_volt: float) -> str:
    """``output``, ``mains``, or "" where it cannot be told: by whether its turns make heaters and HT of the mains, or
    usual loads of loudspeakers."""
    mains = as_mains(found, mains_volt)
    output = as_output(found)
    is_mains = mains is not None and any(secondary.what.startswith("HT") for secondary in mains.secondaries)
    is_output = (
        output is not None
        and (output.primary.ohms or (0.0,))[-1] > 20.0
        and all((winding.ohms or (99.0,))[-1] < 5.0 for winding in found.windings if winding is not output.primary)
        and any(any(tap.suits) for tap in output.taps)
    )
    if is_mains == is_output:
        return ""
    return "mains" if is_mains else "output"
