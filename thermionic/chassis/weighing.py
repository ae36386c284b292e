"""What a layout weighs, where it balances, and how it stands when it is turned over on the bench."""

from __future__ import annotations

from dataclasses import dataclass

import shapely

from thermionic.chassis.body import Body
from thermionic.chassis.catalogue import material
from thermionic.chassis.geometry import in_room
from thermionic.chassis.laid import Laid
from thermionic.chassis.solids import outline

LIFTED = 12.0  # kg, from which on handles are wanted: a rule of thumb
_LEVEL = 0.004  # m, by which tops differ that the box still stands on together


@dataclass(frozen=True)
class Weight:
    """Mass, kg, of all and of the box alone; where it balances, m from the left and from the front; the bodies that
    it stands on when it is turned over, and whether it stands on them by itself."""

    kg: float
    box_kg: float
    balance: tuple[float, float]
    stands_on: tuple[Body, ...]
    steady: bool

    @property
    def wants_handles(self) -> bool:
        """Whether it is heavy enough for handles."""
        return self.kg > LIFTED


def weight(laid: Laid) -> Weight:
    """The weight of a layout."""
    box, layout = laid.layout.box, laid.layout
    area = box.width * box.depth * (2 if box.bottom else 1) + 2 * (box.width + box.depth) * box.height
    box_kg = area * box.sheet * material(box.material)["density"]
    total, x, y = box_kg, box_kg * box.width / 2, box_kg * box.depth / 2
    tops: list[tuple[float, Body, shapely.Polygon]] = []
    for body in laid.bodies:
        placed = layout.of(body.key)
        if placed is None:
            continue
        at = in_room(box, placed, (0.0, 0.0, 0.0))
        total += body.sizes.kg
        x += body.sizes.kg * float(at[0])
        y += body.sizes.kg * float(at[1])
        if placed.face == "top" and not placed.inside:
            half = body.sizes.across / 2, body.sizes.along / 2
            patch = shapely.box(at[0] - half[0], at[1] - half[1], at[0] + half[0], at[1] + half[1])
            tops.append((body.sizes.above + placed.raised, body, patch))
    balance = x / total, y / total
    highest = max((top for top, _, _ in tops), default=0.0)
    touching = [(body, patch) for top, body, patch in tops if highest - top < _LEVEL]
    hull = shapely.unary_union([patch for _, patch in touching]).convex_hull if touching else shapely.Polygon()
    solid = all(body.nature.iron for body, _ in touching)
    return Weight(total, box_kg, balance, tuple(body for body, _ in touching),
                  bool(touching) and solid and hull.contains(shapely.Point(balance)))  # fmt: skip


def symmetry(laid: Laid) -> float:
    """How alike left and right look from above, 0 to 1: the share of what stands on the top that its mirror image
    covers."""
    shapes = []
    for body in laid.bodies:
        placed = laid.layout.of(body.key)
        if placed is not None and placed.face == "top" and not placed.inside and body.sizes.above > 0.015:
            shapes.append(outline(body, placed))
    if not shapes:
        return 1.0
    whole = shapely.unary_union(shapes)
    mirror = shapely.affinity.affine_transform(whole, [-1, 0, 0, 1, laid.layout.box.width, 0])
    return float(whole.intersection(mirror).area / whole.area)
