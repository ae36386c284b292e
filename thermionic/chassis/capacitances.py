"""Capacitances between wires over a chassis sheet.

Each straight piece of a wire has its charge spread along it; the potential of every piece is the integral of every
charge and of its image in the sheet, and the matrix of that turned over gives the charges (R. F. Harrington, Field
Computation by Moment Methods, 1968, ch. 2). The sheet and the walls are at earth's potential, as are shields;
the bottom, farther from wires than the sheet, is left out.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.chassis.document import Box
from thermionic.chassis.fields import NEAREST, Pieces
from thermionic.chassis.kernels import potentials
from thermionic.devices.base import Array

EPSILON0 = 8.8541878e-12


_REACH = 0.05  # m, from which on a wall is too far to matter beside the sheet
OPEN = np.full((2, 2), np.inf)


def walls(box: Box) -> Array:
    """The planes of a box's walls, in x and in y, m, (2, 2)."""
    half = box.sheet / 2
    return np.array([[half, box.width - half], [half, box.depth - half]])


@dataclass(frozen=True, eq=False)
class Twist:
    """Which pieces are legs of twisted pairs: ``mate`` (pieces,) the number of the other leg's piece, its own where
    there is none; ``share`` (pieces,) of the legs' difference that the twist leaves, 1 where there is none."""

    mate: np.ndarray
    share: Array

    def blended(self, each: Array) -> Array:
        """Potential coefficients (pieces, pieces) with both legs of a pair as near to everything else as the twist
        brings them in the mean; what a pair's legs are to each other stays."""
        own, other = (1.0 + self.share) / 2, (1.0 - self.share) / 2
        result: Array = own[:, None] * each + other[:, None] * each[self.mate]
        result = own * result + other * result[:, self.mate]
        rows = np.arange(len(self.mate))
        for columns in (rows, self.mate):
            result[rows, columns] = each[rows, columns]
        return result


def left_by_twist(length: Array, pitch: Array) -> Array:
    """The share of two legs' difference that is left over a length of a pair twisted with ``pitch`` (0: untwisted),
    both m: a leg's place goes as the cosine of its turn, whose mean over l is at most pitch / (pi l)."""
    result: Array = np.where(pitch > 0, np.minimum(1.0, pitch / (np.pi * np.maximum(length, 1e-9))), 1.0)
    return result


def capacitances(pieces: Pieces, radius: Array, wires: int, walls: Array = OPEN, twist: Twist | None = None) -> Array:
    """Maxwell's capacitance matrix of wires over the sheet z = 0, F, (wires, wires): charge on the row for 1 V on the
    column, all else at earth.

    ``radius`` (pieces,), m, is each piece's own, ``walls`` the other planes (see ``kernels.potentials``), ``twist``
    which pieces are twisted. Wires on opposite sides of the sheet do not see each other; insulation and what is not a
    wire are left out.
    """
    each = potentials(pieces.start, pieces.end, np.asarray(radius, dtype=float), walls, _REACH, NEAREST)
    if twist is not None:
        each = twist.blended(each)
    which = np.zeros((len(pieces.wire), wires))
    which[np.arange(len(pieces.wire)), pieces.wire] = 1.0
    result: Array = which.T @ np.linalg.solve(each, which) * (4 * np.pi * EPSILON0)
    return (result + result.T) / 2
