"""The sheet as a conductor: what lies between bolts on it, solved on a mesh."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.linalg import splu

from thermionic.devices.base import Array


def conductances(
    width: float,
    depth: float,
    sheet_ohm: float,
    bolts: Sequence[tuple[float, float]],
    radius: float = 0.004,
    cells: int = 60,
) -> Array:
    """The network between bolts on a rectangular sheet, S, (bolts, bolts): Laplace's equation on a square mesh with
    the part under each bolt at one voltage, reduced to the bolts. ``sheet_ohm`` is the sheet's resistance a square,
    1/(conductivity x thickness); bolts are (x, y), m, from a corner."""
    step = max(width, depth) / cells
    columns, rows = max(2, round(width / step)), max(2, round(depth / step))
    dx, dy = width / columns, depth / rows
    numbers = np.arange(columns * rows).reshape(rows, columns)
    x = (np.arange(columns) + 0.5) * dx
    y = (np.arange(rows) + 0.5) * dy
    # Cells under a bolt are its own node: those within its radius, or the one that it is in.
    owner = numbers.copy().ravel()
    count = columns * rows
    for number, (u, v) in enumerate(bolts):
        near = ((x[None] - u) ** 2 + (y[:, None] - v) ** 2).ravel() <= radius**2
        column = int(np.clip(u / dx, 0, columns - 1))
        row = int(np.clip(v / dy, 0, rows - 1))
        near[row * columns + column] = True
        owner[near] = count + number
    across = np.stack([numbers[:, :-1].ravel(), numbers[:, 1:].ravel()]), dy / dx / sheet_ohm
    along = np.stack([numbers[:-1].ravel(), numbers[1:].ravel()]), dx / dy / sheet_ohm
    size = count + len(bolts)
    i = np.concatenate([owner[across[0][0]], owner[along[0][0]]])
    j = np.concatenate([owner[across[0][1]], owner[along[0][1]]])
    g = np.concatenate([np.full(across[0].shape[1], across[1]), np.full(along[0].shape[1], along[1])])
    keep = i != j
    i, j, g = i[keep], j[keep], g[keep]
    whole = coo_array(
        (np.concatenate([g, g, -g, -g]), (np.concatenate([i, j, i, j]), np.concatenate([i, j, j, i]))), (size, size)
    ).tocsc()
    inner = np.unique(owner[owner < count])
    outer = np.arange(count, size)
    if len(inner) == 0:
        return np.asarray(whole[outer][:, outer].todense())
    solved = splu(whole[inner][:, inner].tocsc()).solve(np.asarray(whole[inner][:, outer].todense()))
    found: Array = np.asarray(whole[outer][:, outer].todense()) - whole[outer][:, inner] @ solved
    return (found + found.T) / 2
