"""Many systems of one sparsity solved together: a frequency sweep, or an array of variants of one circuit.

A circuit's matrix is mostly zeros, and all the matrices of a sweep have them in the same places. The order of
elimination is worked out once for the pattern (H. M. Markowitz, "The elimination form of the inverse and its
application to linear programming", Management Science 3 (1957), p. 255, among pivots that are large enough in every
sample), and each step is then one array operation over all matrices at once. Pivots are not chosen anew for each
matrix, so every solution is checked by putting it back, and what fails is solved by the dense method.
"""

from __future__ import annotations

import itertools
from collections import OrderedDict
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_matrix

from thermionic.devices.base import Array

_THRESHOLD = 1e-2  # a pivot is at least this part of the largest in its column, in every sample
_GOOD = 1e-10  # the residual of a solution over what its row could add up to
_CHUNK = 256  # matrices at a time at most, so that what is worked on stays in the processor's cache
_KEPT = 64
Numbers = NDArray[Any]


@dataclass(frozen=True)
class _Step:
    pivot: int
    row: int
    column: int
    rows: NDArray[np.int_]  # rows that still hold the column
    below: NDArray[np.int_]  # their entries in it
    right: NDArray[np.int_]  # the pivot row's other entries
    columns: NDArray[np.int_]  # and their columns
    targets: NDArray[np.int_]  # (rows, columns) entries that they change


