"""The bleeder that leaves no more than a harmless voltage after so many seconds."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from math import inf

from thermionic.amplifier import SolvedAmplifier, compile_design
from thermionic.blocks import Group
from thermionic.blocks.facets import Rectified
from thermionic.blocks.ports import block_at
from thermionic.design import Design, dump, optional_parts, validate
from thermionic.supplies.discharging import discharge
from thermionic.supplies.moments import house_volts
from thermionic.supplies.ratings import resistor_watt
from thermionic.values import Series, nearest

WITHIN = (30.0, 60.0)
_TRIED = 47e3  # Ω, to see which capacitors a bleeder empties
_LEAST, _MOST = 1e3, 2.2e6  # Ω


@dataclass(frozen=True)
class Bleeder:
    """A bleeder of one block for one aim, ``within`` seconds: its path; the largest resistor of the E12 series that
    does it, Ω, with the seconds that it really takes, its heat with cold tubes on the highest mains and the rating to
    buy, W. ``ohm`` is None where no bleeder there can, as something behind it empties too slowly."""

    block: str
    path: str
    within: float
    ohm: float | None
    second: float
    watt: float
    rating_watt: float


def with_bleeder(design: Design, block_id: str, ohm: float, rating_watt: float) -> Design:
    """The design with this bleeder in a block that can have one. Raises DesignRefused."""
    raw = dump(design)
    block = next(block for block in raw["blocks"] if block["id"] == block_id)
    block["bleeder"] = {"ohm": ohm, "rating_watt": rating_watt}
    return validate(raw)


def bleeders(amplifier: SolvedAmplifier) -> tuple[Bleeder, ...]:
    """What would empty each supply in each of the times of ``WITHIN``, at every bleeder that is fitted and where one
    could stand right behind a rectifier. Raises NoSolution."""
    design, compiled = amplifier.design, amplifier.compiled
    behind = {node for use in compiled.said(Rectified) for node in (use.plus, use.minus)}
    first = {rail.block for rail in compiled.rails if compiled.node(rail.node) in behind}
    places = [
        path
        for path, fitted in optional_parts(design).items()
        if can_bleed(design, path) and (fitted or block_at(path) in first)
    ]
    return tuple(one for path in places for one in _sized(amplifier, path))


def can_bleed(design: Design, path: str) -> bool:
    """Whether a bleeder of a supply may stand here."""
    return (
        path.endswith("/bleeder")
        and path in optional_parts(design)
        and design.block(block_at(path)).group is Group.SUPPLY
    )


def _sized(amplifier: SolvedAmplifier, path: str) -> Iterator[Bleeder]:
    block_id = block_at(path)
    state = amplifier.on_mains(house_volts(amplifier.design)[2]).without_tubes
    opened = amplifier.compiled.designators(path) if optional_parts(amplifier.design)[path] else ()

    def seconds(ohm: float) -> dict[str, float]:
        compiled = compile_design(with_bleeder(amplifier.design, block_id, ohm, 1.0))
        return {one.path: inf if one.second is None else one.second for one in discharge(compiled, state)}

    bare = {
        one.path: inf if one.second is None else one.second
        for one in discharge(amplifier.compiled, state, opened=opened)
    }
    tried = seconds(_TRIED)
    emptied = {one for one, second in tried.items() if second < 0.95 * bare.get(one, inf)}
    if not emptied:
        return
    node = amplifier.compiled.node(next(rail.node for rail in amplifier.compiled.rails if rail.block == block_id))
    volt = abs(state.at.voltage(node))
    for within in WITHIN:
        ohm = _TRIED
        for _ in range(3):  # the time goes nearly as the resistor
            slowest = max(second for one, second in seconds(ohm).items() if one in emptied)
            ohm = min(max(ohm * within / slowest, _LEAST), _MOST)
        had = nearest(ohm, Series.E12)
        if had > ohm:
            had = nearest(ohm / 1.1, Series.E12)
        slowest = max(second for one, second in seconds(had).items() if one in emptied)
        heat = volt**2 / had
        if slowest > 1.1 * within:
            yield Bleeder(block_id, path, within, None, slowest, heat, 0.0)
        else:
            yield Bleeder(block_id, path, within, had, slowest, heat, resistor_watt(heat))
