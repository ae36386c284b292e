"""How warm a layout gets: inside the box, at each capacitor, between tubes, and what vents it wants.

Estimates by natural convection and radiation, unsure by half of each rise; a thermometer on the finished amplifier is
better. What a tube turns to heat it radiates and gives to the air around, some of it to the box through its socket.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.fields import SmoothingCapacitor
from thermionic.chassis import catalogue
from thermionic.chassis.body import Body
from thermionic.chassis.document import Layout
from thermionic.chassis.geometry import in_room
from thermionic.chassis.laid import Laid
from thermionic.chassis.solids import outline
from thermionic.design import find
from thermionic.devices.base import Array
from thermionic.supplies.ratings import lasting_hours

ROOM = 25.0  # °C
STRIP_KELVIN = 12.0  # K/W of the resistors on a strip together: as usual, unsure by half
# W/m²K of a warm box and of a capacitor in still air, radiation and convection together (H. Y. Wong, Handbook of
# Essential Formulae and Data on Heat Transfer for Engineers, 1977: about 5 and 5 at these temperatures).
BOX_FILM, CAN_FILM = 8.0, 11.0
# The rule of thumb for hot tubes: so many of their own diameters from glass to glass.
GAP = 1.5
HOT = 8.0  # W, of a tube that the rule is for
MOST_RISE = 15.0  # K inside the box, that vents are reckoned for
_AIR = 1.2 * 1005.0  # J/m³K
_DISCHARGE = 0.6  # of a hole in a sheet


@dataclass(frozen=True)
class WarmBody:
    """A body with its surroundings, °C, and of a capacitor the hours that it lasts there (None where its ratings are
    not known)."""

    body: Body
    celsius: float
    hours: float | None


@dataclass(frozen=True)
class TightGap:
    """Two hot tubes nearer to each other than the rule has it: the gap between their glass, m, and what it should
    be."""

    one: Body
    other: Body
    gap: float
    wanted: float


@dataclass(frozen=True)
class Warmth:
    """The heat of a layout: all of it, W, and what of it stays in the box; the air inside, °C, with the vents there
    are; the vents that would keep it to ``MOST_RISE``, m², each of inlet and outlet; capacitors, the warmest first;
    gaps that are too small."""

    watt: float
    inside_watt: float
    inside_celsius: float
    vents: float
    wanted_vents: float
    capacitors: tuple[WarmBody, ...]
    others: tuple[WarmBody, ...]
    gaps: tuple[TightGap, ...]


def warmth(laid: Laid) -> Warmth:
    """The heat of a layout."""
    layout = laid.layout
    here = [body for body in laid.bodies if layout.of(body.key) is not None]
    inside = sum(body.watt * _into_box(body, layout) for body in here)
    vents = sum(
        np.pi * (opening.diameter or 0.0) ** 2 / 4 for body in here if body.nature.vent
        for opening in body.sizes.openings
    ) / 2  # fmt: skip
    air = ROOM + _rise(inside, layout, vents)
    cooled = _cooled(here, layout)
    places = {body.key: _middle(body, layout) for body in here}
    capacitors, others = [], []
    for body in here:
        if body.nature.can:
            celsius = _at(body, here, places, air, layout)
            capacitors.append(WarmBody(body, celsius, _hours(laid.amplifier, body, celsius)))
        elif body.nature.warm and body.watt > 0.2:
            sinks = [1.0 / _kelvin(one) for one in cooled.get(body.key, ())]
            kelvin = _kelvin(body) if body.nature.sink else 1.0 / (1.0 / STRIP_KELVIN + sum(sinks))
            others.append(WarmBody(body, air + body.watt * kelvin, None))
    capacitors.sort(key=lambda capacitor: -capacitor.celsius)
    others.sort(key=lambda other: -other.celsius)
    return Warmth(
        sum(body.watt for body in here), inside, air, float(vents), wanted_vents(inside, layout), tuple(capacitors),
        tuple(others), tuple(_gaps(here, layout)),
    )  # fmt: skip


def _kelvin(sink: Body) -> float:
    """A heat-sink's resistance by the volume of its fins, K/W."""
    size = sink.sizes
    high = size.above + size.below - (catalogue.SEAT if sink.pins else 0.0)
    return catalogue.SINK / max(size.across * size.along * high, 1e-6)


