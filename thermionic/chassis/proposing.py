"""A layout proposed from the design: the best of the schools, and from there by trying.

What is sought is little hum, short wires to grids and no collision, by the figures that the room shows; what is
pinned stays. Each try moves, turns or exchanges bodies and is kept where the whole is better.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.chassis.arranging import SCHOOLS, arranged
from thermionic.chassis.bodies import bodies
from thermionic.chassis.body import Body
from thermionic.chassis.document import Layout, LayoutRefused, Placed
from thermionic.chassis.editing import placed_at, shielded
from thermionic.chassis.fitting_in import misfits
from thermionic.chassis.laid import Laid, lay
from thermionic.chassis.stability import NEAR_DB, fed_back

SECONDS = 15.0
# What a metre of wire to a grid, a metre of any wire, and a body in another's place cost, in dB of hum.
_GRID, _WIRE, _CLASH = 12.0, 1.5, 40.0
_HOWL = 30.0  # and an output that may oscillate with its input, before what it is too near by
_SHIELD = 0.3  # and a shielded wire
_HOPELESS = 12.0  # more of a clash than before that no hum will outweigh
# Below this the layout's own hum is drowned by what the circuit has anyway: less is worth nothing more, in dB.
_DROWNED = 10.0


@dataclass(frozen=True)
class Proposed:
    """A proposed layout, what it comes to, the school that it began from, how many were tried."""

    layout: Layout
    laid: Laid
    school: str
    tried: int


def cost(laid: Laid, clashes: float | None = None) -> float:
    """What is sought to be least, in dB; ``clashes`` what it has of that by what does not fit, where that is known
    already."""
    hum = laid.hum
    rest = max(sum(c.volt**2 for c in hum.causes if c.way in ("supply", "leakage")) ** 0.5, 1e-9)
    floor = hum.below(rest) + _DROWNED
    own = min(hum.below(max(hum.laid_volt, 1e-9)), floor + 0.05 * (hum.below(max(hum.laid_volt, 1e-9)) - floor))
    wires = sum(wire.length for wire in laid.wiring.wires)
    grids = longest_grid(laid)
    if clashes is None:
        clashes = _clashing(laid.bodies, laid.layout)
    shields = sum(wire.shielded for wire in laid.wiring.wires)
    return -own + _GRID * grids + _WIRE * wires + _SHIELD * shields + clashes


def _clashing(bodies: Sequence[Body], layout: Layout) -> float:
    return sum(_CLASH * (misfit.impossible or 0.1) + 200 * misfit.by for misfit in misfits(bodies, layout))


def _howling(laid: Laid) -> float:
    """What it costs that an output comes back to its input, for every dB that it is too near."""
    return sum(_HOWL + one.gain_db - NEAR_DB for one in fed_back(laid) if one.too_near)


def _calmed(laid: Laid) -> Laid:
    """With the wires shielded into which an output comes back."""
    into = {one.into for one in fed_back(laid) if one.too_near}
    layout = laid.layout
    for wire in laid.wiring.wires:
        if wire.net.name in into and wire.kind == "signal" and not wire.shielded:
            layout = shielded(layout, wire.key, True)[0]
    return lay(laid.amplifier, layout) if layout is not laid.layout else laid


def longest_grid(laid: Laid) -> float:
    """The length of the longest wire that ends at a grid or its stopper, m."""
    return max((wire.length for wire in laid.wiring.wires if any(end.pin.grid for end in wire.ends)), default=0.0)


def proposed(
    amplifier: SolvedAmplifier, layout: Layout, report: Callable[[float, str], None] = lambda part, said: None,
    seconds: float = SECONDS, seed: int = 1,
) -> Proposed:  # fmt: skip
    """The best layout that was found in so many seconds. Raises NoSolution."""
    begun, rng = time.monotonic(), np.random.default_rng(seed)
    result = bodies(amplifier, layout)
    starts = []
    for number, school in enumerate(SCHOOLS):
        report(0.02 + 0.05 * number, f"Beginning from {school}")
        laid = _calmed(lay(amplifier, arranged(result, amplifier.design, layout, school)))
        starts.append((cost(laid) + _howling(laid), school, laid))
    least, school, best = min(starts, key=lambda start: start[0])
    tried, first, clashes = len(starts), least, _clashing(best.bodies, best.layout)
    movable = [body for body in result if not ((old := layout.of(body.key)) and old.pinned)]
    while movable and (spent := time.monotonic() - begun) < seconds:
        share = spent / seconds
        if tried % 4 == 0:
            report(0.2 + 0.8 * share, f"{tried} tried; {first - least:.0f} dB better than where it began")
        try:
            moved = _moved(best, movable, rng, 1.0 - share)
        except LayoutRefused:
            continue
        # Most moves run into something: that is seen before anything is wired.
        there = _clashing(bodies(amplifier, moved), moved)
        tried += 1
        if there > clashes + _HOPELESS:
            continue
        trial = lay(amplifier, moved)
        now = cost(trial, there)
        if now < least and (now := now + _howling(trial)) < least:
            least, best, clashes = now, trial, there
    return Proposed(best.layout, best, school, tried)


def _moved(laid: Laid, movable: Sequence[Body], rng: np.random.Generator, warmth: float) -> Layout:
    """The layout with a body or two moved, turned or exchanged, the less the cooler."""
    layout = laid.layout
    body = movable[int(rng.integers(len(movable)))]
    placed = layout.of(body.key)
    assert placed is not None
    kind = rng.random()
    if kind < 0.15 and (body.nature.iron or body.nature.glass):
        return placed_at(layout, body, turn=(placed.turn + 90) % 360)[0]
    if kind < 0.35:
        alike = [other for other in movable if other.home == body.home and other.inside == body.inside
                 and other is not body]  # fmt: skip
        if alike:
            other = alike[int(rng.integers(len(alike)))]
            there = layout.of(other.key)
            assert there is not None
            return _exchanged(layout, placed, there)
    reach = 0.004 + 0.08 * warmth
    du, dv = rng.normal(0, reach, 2)
    v = placed.v + (dv if placed.face in ("top", "bottom") else 0.0)
    return placed_at(layout, body, u=_round(placed.u + du), v=_round(v))[0]


def _round(metres: float) -> float:
    return round(float(metres) * 1e3) / 1e3


def _exchanged(layout: Layout, one: Placed, other: Placed) -> Layout:
    return layout.with_placed(
        one.model_copy(update={"u": other.u, "v": other.v}), other.model_copy(update={"u": one.u, "v": one.v})
    )
