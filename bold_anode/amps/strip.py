"""The signal strip: the amplifier as a row of stations with their solved voltage and level, its rails under it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from math import log10

from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.stations import level, stations
from thermionic.lazily import remembered
from thermionic.performance.levels import source_for
from thermionic.supplies.ripple import written_ripple
from thermionic.values import Quantity, display


@dataclass(frozen=True)
class Station:
    """One block: what it is, its anode voltage if it has one, the signal after it as ``at`` says (rms; of a
    balanced pair between its sides), and whether that changed."""

    block_id: str
    title: str
    detail: str
    volts: str
    level: str
    changed: bool = False

    @property
    def figures(self) -> tuple[str, str]:
        """The solved numbers, which are what can be marked as changed."""
        return self.volts, self.level


@dataclass(frozen=True)
class Rail:
    """One HT rail."""

    name: str
    volts: str
    ripple: str
    changed: bool = False


@dataclass(frozen=True)
class Strip:
    """Everything on the strip. ``at`` says at what drive the levels are, and ``beyond`` what comes next; ``as_set``
    what the source gives with the volume as it is set."""

    stations: tuple[Station, ...]
    rails: tuple[Rail, ...]
    at: str
    beyond: str
    as_set: str


def strip(amplifier: SolvedAmplifier, before: SolvedAmplifier | None = None) -> Strip:
    """The strip of a solved amplifier, marking what differs from ``before``."""
    old_stations = {s.block_id: s for s in _stations(before)} if before else {}
    old_rails = {r.name: r for r in _rails(before)} if before else {}
    blocks = tuple(
        replace(now, changed=(was := old_stations.get(now.block_id)) is not None and was.figures != now.figures)
        for now in _stations(amplifier)
    )
    rails = tuple(
        replace(now, changed=(old := old_rails.get(now.name)) is not None and old.volts != now.volts)
        for now in _rails(amplifier)
    )
    full = amplifier.full_output
    output = amplifier.load.written(amplifier.output(full))
    source, needed = _shown_at(amplifier), amplifier.load.line_volt
    first = amplifier.first_to_zero_bias
    if source < full.source_volt and needed:
        given = display(source, Quantity.VOLTAGE)
        at = f"at {amplifier.load.written(needed)} out, what the next box needs, for {given} in"
        headroom = 20 * log10(full.output_volt / needed)
        beyond = f"Headroom {headroom:.0f} dB: distortion is {full.distortion:.0%} at {output}"
    else:
        at = f"at full output: {output} for {display(full.source_volt, Quantity.VOLTAGE)} in"
        beyond = f"Beyond that {amplifier.design.block(first).label} clips first" if first else ""
    return Strip(blocks, rails, at, beyond, _as_set(amplifier))


def _shown_at(amplifier: SolvedAmplifier) -> float:
    """The source's level, V rms, that the levels are shown at: that for full output, or of a line output for what the
    next box needs, if that is less."""
    full, needed = amplifier.full_output, amplifier.load.line_volt
    if needed is None or needed >= full.output_volt:
        return full.source_volt
    return source_for(amplifier, needed)


def _as_set(amplifier: SolvedAmplifier) -> str:
    """What the source's own level comes to."""
    volt, point = amplifier.compiled.source.volt, amplifier.at_source
    words = f"Volume as set, {display(volt, Quantity.VOLTAGE)} in"
    if point is None or point.source_volt > amplifier.full_output.source_volt:
        return f"{words}: overdriven {volt / amplifier.full_output.source_volt:.2g} times"
    return f"{words}: {amplifier.load.written(amplifier.output(point))}"


@remembered
def _stations(amplifier: SolvedAmplifier) -> tuple[Station, ...]:
    """The blocks on the signal's way, with their levels."""
    compiled, source = amplifier.compiled, _shown_at(amplifier)
    result = []
    for place in stations(amplifier):
        block, uses = amplifier.design.block(place.block), compiled.tubes_of(place.block)
        detail = volts = ""
        if uses:
            detail = ", ".join(dict.fromkeys(use.type.type for use in uses))
            volts = display(amplifier.voltage(uses[0].anode), Quantity.VOLTAGE)
        signal = f"{display(level(amplifier, place, source), Quantity.VOLTAGE)} ~"
        result.append(Station(block.id, block.label, detail, volts, signal))
    return tuple(result)


def _rails(amplifier: SolvedAmplifier) -> Iterator[Rail]:
    for rail in amplifier.compiled.rails:
        yield Rail(
            rail.name.replace("_", " "),
            display(amplifier.voltage(rail.node), Quantity.VOLTAGE),
            written_ripple(amplifier, rail.node),
        )
