"""The inner loops of fields and charges, as machine code."""

from __future__ import annotations

from math import asinh, log, log10, sqrt
from typing import Any, NamedTuple

import numba
import numpy as np

from thermionic.compiled import COMPLEX, REAL, WHOLE, compiled, gives, ready, takes, together

_POINTS = takes(REAL, 2)
_GAUSS = 0.7745966692414834  # the outer points of three, root of 3/5
_FAR = 4.0  # lengths of a piece from which on it is taken to be at its middle: a quarter of a percent


_POINT = numba.types.UniTuple(REAL, 3)  # type: ignore[no-untyped-call]


@ready(REAL(_POINT, _POINT, _POINT, REAL))
def _along(point: Any, start: Any, end: Any, nearest: float) -> float:
    """The integral of 1/distance from a point along a straight piece: ln((a + b + l)/(a + b - l)), with a and b the
    distances to the ends (O. D. Kellogg, Foundations of Potential Theory, 1929, p. 56). What is nearer than
    ``nearest``, m, is taken to be there: wires are as thick as that."""
    p, q, r = point
    x, y, z = start
    u, v, w = end
    square = (u - x) ** 2 + (v - y) ** 2 + (w - z) ** 2
    far = (p - (x + u) / 2) ** 2 + (q - (y + v) / 2) ** 2 + (r - (z + w) / 2) ** 2
    if far > _FAR * _FAR * square:
        return sqrt(square / far)
    length = sqrt(square)
    a = sqrt((p - x) ** 2 + (q - y) ** 2 + (r - z) ** 2)
    b = sqrt((p - u) ** 2 + (q - v) ** 2 + (r - w) ** 2)
    apart = max(a + b - length, sqrt(square + 4.0 * nearest * nearest) - length)
    return log((a + b + length) / apart)


@ready(REAL(REAL, REAL, takes(REAL, 1), REAL))
def _plane(one: float, other: float, walls: np.ndarray, reach: float) -> float:
    """Of two opposite walls the one that is nearer to both places, infinity where it is farther than ``reach`` from
    either."""
    first = abs(one - walls[0]) + abs(other - walls[0])
    last = abs(one - walls[1]) + abs(other - walls[1])
    wall = walls[0] if first <= last else walls[1]
    return wall if min(abs(one - wall), abs(other - wall)) < reach else np.inf


@ready(gives(REAL, 2)(_POINTS, _POINTS, takes(REAL, 1), _POINTS, REAL, REAL))
def potentials(
    start: np.ndarray, end: np.ndarray, radius: np.ndarray, walls: np.ndarray, reach: float, nearest: float
) -> np.ndarray:
    """The potential at the middle of each straight piece of wire by a unit charge along each, with its images in
    planes at no potential, times 4 pi epsilon, 1/m: (pieces, pieces). A piece's own is that on its surface, half way
    along: 2 asinh(l / 2a) / l.

    The planes are z = 0, with nothing between its two sides, and for what is below it those that ``walls`` (2, 2) has
    in x and in y: in each direction the one that is nearer to both pieces, if one of them is not farther from it than
    ``reach``. An image in a corner has the charge's own sign.
    """
    count = len(start)
    found = np.zeros((count, count))
    middle = (start + end) / 2
    for j in range(count):
        length = sqrt(((end[j] - start[j]) ** 2).sum())
        for i in range(count):
            if middle[i, 2] * middle[j, 2] < 0.0:
                continue
            below = middle[i, 2] <= 0.0 and middle[j, 2] <= 0.0
            plane_x = _plane(middle[i, 0], middle[j, 0], walls[0], reach) if below else np.inf
            plane_y = _plane(middle[i, 1], middle[j, 1], walls[1], reach) if below else np.inf
            whole = 0.0
            for a in range(1 if plane_x == np.inf else 2):
                x = start[j, 0] if a == 0 else 2.0 * plane_x - start[j, 0]
                u = end[j, 0] if a == 0 else 2.0 * plane_x - end[j, 0]
                for b in range(1 if plane_y == np.inf else 2):
                    y = start[j, 1] if b == 0 else 2.0 * plane_y - start[j, 1]
                    v = end[j, 1] if b == 0 else 2.0 * plane_y - end[j, 1]
                    for c in range(2):
                        up = 1.0 - 2.0 * c
                        if i == j and a + b + c == 0:
                            whole += 2.0 * asinh(length / (2.0 * radius[j]))
                            continue
                        point = middle[i, 0], middle[i, 1], middle[i, 2]
                        along = _along(point, (x, y, up * start[j, 2]), (u, v, up * end[j, 2]), nearest)
                        whole += along if (a + b + c) % 2 == 0 else -along
            found[i, j] = whole / length
    return found


@ready(COMPLEX(REAL, takes(COMPLEX, 1), REAL, REAL))
def _looked_up(decades: float, table: np.ndarray, first: float, step: float) -> Any:
    """A table over the logarithm of what it is of, straight between its places."""
    place = (decades - first) / step
    if not place > 0.0:
        return table[0]
    if place >= len(table) - 1:
        return table[len(table) - 1]
    low = int(place)
    share = place - low
    return (1.0 - share) * table[low] + share * table[low + 1]


class Victims(NamedTuple):
    """Straight pieces of wires, from ``start`` to ``end`` (pieces, 3), m, and the number of each one's ``wire``."""

    start: Any
    end: Any
    wire: Any