def _cooled(here: list[Body], layout: Layout) -> dict[str, list[Body]]:
    """The heat-sinks that were put in, by the warm strip whose hottest resistor each is for: the nearest."""
    strips = [body for body in here if body.nature.warm and not body.nature.sink and body.watt > 0.2]
    result: dict[str, list[Body]] = defaultdict(list)
    for body in here:
        if body.nature.sink and not body.pins and strips:
            at = _middle(body, layout)
            near = min(strips, key=lambda strip: float(np.linalg.norm(_middle(strip, layout) - at)))
            result[near.key].append(body)
    return result


def _into_box(body: Body, layout: Layout) -> float:
    placed = layout.of(body.key)
    if placed is not None and (placed.inside or placed.face != "top"):
        return 1.0
    return body.nature.into_box


def _surface(layout: Layout) -> float:
    box = layout.box
    walls = 2 * (box.width + box.depth) * box.height
    return walls + box.width * box.depth * (1.3 if box.bottom else 0.8)


def _rise(watt: float, layout: Layout, vents: float) -> float:
    """The air inside over the room, K: through the walls, and by the draught of vents low and high,
    V = c A sqrt(2 g h dT/T) (the stack effect; any text on ventilation)."""
    walls = BOX_FILM / 2 * _surface(layout)  # through two films in series
    rise = watt / walls
    for _ in range(60):
        flow = _DISCHARGE * vents * np.sqrt(2 * 9.81 * layout.box.height / 2 * max(rise, 0.01) / (273 + ROOM)) / 1.41
        rise = 0.5 * rise + 0.5 * watt / (walls + _AIR * flow)
    return float(rise)


def wanted_vents(watt: float, layout: Layout) -> float:
    """The area of holes below and again above that keeps the air inside to ``MOST_RISE`` over the room, m²."""
    left = watt - BOX_FILM / 2 * _surface(layout) * MOST_RISE
    if left <= 0:
        return 0.0
    speed = np.sqrt(2 * 9.81 * layout.box.height / 2 * MOST_RISE / (273 + ROOM))
    return float(left / (_AIR * MOST_RISE * _DISCHARGE * speed / 1.41))


def _middle(body: Body, layout: Layout) -> Array:
    placed = layout.of(body.key)
    assert placed is not None
    return in_room(layout.box, placed, (0.0, 0.0, body.sizes.above / 2))


def _at(body: Body, here: list[Body], places: dict[str, Array], air: float, layout: Layout) -> float:
    """A capacitor's surroundings: the room above the sheet or the air below it, and what hot bodies radiate at it."""
    placed = layout.of(body.key)
    assert placed is not None
    above = placed.face == "top" and not placed.inside
    result = ROOM + 0.3 * (air - ROOM) if above else air
    for other in here:
        there = layout.of(other.key)
        if other is body or other.watt < 1.0 or there is None:
            continue
        if (there.face == "top" and not there.inside) != above:
            continue
        apart = max(float(np.linalg.norm(places[body.key] - places[other.key])), other.sizes.across / 2 + 0.005)
        # Absorbed on its breadth, given off all round: the flux over pi times its film.
        result += other.nature.radiated * other.watt / (4 * np.pi * apart**2) / (np.pi * CAN_FILM)
    return float(result)


def _hours(amplifier: SolvedAmplifier, body: Body, celsius: float) -> float | None:
    part = find(amplifier.design, body.path).value
    mains = amplifier.state.mains
    if not isinstance(part, SmoothingCapacitor) or mains is None:
        return None
    placed = amplifier.netlist[body.part]
    ends = [mains.x[mains.system.node(amplifier.compiled.node(node))] if node != "0" else 0 * mains.x[0]
            for node in placed.nodes]  # fmt: skip
    omega = 2 * np.pi * mains.hertz * np.arange(mains.x.shape[-1])
    ripple = float(np.sqrt(np.sum(np.abs(omega * part.farad * (ends[0] - ends[1])) ** 2) / 2))
    return lasting_hours(part, ripple, celsius)


def _gaps(here: list[Body], layout: Layout) -> list[TightGap]:
    hot = [body for body in here if body.nature.glass and body.watt > HOT]
    tight_gaps = []
    for number, one in enumerate(hot):
        for other in hot[:number]:
            first, second = layout.of(one.key), layout.of(other.key)
            assert first is not None
            assert second is not None
            gap = float(outline(one, first).distance(outline(other, second)))
            wanted = GAP * max(one.sizes.across, other.sizes.across)
            if gap < wanted:
                tight_gaps.append(TightGap(other, one, gap, wanted))
    return sorted(tight_gaps, key=lambda one: one.gap - one.wanted)
