"""The mains too high or too low for a transformer: its taps and other ways, each solved."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.blocks.facets import Core, MainsSide
from thermionic.design import Design, dump, find, optional_parts, validate
from thermionic.errors import BudgetSpent, ThermionicError
from thermionic.supplies.heating import heating
from thermionic.supplies.moments import house_volts
from thermionic.supplies.ratings import resistor_watt
from thermionic.values import Quantity, Series, display, nearest

# Windings that are had for it, V: two usual heater windings and one for lamps.
_BUCKING = (6.3, 12.6, 24.0)


@dataclass(frozen=True)
class Way:
    """One way to meet the mains: its key, what is done in words, whether it is as it is now; every rail's voltage at
    the usual mains, V; the heater furthest off, as a share of its volts at the usual and at the highest mains (None
    where no supply of the design feeds one); and the heat that it makes in itself, W."""

    key: str
    words: str
    now: bool
    rails: dict[str, float]
    heater: float | None
    heater_high: float | None
    watt: float
    refusal: str = ""


def _ways(amplifier: SolvedAmplifier) -> Iterator[tuple[str, str, Design]]:
    design = amplifier.design
    for core in amplifier.compiled.said(Core):
        path = f"blocks/{core.block}"
        for tap in core.taps_volt:
            yield f"{path}/tap_volt={tap:g}", f"The tap for {tap:g} V", _with(design, {f"{path}/tap_volt": tap})
        over = design.brief.mains_volt - core.tap_volt
        if over <= 0.02 * core.tap_volt:
            continue
        for volt in _BUCKING:
            if volt <= 1.5 * over:
                words = f"A winding of {volt:g} V in series against the mains"
                yield f"{path}/bucking_volt={volt:g}", words, _with(design, {f"{path}/bucking_volt": volt})
        ampere = amplifier.rms_ampere(core.part)
        for side in amplifier.compiled.said(MainsSide):
            series = f"blocks/{side.block}/series"
            if ampere > 0 and series in optional_parts(design) and find(design, series).value is None:
                ohm = nearest(over / ampere, Series.E12)
                part = {"ohm": ohm, "rating_watt": resistor_watt(ampere**2 * ohm)}
                words = f"A resistor of {display(ohm, Quantity.RESISTANCE)} in series with the mains"
                yield f"{series}={ohm:g}", words, _with(design, {series: part})


def _with(design: Design, values: dict[str, object]) -> Design:
    raw = dump(design)
    for path, value in values.items():
        _, block_id, name = path.split("/")
        next(block for block in raw["blocks"] if block["id"] == block_id)[name] = value
    return validate(raw)


def ways(amplifier: SolvedAmplifier) -> tuple[Way, ...]:
    """Every tap of the mains transformers, and where the mains is above the tap in use what else would take it down,
    each solved on the usual and the highest mains. Raises BudgetSpent."""
    result = []
    _, _, high = house_volts(amplifier.design)
    for key, words, design in _ways(amplifier):
        now = dump(design) == dump(amplifier.design)
        try:
            after = amplifier if now else solve(design, amplifier)
            at_high = after.on_mains(high)
        except BudgetSpent:
            raise
        except ThermionicError as refusal:
            result.append(Way(key, words, now, {}, None, None, 0.0, str(refusal)))
            continue
        rails = {rail.name: after.voltage(rail.node) for rail in after.compiled.rails}
        own = 0.0
        if key.rpartition("=")[0].endswith("/series"):
            own = after.part(key.rpartition("=")[0]).dissipation
        result.append(Way(key, words, now, rails, _furthest(after), _furthest(at_high), own))
    return tuple(result)


def chosen(amplifier: SolvedAmplifier, key: str) -> tuple[Design, str]:
    """The design with a way taken, and what was done in words. Raises KeyError."""
    for one, words, design in _ways(amplifier):
        if one == key:
            return design, words
    raise KeyError(key)


def _furthest(amplifier: SolvedAmplifier) -> float | None:
    shares = [one.share for string in heating(amplifier.compiled, amplifier.state) for one in string.heated]
    return max(shares, key=lambda share: abs(share - 1), default=None)
