"""Whether everything fits: bodies, lips, walls, bolts and the fingers and tools that must get at them, in three
dimensions."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import shapely

from thermionic.chassis.body import Body
from thermionic.chassis.document import Layout, Placed
from thermionic.chassis.geometry import frame, turned
from thermionic.chassis.solids import Solid, circle, meet, outline, solids

TOUCH = 5e-4  # m: less than this is touching
# Rules of thumb: fingers round a tube that is pulled, a cutter's wall to the next hole.
FINGERS, BRIDGE = 0.008, 0.004
# The socket wrench for a nut on a screw of at most so much, and how far it stands off the sheet, m. Across the flats
# ISO 4032 has 5.5, 7, 8 and 13 mm; a socket's wall is some 2 mm.
_SOCKETS = ((0.0036, 0.0095), (0.0046, 0.011), (0.0056, 0.012), (0.0090, 0.0175))
_WRENCH = 0.012


@dataclass(frozen=True)
class Misfit:
    """Something that does not fit: the bodies that it is about, what is wrong in a sentence, by how much, m, and
    whether it cannot be built (else it is only awkward)."""

    bodies: tuple[str, ...]
    words: str
    by: float
    impossible: bool = True


def misfits(bodies: Sequence[Body], layout: Layout) -> tuple[Misfit, ...]:
    """Everything of a layout that does not fit, the worst first."""
    by_key = {body.key: body for body in bodies}
    here = [(by_key[placed_body.body], placed_body) for placed_body in layout.placed if placed_body.body in by_key]
    result: list[Misfit] = []
    for body, placed in here:
        result += _on_its_face(body, placed, layout)
    taken = [(body, solid) for body, placed in here for solid in solids(body, placed, layout.box)]
    result += _meeting(taken, layout)
    result += _holes(here, layout)
    result += _reaching(here)
    result += _wrenches(here, taken, layout)
    return tuple(sorted(result, key=lambda one: (not one.impossible, -one.by)))


def _mm(metres: float) -> str:
    return f"{metres * 1e3:.0f} mm"


def _on_its_face(body: Body, placed: Placed, layout: Layout) -> list[Misfit]:
    box = layout.box
    face = frame(box, placed.face)
    shape = outline(body, placed)
    u0, v0, u1, v1 = shape.bounds
    over = max(-u0, -v0, u1 - face.width, v1 - face.height)
    result = []
    if over > TOUCH and not (placed.face == "top" and not placed.inside and body.sizes.below < 0.001):
        result.append(
            Misfit((body.key,), f"{body.title} stands {_mm(over)} over the edge of the {placed.face}.", over)
        )
    for opening in body.sizes.openings:
        u, v = turned(*opening.at, placed.turn)
        half = max(opening.diameter or 0.0, opening.width or 0.0, opening.height or 0.0) / 2
        u, v = placed.u + u, placed.v + v
        beyond = max(half - u, half - v, u + half - face.width, v + half - face.height)
        if beyond > TOUCH:
            words = f"A hole of {body.title} is {_mm(beyond)} over the edge of the {placed.face}."
            result.append(Misfit((body.key,), words, beyond))
            break
    if placed.face in ("top", "bottom"):
        deep = (body.sizes.above if placed.inside else body.sizes.below) - placed.raised
        left = box.height - 2 * box.sheet if box.bottom else box.height
        if deep > left + TOUCH:
            result.append(Misfit((body.key,),
                f"{body.title} is {_mm(deep)} deep, and the box has {_mm(left)} inside.",
                                deep - left))  # fmt: skip
        if box.lid and not placed.inside and placed.face == "top" and body.sizes.above + placed.raised > box.lid:
            high = body.sizes.above + placed.raised - box.lid
            result.append(Misfit((body.key,), f"{body.title} is {_mm(high)} too high for the lid.", high))
        if (
            box.lip
            and placed.face == "top"
            and deep > box.height - 2 * box.sheet - 0.001
            and _near_wall(shape, layout)
        ):
            result.append(Misfit((body.key,), f"{body.title} meets the lip.", box.lip, False))
    return result


def _near_wall(shape: shapely.Polygon, layout: Layout) -> bool:
    u0, v0, u1, v1 = shape.bounds
    box = layout.box
    return min(u0, v0, box.width - u1, box.depth - v1) < box.lip


def _meeting(taken: Sequence[tuple[Body, Solid]], layout: Layout) -> list[Misfit]:
    result: dict[tuple[str, str], Misfit] = {}
    if not taken:
        return []
    corners = np.array([solid.box(layout.box) for _, solid in taken])
    low, high = corners[:, 0], corners[:, 1]
    near = ((high[:, None] - low[None] > TOUCH) & (high[None] - low[:, None] > TOUCH)).all(axis=2)
    for i, j in np.argwhere(np.tril(near, -1)):
        (one, solid), (other, second) = taken[i], taken[j]
        deep = meet(solid, second, layout.box) if one is not other else 0.0
        key = (one.key, other.key)
        if deep > TOUCH and (key not in result or result[key].by < deep):
            result[key] = Misfit(key, f"{other.title} and {one.title} are in the same place, by {_mm(deep)}.", deep)
    return list(result.values())


def _holes(here: Sequence[tuple[Body, Placed]], layout: Layout) -> list[Misfit]:
    """Holes that run into each other, those of a reused box too, or over an edge."""
    holes: list[tuple[Body, str, shapely.Polygon]] = []
    for body, placed in here:
        for opening in body.sizes.openings:
            u, v = turned(*opening.at, placed.turn)
            if opening.diameter:
                shape = circle(placed.u + u, placed.v + v, opening.diameter)
            else:
                half = (opening.width or 0.0) / 2, (opening.height or 0.0) / 2
                shape = shapely.box(-half[0], -half[1], half[0], half[1])
                shape = shapely.affinity.translate(
                    shapely.affinity.rotate(shape, placed.turn, origin=(0, 0)), placed.u + u, placed.v + v
                )
            holes.append((body, placed.face, shape))
    result: dict[tuple[str, str], Misfit] = {}
    if not holes:
        return []
    for old in layout.holes:
        if old.diameter:
            there = circle(old.u, old.v, old.diameter)
        else:
            wide, high = (old.width or 0.0) / 2, (old.height or 0.0) / 2
            there = shapely.box(old.u - wide, old.v - high, old.u + wide, old.v + high)
        for body, face, shape in holes:
            apart = float(shape.distance(there)) if face == old.face else BRIDGE
            # What is put into a hole that is there uses it.
            if apart < BRIDGE and float(shape.centroid.distance(there.centroid)) > TOUCH:
                words = f"A hole of {body.title} and a hole that is there leave {_mm(apart)} of sheet between them."
                result[(body.key, str(old))] = Misfit((body.key,), words, BRIDGE - apart, apart <= 0)
    shapes = np.array([shape for _, _, shape in holes])
    near = shapely.STRtree(shapes).query(shapes, predicate="dwithin", distance=BRIDGE)
    for i, j in near.T[near[1] < near[0]]:
        (one, face, shape), (other, second_face, second) = holes[int(i)], holes[int(j)]
        if face != second_face or one is other:
            continue
        apart = float(shape.distance(second))
        if apart < BRIDGE:
            words = f"Holes of {other.title} and {one.title} leave {_mm(apart)} of sheet between them."
            result[(one.key, other.key)] = Misfit((one.key, other.key), words, BRIDGE - apart, apart <= 0)
    return list(result.values())


def _reaching(here: Sequence[tuple[Body, Placed]]) -> list[Misfit]:
    """Tubes without room for the fingers that pull them."""
    result = []
    standing = [(body, placed, outline(body, placed)) for body, placed in here if placed.face == "top"
                and not placed.inside and body.sizes.above > 0.02]  # fmt: skip
    for body, _placed, shape in standing:
        if not body.nature.glass:
            continue
        near = [(other, float(shape.distance(second))) for other, there, second in standing if other is not body]
        tight = [(other, gap) for other, gap in near if gap < FINGERS]
        if len(tight) >= 2:
            gap = min(gap for _, gap in tight)
            words = f"{body.title} is hard to pull: {_mm(gap)} to {tight[0][0].title} and {tight[1][0].title}."
            result.append(Misfit((body.key,), words, FINGERS - gap, False))
    return result


def _wrenches(
    here: Sequence[tuple[Body, Placed]], taken: Sequence[tuple[Body, Solid]], layout: Layout
) -> list[Misfit]:
    """Screws whose nut, inside the box, a socket wrench does not come to for another body."""
    tools: list[tuple[Body, Solid]] = []
    for body, placed in here:
        for opening in body.sizes.openings:
            size = next((socket for most, socket in _SOCKETS if (opening.diameter or 1.0) <= most), None)
            if size is None or not opening.tool.startswith("drill"):
                continue
            u, v = turned(*opening.at, placed.turn)
            sheet, round_ = layout.box.sheet, circle(placed.u + u, placed.v + v, size)
            tools.append((body, Solid(body, placed.face, round_, -sheet - _WRENCH, -sheet)))
    if not tools or not taken:
        return []
    low, high = (np.array(list(ends)) for ends in zip(*(solid.box(layout.box) for _, solid in taken), strict=True))
    result: dict[tuple[str, str], Misfit] = {}
    for body, tool in tools:
        least, most = tool.box(layout.box)
        for place in np.flatnonzero(((high - least > TOUCH) & (most - low > TOUCH)).all(axis=1)):
            other, solid = taken[int(place)]
            deep = meet(tool, solid, layout.box) if other is not body else 0.0
            key = (body.key, other.key)
            if deep > TOUCH and (key not in result or result[key].by < deep):
                words = f"A wrench does not come to a nut of {body.title} for {other.title}: {_mm(deep)} are missing."
                result[key] = Misfit(key, words, deep, False)
    return list(result.values())
