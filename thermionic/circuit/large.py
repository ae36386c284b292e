"""Newton's matrix of a large circuit, which is mostly nothing."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from scipy.sparse import csc_array

from thermionic.devices.base import Array

if TYPE_CHECKING:
    from thermionic.circuit.system import System


class LargePattern:
    """Where Newton's matrix of a large system has anything, found once, and the matrix for any slopes."""

    def __init__(self, system: System) -> None:
        self.made_for = system.G
        rows, columns = np.nonzero(system.G != 0)  # of truths, which is sooner
        self.fixed = system.G[rows, columns]
        self.pairs = np.nonzero(system.coupled != 0)
        at, signs = [(rows, columns)], []
        for here, there in (
            (system.drives[self.pairs[0]], system.senses[self.pairs[1]]),
            (system.senses, system.senses),
        ):
            inside = []
            for row, plus in enumerate((1.0, -1.0)):
                for column, sign in enumerate((plus, -plus)):
                    kept = np.flatnonzero((here[:, row] >= 0) & (there[:, column] >= 0))
                    at.append((here[kept, row], there[kept, column]))
                    inside.append((kept, sign))
            signs.append(inside)
        self.slopes, self.acrosses = signs
        keys = np.concatenate([column * system.size + row for row, column in at])
        places, self.to = np.unique(keys, return_inverse=True)
        self.indices = places % system.size
        self.starts = np.searchsorted(places // system.size, np.arange(system.size + 1))
        self.shape = (system.size, system.size)

    def matrix(self, g: Array, across: float) -> csc_array:
        """G + B g S^T, with ``across`` siemens over every port."""
        slopes = g[self.pairs]
        values = [self.fixed, *(sign * slopes[kept] for kept, sign in self.slopes)]
        values += [np.full(len(kept), sign * across) for kept, sign in self.acrosses]
        data = np.bincount(self.to, np.concatenate(values), len(self.indices))
        return csc_array((data, self.indices, self.starts), shape=self.shape)
