"""Where a face is in the room, and what is on it.

The room's x runs to the right along the front, y to the rear, z up from the outside of the top sheet; the box is
below. Each face has its own u and v as it is seen from outside, and n out of it.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from math import cos, radians, sin

import numpy as np

from thermionic.chassis.document import Box, Face, Placed
from thermionic.devices.base import Array


@dataclass(frozen=True, eq=False)
class Frame:
    """A face: its corner, its directions u, v, n (unit vectors), and how far it goes in u and v, m."""

    corner: Array
    u: Array
    v: Array
    n: Array
    width: float
    height: float

    def point(self, u: float, v: float, out: float = 0.0) -> Array:
        """A point of the room, ``out`` above the face's outside."""
        result: Array = self.corner + u * self.u + v * self.v + out * self.n
        return result


def frame(box: Box, face: Face) -> Frame:
    """One face of a box."""
    return _frame(box.width, box.depth, box.height, face)


@lru_cache(maxsize=128)
def _frame(w: float, d: float, h: float, face: Face) -> Frame:
    def made(corner: tuple[float, ...], u: tuple[int, ...], v: tuple[int, ...], n: tuple[int, ...],
             width: float, height: float) -> Frame:  # fmt: skip
        at, across, up, out = (np.array(one, dtype=float) for one in (corner, u, v, n))
        return Frame(at, across, up, out, width, height)

    frames = {
        "top": lambda: made((0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1), w, d),
        "front": lambda: made((0, 0, -h), (1, 0, 0), (0, 0, 1), (0, -1, 0), w, h),
        "rear": lambda: made((w, d, -h), (-1, 0, 0), (0, 0, 1), (0, 1, 0), w, h),
        "left": lambda: made((0, d, -h), (0, -1, 0), (0, 0, 1), (-1, 0, 0), d, h),
        "right": lambda: made((w, 0, -h), (0, 1, 0), (0, 0, 1), (1, 0, 0), d, h),
        "bottom": lambda: made((w, 0, -h), (-1, 0, 0), (0, 1, 0), (0, 0, -1), w, d),
    }
    return frames[face]()


def turned(u: float, v: float, degrees: float) -> tuple[float, float]:
    """A place turned anticlockwise about the origin."""
    if not degrees:
        return u, v
    c, s = cos(radians(degrees)), sin(radians(degrees))
    return c * u - s * v, s * u + c * v


def in_room(box: Box, placed: Placed, at: tuple[float, float, float]) -> Array:
    """A point of a body, across and along from its middle and above the sheet, in the room. What is fixed from within
    has its own up towards the inside."""
    u, v = turned(at[0], at[1], placed.turn)
    up = at[2] + placed.raised
    return frame(box, placed.face).point(placed.u + u, placed.v + v, -box.sheet - up if placed.inside else up)


def direction(box: Box, placed: Placed, along: tuple[float, float, float]) -> Array:
    """A direction of a body in the room, a unit vector."""
    face = frame(box, placed.face)
    u, v = turned(along[0], along[1], placed.turn)
    result: Array = u * face.u + v * face.v + (-along[2] if placed.inside else along[2]) * face.n
    return result / np.linalg.norm(result)
