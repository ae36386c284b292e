"""The room that placed bodies take: prisms on their faces, and whether two of them meet."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from math import sqrt

import numpy as np
import shapely
from shapely import Polygon, affinity

from thermionic.chassis.body import Body
from thermionic.chassis.document import Box, Face, Placed
from thermionic.chassis.geometry import frame
from thermionic.devices.base import Array


@dataclass(frozen=True, eq=False)
class Solid:
    """A prism: its outline on a face, (u, v), m, between two heights along the face's outward normal, m (below
    nothing: within). ``clear`` grows it for fingers or air."""

    body: Body
    face: Face
    outline: Polygon
    low: float
    high: float

    def box(self, of: Box) -> tuple[Array, Array]:
        """Its corners in the room, the least and the greatest of each coordinate."""
        face = frame(of, self.face)
        u0, v0, u1, v1 = self.outline.bounds
        one, other = face.point(u0, v0, self.low), face.point(u1, v1, self.high)
        return np.minimum(one, other), np.maximum(one, other)


def outline(body: Body, placed: Placed, grown: float = 0.0) -> Polygon:
    """Where a body covers its face, grown all round by so much, m."""
    return _outline(body.sizes.across, body.sizes.along, body.sizes.round, placed.u, placed.v, placed.turn, grown)


def circle(u: float, v: float, diameter: float) -> Polygon:
    """A round hole, or a tool, on a face."""
    return _outline(diameter, diameter, True, u, v, 0.0, 0.0)


@lru_cache(maxsize=8192)
def _outline(width: float, depth: float, round_: bool, u: float, v: float, turn: float, grown: float) -> Polygon:
    across, along = width / 2 + grown, depth / 2 + grown
    if round_ and abs(across - along) < 1e-6:
        shape = shapely.Point(0, 0).buffer(across, quad_segs=6)
    else:
        shape = shapely.box(-across, -along, across, along)
    if turn:
        shape = affinity.rotate(shape, turn, origin=(0, 0))
    result: Polygon = affinity.translate(shape, u, v)
    return result


def solids(body: Body, placed: Placed, box: Box) -> list[Solid]:
    """What a placed body takes up, above its sheet and below it."""
    shape = outline(body, placed)
    up, down, raised = body.sizes.above, body.sizes.below, placed.raised
    if placed.inside:
        return [Solid(body, placed.face, shape, -box.sheet - up - raised, -box.sheet)]
    result = []
    if up + raised > 0:
        result.append(Solid(body, placed.face, shape, max(raised, 0.0), up + raised))
    if box.sheet + down - raised > box.sheet:
        result.append(Solid(body, placed.face, shape, -box.sheet - down + min(raised, 0.0), -box.sheet))
    return result


def meet(one: Solid, other: Solid, box: Box) -> float:
    """How deep two solids are in each other, m (an area's root on one face); 0 where they do not meet."""
    if one.face == other.face:
        if min(one.high, other.high) - max(one.low, other.low) <= 1e-6:
            return 0.0
        if not one.outline.intersects(other.outline):
            return 0.0
        return sqrt(one.outline.intersection(other.outline).area)
    low, high = one.box(box)
    low2, high2 = other.box(box)
    over = np.minimum(high, high2) - np.maximum(low, low2)
    least = float(np.min(over))
    return least if least > 1e-6 else 0.0
