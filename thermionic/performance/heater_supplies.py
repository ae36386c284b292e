"""Heater windings for the tubes that no supply of a design feeds, with a mains transformer to wind them on."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field
from typing import Any

from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.blocks.facets import Core, HeaterUse, Rail, TubeUse, Winding
from thermionic.design import Design, changed, dump, find, validate
from thermionic.errors import DesignRefused
from thermionic.findings.mains_side import FUSES
from thermionic.performance.comparing import wall_watt
from thermionic.performance.schools.working import Raw, block_in, free_name
from thermionic.supplies.heating import heating
from thermionic.supplies.ratings import resistor_watt
from thermionic.tubes.library import Heater
from thermionic.values import Series, nearest, step

# Rules of thumb for what is wound.
_COPPER = 0.04  # of a winding's volts that its copper takes at its current
_PRIMARY = 0.015  # the same of the primary's
_ROOM = 1.15  # what windings and transformer are made for, over what they carry
_FUSE = 1.6  # a fuse's rating over the current through it
_PEAKY = 1.4  # volt-amperes of what is rectified, over its watts
_NEAR = 0.8  # of a tube's limit from heater to cathode, that its cathode may stand at with its heater at earth
_DIVIDER = 0.4e-3  # A through the divider that lifts a heater


@dataclass(frozen=True)
class _Group:
    """Heaters that can share a winding: the volts that each takes, the channel's or all, how they are held, and how
    far they are lifted, V."""

    volt: float
    scope: str
    held: str
    lift: float = 0.0
    of: str = ""  # the place of a filament, or a rectifier, which has a winding of its own


@dataclass
class _Sort:
    """The envelopes of a design, sorted into groups."""

    amplifier: SolvedAmplifier
    groups: dict[_Group, list[str]] = field(default_factory=lambda: defaultdict(list))

    def add(self, envelope: str) -> None:
        type_ = self.amplifier.design.tube_of(envelope)
        heater = _heater(type_)
        if heater is None:
            return
        uses = [use for use in self.amplifier.compiled.tubes if use.envelope == envelope]
        if any(use.envelope == envelope for use in self.amplifier.compiled.rectifier_tubes):
            group = _Group(heater.volts, "shared", "none", of=envelope)
        elif heater.filament and uses:
            use = uses[0]
            scope = self.amplifier.design.block(use.block).scope
            group = _Group(heater.volts, scope, "balance pot", of=f"{use.block} {use.side}")
        else:
            group = _Group(heater.volts, "shared", "centre tap", self._lift(uses))
        self.groups[group].append(envelope)

    def _lift(self, uses: list[TubeUse]) -> float:
        """How far the heater of a bottle with these sections is lifted, V, in steps of 10: not, where the cathodes
        stand well within their limit of it; else between the lowest and the highest that it may be."""
        cathodes = [(self.amplifier.voltage(use.cathode), use.limits.heater_cathode_v) for use in uses]
        if all(abs(volt) <= _NEAR * limit for volt, limit in cathodes):
            return 0.0
        least = max(volt - _NEAR * limit for volt, limit in cathodes)
        most = min(volt + _NEAR * limit for volt, limit in cathodes)
        return round((least + min(most, max(volt for volt, _ in cathodes))) / 20.0) * 10.0


def _heater(type_: Any) -> Heater | None:
    """The heater of a type as it is fed here: halves side by side where it has a centre tap."""
    heater: Heater | None = type_.heater
    if heater is None or "heater centre tap" not in type_.pins.values():
        return heater
    return heater.both_ways()[1]


def unfed(amplifier: SolvedAmplifier) -> tuple[str, ...]:
    """The envelopes with a heater that no supply of the design feeds."""
    fed = {use.envelope for use in amplifier.compiled.said(HeaterUse)}
    design = amplifier.design
    return tuple(
        envelope.id for envelope in design.envelopes if envelope.id not in fed and design.tube_of(envelope.id).heater
    )


def with_heater_supplies(amplifier: SolvedAmplifier) -> Design:
    """The design with a winding for every heater that nothing feeds, each at its volts, on the mains transformer; a
    design without one gets a mains inlet and a transformer, with its other windings on that.

    Indirectly heated tubes of one voltage share a winding; one whose cathode stands too far from earth is on another,
    lifted from the highest rail. A filament has one at each place where it is the cathode, a rectifier its own.
    Windings are sized by rules of thumb, then set by solving so that each heater has its volts. Raises DesignRefused
    where every heater is fed, NoSolution.
    """
    missing = unfed(amplifier)
    if not missing:
        raise DesignRefused(f"Every heater of {amplifier.design.name} is fed already.")
    sort = _Sort(amplifier)
    for envelope in missing:
        sort.add(envelope)
    raw = dump(amplifier.design)
    core = next((core.block for core in amplifier.compiled.said(Core)), None) or _mains_side(amplifier, raw)
    strings = [_string(amplifier, raw, core, group, envelopes) for group, envelopes in sort.groups.items()]
    return _set(validate(raw), strings, amplifier)


def _names(raw: Raw) -> set[str]:
    return {block["id"] for block in raw["blocks"]}


def _mains_side(amplifier: SolvedAmplifier, raw: Raw) -> str:
    """Put in an inlet with its fuse and a transformer that all windings are on. Returns the transformer's block."""
    windings = amplifier.compiled.said(Winding)
    rated = windings[0].primary_volt if windings else amplifier.design.mains[0]
    watt = wall_watt(amplifier)  # the heaters that nothing feeds yet are in it
    rating = step(_ROOM * _PEAKY * watt, Series.E12, 1)
    primary_ohm = _PRIMARY * rated**2 / rating
    for winding in windings:  # what the windings' resistances have of the primary's copper already
        primary_ohm = min(primary_ohm, 0.5 * winding.ohm / (winding.volt / amplifier.design.mains[0]) ** 2)
    inlet, transformer = free_name("mains", _names(raw)), free_name("mains_transformer", _names(raw))
    for winding in windings:
        own, ratio = block_in(raw, winding.block), winding.volt / amplifier.design.mains[0]
        own |= {"transformer": f"{transformer}.out",
                "winding_ohm": float(f"{own['winding_ohm'] - primary_ohm * ratio**2:.3g}")}  # fmt: skip
    raw["blocks"] += [
        {"id": inlet, "kind": "mains-inlet", "scope": "shared",
         "fuse": {"ampere": _fuse(_FUSE * _PEAKY * watt / rated), "speed": "time-lag"}},
        {"id": transformer, "kind": "mains-transformer", "scope": "shared", "mains": f"{inlet}.out",
         "taps_volt": [rated], "tap_volt": rated, "primary_ohm": float(f"{primary_ohm:.3g}"), "rating_va": rating},
    ]  # fmt: skip
    return transformer


