"""The inner loops of fields and charges, as machine code."""

from __future__ import annotations

from math import asinh, log, log10, sqrt
from typing import Any

import numpy as np

from thermionic.compiled import COMPLEX, REAL, WHOLE, gives, ready, takes

_POINTS = takes(REAL, 2)


_FAR = 4.0  # lengths of a piece from which on it is taken to be at its middle: a quarter of a percent


@ready(REAL(REAL, REAL, REAL, REAL, REAL, REAL, REAL, REAL, REAL, REAL))
def _along(
    p: float, q: float, r: float, x: float, y: float, z: float, u: float, v: float, w: float, nearest: float
) -> float:
    """The integral of 1/distance from a point (p, q, r) along a straight piece: ln((a + b + l)/(a + b - l)), with a
    and b the distances to the ends (O. D. Kellogg, Foundations of Potential Theory, 1929, p. 56). What is nearer than
    ``nearest``, m, is taken to be there: wires are as thick as that."""
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
                        along = _along(
                            middle[i, 0], middle[i, 1], middle[i, 2], x, y, up * start[j, 2], u, v, up * end[j, 2],
                            nearest,
                        )  # fmt: skip
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


@ready(
    gives(COMPLEX, 3)(
        _POINTS, _POINTS, takes(WHOLE, 1), WHOLE, _POINTS, _POINTS, _POINTS, takes(REAL, 1), takes(WHOLE, 1), WHOLE,
        takes(REAL, 1), REAL, takes(COMPLEX, 1), takes(COMPLEX, 1), takes(COMPLEX, 1), REAL, REAL, REAL, REAL,
    )
)  # fmt: skip
def linkages(
    start: np.ndarray, end: np.ndarray, wire: np.ndarray, wires: int,
    from_: np.ndarray, to: np.ndarray, aside: np.ndarray, pitch: np.ndarray, group: np.ndarray, groups: int,
    wavenumbers: np.ndarray, reach: float, eddy: np.ndarray, gathered: np.ndarray, twist: np.ndarray,
    first: float, step: float, nearest: float, floor: float,
) -> np.ndarray:  # fmt: skip
    """Neumann's integral between pieces of wires and pieces of sources, added up by wire and by group of sources,
    Wb/A without mu0/4pi: (frequencies, groups, wires).

    A source is a filament, or where ``aside`` (pieces, 3) is not nothing two, there and back, moved to either side by
    it; with a ``pitch``, m, their field is what a twisted pair leaves of it by the table ``twist``, at least
    ``floor``. ``wavenumbers`` (frequencies,) and ``reach`` are the sheet's; ``eddy`` and ``gathered`` its tables over
    the logarithm from ``first`` by ``step`` (see ``fields``). All is on the same side of the sheet.
    """
    found = np.zeros((len(wavenumbers), groups, wires), dtype=np.complex128)
    turning, gathering = np.log10(wavenumbers), log10(reach) if reach > 0.0 else 0.0
    for i in range(len(start)):
        dx, dy, dz = end[i, 0] - start[i, 0], end[i, 1] - start[i, 1], end[i, 2] - start[i, 2]
        mx, my, mz = (end[i, 0] + start[i, 0]) / 2, (end[i, 1] + start[i, 1]) / 2, (end[i, 2] + start[i, 2]) / 2
        own = sqrt(dx * dx + dy * dy + dz * dz)
        for j in range(len(from_)):
            sx, sy, sz = to[j, 0] - from_[j, 0], to[j, 1] - from_[j, 1], to[j, 2] - from_[j, 2]
            length = sqrt(sx * sx + sy * sy + sz * sz)
            level, upright = (dx * sx + dy * sy) / length, dz * sz / length
            if abs(level) + abs(upright) < 1e-4 * own:
                continue
            tx, ty, tz = (to[j, 0] + from_[j, 0]) / 2, (to[j, 1] + from_[j, 1]) / 2, (to[j, 2] + from_[j, 2]) / 2
            near = sqrt((mx - tx) ** 2 + (my - ty) ** 2 + (mz - tz) ** 2)
            paired = aside[j, 0] != 0.0 or aside[j, 1] != 0.0 or aside[j, 2] != 0.0
            points = 3 if near < 3.0 * max(own, length) else 1
            left = 1.0
            if pitch[j] > 0.0:
                left = max(_looked_up(log10(near / pitch[j]), twist, first, step).real, floor)
            for side in range(2 if paired else 1):
                sign = 1.0 - 2.0 * side if paired else 1.0
                ax, ay, az = sign * aside[j, 0], sign * aside[j, 1], sign * aside[j, 2]
                x, y, z = from_[j, 0] + ax, from_[j, 1] + ay, from_[j, 2] + az
                u, v, w = to[j, 0] + ax, to[j, 1] + ay, to[j, 2] + az
                straight, mirrored = 0.0, 0.0
                for k in range(points):
                    share = 0.0 if points == 1 else 0.7745966692414834 * (k - 1) / 2
                    weight = 1.0 if points == 1 else (4.0 / 9.0 if k == 1 else 2.5 / 9.0)
                    p, q, r = mx + share * dx, my + share * dy, mz + share * dz
                    straight += weight * _along(p, q, r, x, y, z, u, v, w, nearest)
                    mirrored += weight * _along(p, q, r, x, y, -z, u, v, -w, nearest)
                straight *= sign * left * (level + upright)
                mirrored *= sign * left * (level - upright)
                far = sqrt((mx - tx - ax) ** 2 + (my - ty - ay) ** 2 + (mz + tz + az) ** 2)
                decades = log10(far)
                pulled = 1.0 - _looked_up(decades - gathering, gathered, first, step).real if reach > 0.0 else 0.0
                for f in range(len(wavenumbers)):
                    image = pulled - _looked_up(decades + turning[f], eddy, first, step)
                    found[f, group[j], wire[i]] += straight + image * mirrored
    return found
