"""The sheet as a conductor: what lies between bolts on it, solved on a mesh."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.linalg import splu

from thermionic.devices.base import Array

# exp(-Euler's constant)/sqrt(8): from the resistance between distant nodes of an endless square lattice,
# (ln n + 0.5772 + ln(8)/2)/pi (D. Atkinson and F. J. van Steenwijk, American Journal of Physics 67 (1999), p. 486).
_CELL = 0.1985


@lru_cache(maxsize=64)
def conductances(
    width: float, depth: float, sheet_ohm: float, bolts: tuple[tuple[float, float], ...], radius: float = 0.004,
    cells: int = 60,
) -> Array:  # fmt: skip
    """The network between bolts on a rectangular sheet, S, (bolts, bolts): Laplace's equation on a mesh, reduced to
    the bolts. ``sheet_ohm`` is the sheet's resistance a square, 1/(conductivity x thickness); bolts are (x, y), m,
    from a corner, no two in one cell.

    A bolt is a cell, which stands for a round electrode of a fifth of its side (``_CELL``); between that and the
    bolt's own ``radius`` there is the logarithm (D. W. Peaceman, Interpretation of well-block pressures, Society of
    Petroleum Engineers Journal 18 (1978), p. 183: the same equation).
    """
    step = max(width, depth) / cells
    columns, rows = max(2, round(width / step)), max(2, round(depth / step))
    dx, dy = width / columns, depth / rows
    numbers = np.arange(columns * rows).reshape(rows, columns)
    i = np.concatenate([numbers[:, :-1].ravel(), numbers[:-1].ravel()])
    j = np.concatenate([numbers[:, 1:].ravel(), numbers[1:].ravel()])
    across, along = rows * (columns - 1), (rows - 1) * columns
    g = np.concatenate([np.full(across, dy / dx), np.full(along, dx / dy)])
    size = columns * rows
    places = [
        int(numbers[min(int(max(v, 0.0) / dy), rows - 1), min(int(max(u, 0.0) / dx), columns - 1)]) for u, v in bolts
    ]
    # One cell holds the reference: the first bolt's.
    whole = coo_array((np.concatenate([g, g, -g, -g]), (np.concatenate([i, j, i, j]), np.concatenate([i, j, j, i]))),
                      (size, size)).tocsc()  # fmt: skip
    others = np.delete(np.arange(size), places[0])
    push = np.zeros((size, len(places)))
    push[places, np.arange(len(places))] = 1.0
    ohm = np.zeros((size, len(places)))
    ohm[others] = splu(whole[others][:, others].tocsc()).solve(push[others])
    between = ohm[places] + np.eye(len(places)) * np.log(_CELL * np.sqrt(dx * dy) / radius) / (2 * np.pi)
    # From resistances to the reference to the network: the sum of the currents into the bolts is nothing.
    turned = np.linalg.pinv(_centred(between))
    result: Array = (turned + turned.T) / 2 / sheet_ohm
    return result


def _centred(ohm: Array) -> Array:
    """Resistances between bolts with what all have in common taken out."""
    count = len(ohm)
    middle = np.eye(count) - np.full((count, count), 1 / count)
    centred: Array = middle @ ohm @ middle
    return centred
