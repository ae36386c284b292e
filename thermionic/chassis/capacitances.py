"""Capacitances between wires over a chassis sheet.

Each straight piece of a wire has its charge spread along it; the potential of every piece is the integral of every
charge and of its image in the sheet, and the matrix of that turned over gives the charges (R. F. Harrington, Field
Computation by Moment Methods, 1968, ch. 2). The sheet and the walls are at earth's potential, as are shields;
the bottom, farther from wires than the sheet, is left out.
"""

from __future__ import annotations

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


def capacitances(pieces: Pieces, radius: Array, wires: int, walls: Array = OPEN) -> Array:
    """Maxwell's capacitance matrix of wires over the sheet z = 0, F, (wires, wires): charge on the row for 1 V on the
    column, all else at earth. ``radius`` (pieces,), m, is each piece's own, ``walls`` the other planes (see
    ``kernels.potentials``). Wires on opposite sides of the sheet do not see each other; insulation and what is not a
    wire are left out."""
    each = potentials(pieces.start, pieces.end, np.asarray(radius, dtype=float), walls, _REACH, NEAREST)
    which = np.zeros((len(pieces.wire), wires))
    which[np.arange(len(pieces.wire)), pieces.wire] = 1.0
    found: Array = which.T @ np.linalg.solve(each, which) * (4 * np.pi * EPSILON0)
    return (found + found.T) / 2