class Sources(NamedTuple):
    """Straight pieces that carry a current, from ``start`` to ``end`` (pieces, 3), m, each in a ``group``.

    Where ``aside`` (pieces, 3) is not nothing a piece is two, there and back, moved to either side by it; with a
    ``pitch`` (pieces,), m, their field is what a twisted pair leaves of it.
    """

    start: Any
    end: Any
    aside: Any
    pitch: Any
    group: Any


class Tables(NamedTuple):
    """Tables over the decimal logarithm from ``first`` by ``step``, complex: of eddy currents, of flux gathered, of
    what twist leaves, which is at least ``floor``; see fields."""

    eddy: Any
    gathered: Any
    twist: Any
    first: float
    step: float
    floor: float


class Plate(NamedTuple):
    """The sheet beneath: ``wavenumbers`` (frequencies,) of its eddy currents, 1/m, and the ``reach``, m, of the flux
    that it gathers."""

    wavenumbers: Any
    reach: float


@compiled
def _coupled(victim: Any, source: Any, other_end: Any, sign: float, points: int, nearest: float) -> Any:
    """The mean of 1/distance along a victim's piece to a source and to its mirror image, 1 or 3 points of it taken
    (Gauss-Legendre). ``victim`` is the middle and the vector of its piece."""
    mx, my, mz, dx, dy, dz = victim
    straight, mirrored = 0.0, 0.0
    image, image_end = (source[0], source[1], -source[2]), (other_end[0], other_end[1], -other_end[2])
    for k in range(points):
        share = 0.0 if points == 1 else _GAUSS * (k - 1) / 2
        weight = 1.0 if points == 1 else (4.0 / 9.0 if k == 1 else 2.5 / 9.0)
        point = mx + share * dx, my + share * dy, mz + share * dz
        straight += weight * _along(point, source, other_end, nearest)
        mirrored += weight * _along(point, image, image_end, nearest)
    return sign * straight, sign * mirrored


@ready(
    gives(COMPLEX, 3)(
        together(Victims, gives(REAL, 2), gives(REAL, 2), gives(WHOLE, 1)), WHOLE,
        together(Sources, gives(REAL, 2), gives(REAL, 2), gives(REAL, 2), gives(REAL, 1), gives(WHOLE, 1)), WHOLE,
        together(Plate, gives(REAL, 1), REAL),
        together(Tables, gives(COMPLEX, 1), gives(COMPLEX, 1), gives(COMPLEX, 1), REAL, REAL, REAL), REAL,
    )
)  # fmt: skip
def linkages(
    victims: Any, wires: int, sources: Any, groups: int, plate: Any, tables: Any, nearest: float
) -> np.ndarray:
    """Neumann's integral between pieces of wires and pieces of sources, added up by wire and by group of sources,
    Wb/A without mu0/4pi: (frequencies, groups, wires). All is on the same side of the sheet."""
    linked = np.zeros((len(plate.wavenumbers), groups, wires), dtype=np.complex128)
    reach, first, step = plate.reach, tables.first, tables.step
    turning, gathering = np.log10(plate.wavenumbers), log10(reach) if reach > 0.0 else 0.0
    for i in range(len(victims.start)):
        start, end = victims.start[i], victims.end[i]
        dx, dy, dz = end[0] - start[0], end[1] - start[1], end[2] - start[2]
        mx, my, mz = (end[0] + start[0]) / 2, (end[1] + start[1]) / 2, (end[2] + start[2]) / 2
        own = sqrt(dx * dx + dy * dy + dz * dz)
        for j in range(len(sources.start)):
            from_, to, aside, pitch = sources.start[j], sources.end[j], sources.aside[j], sources.pitch[j]
            sx, sy, sz = to[0] - from_[0], to[1] - from_[1], to[2] - from_[2]
            length = sqrt(sx * sx + sy * sy + sz * sz)
            level, upright = (dx * sx + dy * sy) / length, dz * sz / length
            if abs(level) + abs(upright) < 1e-4 * own:
                continue
            tx, ty, tz = (to[0] + from_[0]) / 2, (to[1] + from_[1]) / 2, (to[2] + from_[2]) / 2
            near = sqrt((mx - tx) ** 2 + (my - ty) ** 2 + (mz - tz) ** 2)
            paired = aside[0] != 0.0 or aside[1] != 0.0 or aside[2] != 0.0
            points = 3 if near < 3.0 * max(own, length) else 1
            share = 1.0
            if pitch > 0.0:
                share = max(_looked_up(log10(near / pitch), tables.twist, first, step).real, tables.floor)
            for side in range(2 if paired else 1):
                sign = 1.0 - 2.0 * side if paired else 1.0
                ax, ay, az = sign * aside[0], sign * aside[1], sign * aside[2]
                straight, mirrored = _coupled(
                    (mx, my, mz, dx, dy, dz), (from_[0] + ax, from_[1] + ay, from_[2] + az),
                    (to[0] + ax, to[1] + ay, to[2] + az), sign * share, points, nearest,
                )  # fmt: skip
                straight, mirrored = straight * (level + upright), mirrored * (level - upright)
                decades = log10(sqrt((mx - tx - ax) ** 2 + (my - ty - ay) ** 2 + (mz + tz + az) ** 2))
                pulled = 0.0
                if reach > 0.0:
                    pulled = 1.0 - _looked_up(decades - gathering, tables.gathered, first, step).real
                for f in range(len(plate.wavenumbers)):
                    image = pulled - _looked_up(decades + turning[f], tables.eddy, first, step)
                    linked[f, sources.group[j], victims.wire[i]] += straight + image * mirrored
    return linked