class Pattern:
    """Where the entries of a matrix may be other than zero, and how to eliminate it.

    ``rows`` and ``columns`` (entries,) list the places; ``solve`` takes the values there.
    """

    def __init__(self, filled: NDArray[np.bool_]) -> None:
        self.size = len(filled)
        self.rows, self.columns = np.nonzero(filled)
        count = len(self.rows)
        self._sum_rows = csr_matrix((np.ones(count), (self.rows, np.arange(count))), shape=(self.size, count))
        self._steps: list[_Step] | None = None
        self._entries = count

    def _plan(self, values: Numbers) -> None:
        """Choose the order with ``values`` (entries, samples) as examples of the matrices to come."""
        n = self.size
        work = np.zeros((values.shape[1], n, n), dtype=values.dtype)
        work[:, self.rows, self.columns] = values.T
        filled = np.zeros((n, n), dtype=bool)
        filled[self.rows, self.columns] = True
        place = np.full((n, n), -1)
        place[self.rows, self.columns] = np.arange(len(self.rows))
        entries = len(self.rows)
        row_left, column_left = np.ones(n, dtype=bool), np.ones(n, dtype=bool)
        steps: list[_Step] = []
        for _ in range(n):
            size = np.abs(work)
            size[:, ~row_left] = 0.0
            largest = size.max(axis=1, keepdims=True)
            share = (size / np.maximum(largest, 1e-300)).min(axis=0)
            allowed = filled & row_left[:, None] & column_left[None] & (share >= _THRESHOLD)
            if not allowed.any():
                allowed = filled & row_left[:, None] & column_left[None] & (share > 0)
                if not allowed.any():
                    raise np.linalg.LinAlgError("singular")
            live = filled & row_left[:, None] & column_left[None]
            cost = np.outer(live.sum(axis=1) - 1, live.sum(axis=0) - 1) - 1e-3 * share
            cost = np.where(allowed, cost, np.inf)
            p, q = (int(found) for found in np.unravel_index(int(np.argmin(cost)), cost.shape))
            row_left[p] = column_left[q] = False
            rows = np.nonzero(filled[:, q] & row_left)[0]
            columns = np.nonzero(filled[p] & column_left)[0]
            block = np.ix_(rows, columns)
            fresh = ~filled[block]
            if fresh.any():
                new = place[block]
                new[fresh] = entries + np.arange(fresh.sum())
                entries += int(fresh.sum())
                place[block] = new
                filled[block] = True
            factor = work[:, rows, q] / work[:, p, q][:, None]
            work[:, rows[:, None], columns] -= factor[:, :, None] * work[:, p, columns][:, None]
            steps.append(
                _Step(int(place[p, q]), p, q, rows, place[rows, q], place[p, columns], columns, place[block])
            )
        self._steps, self._entries = steps, entries

    def solve(self, values: Numbers, rhs: Numbers) -> Numbers:
        """x (size, columns, batch) of A x = rhs, with ``values`` (entries, batch) and rhs (size, columns, batch
        or 1).

        Raises numpy's LinAlgError where a matrix is singular.
        """
        batch = values.shape[1]
        kind = np.result_type(values, rhs)
        rhs = np.broadcast_to(rhs, (*rhs.shape[:2], batch))
        for attempt in range(2):
            if self._steps is None:
                picks = np.unique(np.linspace(0, batch - 1, 5).astype(int))
                self._plan(values[:, picks])
            edges = np.linspace(0, batch, -(-batch // _CHUNK) + 1).astype(int)
            pieces = [slice(first, last) for first, last in itertools.pairwise(edges)]
            x = np.concatenate(
                [self._eliminate(values[:, one].astype(kind), rhs[:, :, one].astype(kind)) for one in pieces], axis=2
            )
            bad = self._bad(values, x, rhs)
            if not bad.any():
                return x
            if attempt == 0 and bad.mean() > 0.1:
                self._steps = None  # the order was chosen for other values: choose again
        dense = np.zeros((int(bad.sum()), self.size, self.size), dtype=kind)
        dense[:, self.rows, self.columns] = values[:, bad].T
        x[:, :, bad] = np.moveaxis(np.linalg.solve(dense, np.moveaxis(rhs[:, :, bad], 2, 0)), 0, 2)
        return x

    def _eliminate(self, values: Numbers, rhs: Numbers) -> Numbers:
        steps = self._steps
        assert steps is not None
        a = np.zeros((self._entries, values.shape[1]), dtype=values.dtype)
        a[: len(values)] = values
        with np.errstate(all="ignore"):  # a pivot may vanish in some matrix; the check finds it
            for step in steps:
                if len(step.rows):
                    factor = a[step.below] / a[step.pivot]
                    if len(step.columns):
                        a[step.targets] -= factor[:, None] * a[step.right][None]
                    rhs[step.rows] -= factor[:, None] * rhs[step.row][None]
            x = np.empty_like(rhs)
            for step in reversed(steps):
                total = rhs[step.row]
                if len(step.columns):
                    total = total - np.einsum("eb,ecb->cb", a[step.right], x[step.columns])
                x[step.column] = total / a[step.pivot]
        return x

    def _bad(self, values: Numbers, x: Numbers, rhs: Numbers) -> NDArray[np.bool_]:
        """Which of the batch do not satisfy their equations."""
        with np.errstate(all="ignore"):
            terms = values[:, None] * x[self.columns]
            residual = (self._sum_rows @ terms.reshape(len(terms), -1)).reshape(rhs.shape) - rhs
            largest = np.max(np.abs(x), axis=0)
            scale = (self._sum_rows @ np.abs(values))[:, None] * largest + np.abs(rhs)
            wrong = ~(np.abs(residual) <= _GOOD * scale + 1e-300)
        found: NDArray[np.bool_] = wrong.any(axis=(0, 1))
        return found

    def product(self, values: Numbers, x: Numbers) -> Numbers:
        """A x for ``values`` (entries, batch) and x (size, batch): (size, batch)."""
        result: Numbers = self._sum_rows @ (values * x[self.columns])
        return result


_patterns: OrderedDict[bytes, Pattern] = OrderedDict()


def pattern(filled: NDArray[np.bool_]) -> Pattern:
    """The pattern of ``filled`` (size, size), with its order of elimination if it has been met before."""
    key = len(filled).to_bytes(4, "big") + np.packbits(filled).tobytes()
    found = _patterns.pop(key, None) or Pattern(filled)
    _patterns[key] = found
    while len(_patterns) > _KEPT:
        _patterns.popitem(last=False)
    return found


def incidence(pattern: Pattern, B: Array, S: Array) -> csr_matrix:
    """How the slopes g (injects x ports, flattened) enter the entries of B g S^T: (entries, injects * ports)."""
    place = np.full((pattern.size, pattern.size), -1)
    place[pattern.rows, pattern.columns] = np.arange(len(pattern.rows))
    entries, slopes, signs = [], [], []
    ports = S.shape[1]
    for inject in range(B.shape[1]):
        for row in np.nonzero(B[:, inject])[0]:
            for port in range(ports):
                for column in np.nonzero(S[:, port])[0]:
                    if place[row, column] >= 0:
                        entries.append(place[row, column])
                        slopes.append(inject * ports + port)
                        signs.append(B[row, inject] * S[column, port])
    return csr_matrix((signs, (entries, slopes)), shape=(len(pattern.rows), B.shape[1] * ports))
