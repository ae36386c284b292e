"""The inner loops of fields and charges, as machine code."""

from __future__ import annotations

from math import log, sqrt

import numpy as np

from thermionic.compiled import REAL, gives, ready, takes

_POINTS = takes(REAL, 2)


@ready(gives(REAL, 2)(_POINTS, _POINTS, _POINTS, REAL))
def inverse_distance(points: np.ndarray, start: np.ndarray, end: np.ndarray, nearest: float) -> np.ndarray:
    """The integral of 1/distance along straight pieces, (points, pieces): ln((a + b + l)/(a + b - l)), with a and b the
    distances to the ends (O. D. Kellogg, Foundations of Potential Theory, 1929, p. 56). What is nearer than
    ``nearest``, m, is taken to be there: wires are as thick as that."""
    found = np.empty((len(points), len(start)))
    for j in range(len(start)):
        x, y, z = start[j, 0], start[j, 1], start[j, 2]
        u, v, w = end[j, 0], end[j, 1], end[j, 2]
        length = sqrt((u - x) ** 2 + (v - y) ** 2 + (w - z) ** 2)
        least = sqrt(length * length + 4.0 * nearest * nearest) - length
        for i in range(len(points)):
            p, q, r = points[i, 0], points[i, 1], points[i, 2]
            a = sqrt((p - x) ** 2 + (q - y) ** 2 + (r - z) ** 2)
            b = sqrt((p - u) ** 2 + (q - v) ** 2 + (r - w) ** 2)
            apart = max(a + b - length, least)
            found[i, j] = log((a + b + length) / apart)
    return found


@ready(gives(REAL, 2)(_POINTS, _POINTS))
def distances(points: np.ndarray, others: np.ndarray) -> np.ndarray:
    """How far each of some points is from each of others, m."""
    found = np.empty((len(points), len(others)))
    for i in range(len(points)):
        for j in range(len(others)):
            found[i, j] = sqrt(
                (points[i, 0] - others[j, 0]) ** 2 + (points[i, 1] - others[j, 1]) ** 2
                + (points[i, 2] - others[j, 2]) ** 2
            )  # fmt: skip
    return found