def _fuse(ampere: float) -> float:
    return next((fuse for fuse in FUSES if fuse >= ampere), FUSES[-1])


def _string(amplifier: SolvedAmplifier, raw: Raw, core: str, group: _Group, envelopes: list[str]) -> str:
    """Put in a winding and its string. Returns the string's block."""
    design = amplifier.design
    each = [_heater(design.tube_of(envelope)) for envelope in envelopes]
    copies = design.channels if group.scope == "shared" else 1
    ampere = sum(
        heater.amperes * (1 if design.serves_all(envelope) else copies)
        for heater, envelope in zip(each, envelopes, strict=True) if heater
    )  # fmt: skip
    what = "filament" if group.held == "balance pot" else "heater"
    what = f"{group.of}_heater" if group.held == "none" else f"lifted_{what}" if group.lift else what
    winding, string = free_name(f"{what}_winding", _names(raw)), free_name(f"{what}s", _names(raw))
    raw["blocks"].append(
        {"id": winding, "kind": "winding", "scope": group.scope, "transformer": f"{core}.out",
         "winding_volt": float(f"{(1 + _COPPER) * group.volt:.3g}"),
         "winding_ohm": float(f"{_COPPER * group.volt / ampere:.2g}"),
         "rating_ampere": step(_ROOM * ampere, Series.E12, 1)}
    )  # fmt: skip
    block: Raw = {
        "id": string, "kind": "heater-string", "scope": group.scope, "input": f"{winding}.out",
        "tubes": ", ".join(envelopes), "halves": "parallel", "reference": group.held,
    }  # fmt: skip
    if group.held == "balance pot":
        block["balance_ohm"] = 50.0
    if group.lift:
        block |= _lifted(amplifier, group.lift)
    raw["blocks"].append(block)
    return string


def _lifted(amplifier: SolvedAmplifier, lift: float) -> Raw:
    """The divider that lifts a string so far, from the highest rail that all channels share. Raises DesignRefused."""
    shared = {block.id for block in amplifier.design.blocks if block.scope == "shared"}
    rails = [rail for rail in amplifier.compiled.rails if rail.block in shared and not rail.bias]
    rail: Rail | None = max(rails, key=lambda rail: amplifier.voltage(rail.node), default=None)
    if rail is None or amplifier.voltage(rail.node) < 1.2 * lift:
        raise DesignRefused(f"No shared rail is high enough to lift a heater by {lift:.0f} V.")
    top = amplifier.voltage(rail.node)
    lower = nearest(lift / _DIVIDER, Series.E12)
    upper = nearest(lower * (top - lift) / lift, Series.E12)
    return {
        "elevation": f"{rail.block}.{rail.port}",
        "upper": {"ohm": upper, "rating_watt": resistor_watt((top - lift) ** 2 / upper)},
        "lower": {"ohm": lower, "rating_watt": resistor_watt(lift**2 / lower)},
        "bypass": {"farad": 22e-6, "rating_volt": _rating(2.0 * lift)},
    }


def _rating(volt: float) -> float:
    return next((one for one in (63.0, 100.0, 160.0, 250.0, 400.0) if one >= volt), 630.0)


def _set(design: Design, strings: list[str], near: SolvedAmplifier) -> Design:
    """The design with the windings of these strings set so that their heaters have the volts that they are made
    for."""
    solved = solve(design, near)
    for state in heating(solved.compiled, solved.state):
        if state.feed.block in strings and state.heated:
            mean = sum(one.share for one in state.heated) / len(state.heated)
            path = f"blocks/{state.feed.winding}/winding_volt"
            design = changed(design, path, float(f"{find(design, path).value / mean:.3g}"))
    return design
