"""Many systems of one sparsity solved together: a frequency sweep, or an array of variants of one circuit.

A circuit's matrix is mostly zeros, and all the matrices of a sweep have them in the same places. The order of
elimination is worked out once for the pattern (H. M. Markowitz, "The elimination form of the inverse and its
application to linear programming", Management Science 3 (1957), p. 255, among pivots that are large enough in every
sample), and each step is then one array operation over all matrices at once. Pivots are not chosen anew for each
matrix, so every solution is checked by putting it back, and what fails is solved by the dense method.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from heapq import heapify, heappop, heappush
from threading import Lock
from typing import Any

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray
from scipy.sparse import csr_matrix

from thermionic import budget
from thermionic.circuit.kernels import eliminate
from thermionic.devices.base import Array

_THRESHOLD = 1e-2  # a pivot is at least this part of the largest in its column, in every sample
_SEARCHED = 4  # rows that are looked through for each pivot, at most
_GOOD = 1e-10  # the residual of a solution over what its row could add up to
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


@dataclass(frozen=True)
class _Order:
    """The steps of an elimination as kernels.eliminate takes them, and how many entries there are with those that it
    fills."""

    steps: NDArray[np.int_]
    bounds: NDArray[np.int_]
    parts: tuple[NDArray[np.int_], ...]
    entries: int

    @classmethod
    def of(cls, steps: list[_Step], entries: int) -> _Order:
        """The steps one after another."""
        sizes = [(len(step.rows), len(step.columns), step.targets.size) for step in steps]
        lists = ([getattr(step, name).ravel() for step in steps]
                 for name in ("rows", "below", "columns", "right", "targets"))  # fmt: skip
        return cls(
            np.array([(step.pivot, step.row, step.column) for step in steps], dtype=int),
            np.cumsum([(0, 0, 0), *sizes], axis=0),
            tuple(np.concatenate(one) for one in lists),
            entries,
        )


class _Board:
    """A matrix being eliminated with a few samples of its values, to find an order."""

    def __init__(self, size: int, rows: NDArray[np.int_], columns: NDArray[np.int_], values: Numbers) -> None:
        self.work = np.zeros((2 * len(values) + 8, values.shape[1]), dtype=values.dtype)
        self.work[: len(values)] = values
        self.entries = len(values)
        self.rows: dict[int, dict[int, int]] = {row: {} for row in range(size)}
        self.columns: dict[int, set[int]] = {column: set() for column in range(size)}
        for entry, (row, column) in enumerate(zip(rows.tolist(), columns.tolist(), strict=True)):
            self.rows[row][column] = entry
            self.columns[column].add(row)
        self.queue = [(len(entries), row) for row, entries in self.rows.items()]
        heapify(self.queue)

    def pivot(self) -> tuple[int, int]:
        """The next pivot's row and column. Raises numpy's LinAlgError."""
        seen: list[tuple[int, int]] = []
        best: tuple[float, float, int, int] | None = None
        fallback: tuple[float, int, int] | None = None
        while self.queue and (best is None or len(seen) < _SEARCHED):
            count, row = heappop(self.queue)
            if row not in self.rows or count != len(self.rows[row]):
                continue  # out of date: it is in the queue again with its present count
            seen.append((count, row))
            if best is not None and (count - 1) > best[0]:
                break
            for column, share in self._shares(row):
                cost = float((count - 1) * (len(self.columns[column]) - 1))
                if share >= _THRESHOLD and (best is None or (cost, -share) < best[:2]):
                    best = cost, -share, row, column
                elif share > 0 and (fallback is None or share > fallback[0]):
                    fallback = share, row, column
        for one in seen:
            heappush(self.queue, one)
        if best is not None:
            return best[2], best[3]
        if fallback is not None:
            return fallback[1], fallback[2]
        raise np.linalg.LinAlgError("singular")

    def _shares(self, row: int) -> Iterator[tuple[int, float]]:
        """Each entry of a row: its column, and its size over the largest in that column, the least of the samples."""
        for column, entry in self.rows[row].items():
            others = [self.rows[other][column] for other in self.columns[column]]
            largest = np.abs(self.work[others]).max(axis=0)
            yield column, float((np.abs(self.work[entry]) / np.maximum(largest, 1e-300)).min())

    def eliminate(self, row: int, column: int) -> _Step:
        """Take a pivot's row and column out, with what that does to the rest."""
        right = self.rows.pop(row)
        pivot = right.pop(column)
        for other in right:
            self.columns[other].discard(row)
        below_rows = sorted(self.columns.pop(column) - {row})
        columns, right_entries = list(right), list(right.values())
        below, targets = [], []
        for other in below_rows:
            entries = self.rows[other]
            below.append(entries.pop(column))
            targets.append([self._entry(other, across) for across in columns])
            heappush(self.queue, (len(entries), other))
        shape = len(below_rows), len(columns)
        step = _Step(
            pivot, row, column, np.array(below_rows, dtype=int), np.array(below, dtype=int),
            np.array(right_entries, dtype=int), np.array(columns, dtype=int),
            np.array(targets, dtype=int).reshape(shape),
        )  # fmt: skip
        if all(shape):
            factor = self.work[step.below] / self.work[pivot]
            self.work[step.targets] -= factor[:, None] * self.work[step.right][None]
        return step

    def _entry(self, row: int, column: int) -> int:
        """The entry at a place, made if the elimination fills it."""
        found = self.rows[row].get(column)
        if found is None:
            found = self.rows[row][column] = self.entries
            self.columns[column].add(row)
            self.entries += 1
            if found >= len(self.work):
                self.work = np.vstack([self.work, np.zeros_like(self.work)])
        return found


class Pattern:
    """Where the entries of a matrix may be other than zero, and how to eliminate it.

    ``rows`` and ``columns`` (entries,) list the places; ``solve`` takes the values there.
    """

    def __init__(self, filled: NDArray[np.bool_]) -> None:
        self.size = len(filled)
        self.rows, self.columns = (np.ascontiguousarray(places) for places in np.nonzero(filled))
        count = len(self.rows)
        self._sum_rows = csr_matrix((np.ones(count), (self.rows, np.arange(count))), shape=(self.size, count))
        self._order: _Order | None = None  # put in its place whole, so that threads may share it

    def _plan(self, values: Numbers) -> _Order:
        """Choose the order with ``values`` (entries, samples) as examples of the matrices to come.

        Among the rows with the fewest entries left, the pivot that touches the fewest others (Z. Zlatev, "On some
        pivotal strategies in Gaussian elimination by sparse technique", SIAM J. Numer. Anal. 17 (1980), p. 18).
        Raises numpy's LinAlgError where there is none, BudgetSpent.
        """
        board = _Board(self.size, self.rows, self.columns, values)
        steps = []
        for _ in range(self.size):
            budget.check("ordering the equations")
            steps.append(board.eliminate(*board.pivot()))
        return _Order.of(steps, board.entries)

    def solve(self, values: Numbers, rhs: Numbers) -> Numbers:
        """x (size, columns, batch) of A x = rhs, with ``values`` (entries, batch) and rhs (size, columns, batch
        or 1).

        Raises numpy's LinAlgError where a matrix is singular.
        """
        batch = values.shape[1]
        kind = np.result_type(values, rhs)
        matrices = np.ascontiguousarray(values.T, dtype=kind)
        sides = np.ascontiguousarray(np.moveaxis(rhs, 2, 0), dtype=kind)
        x = np.empty((batch, *rhs.shape[:2]), dtype=kind)
        for attempt in range(2):
            order = self._order
            if order is None:
                picks = np.unique(np.linspace(0, batch - 1, 5).astype(int))
                order = self._order = self._plan(values[:, picks])
            work = np.empty(max(order.entries, self.size), dtype=kind)
            bad = np.zeros(batch, dtype=bool)
            eliminate(
                order.steps, order.bounds, *order.parts, self.rows, self.columns, _GOOD, matrices, work, sides, x, bad
            )
            if attempt or bad.mean() <= 0.1:
                break
            self._order = None  # it was chosen for other values: choose again
        if bad.any():
            dense = np.zeros((int(bad.sum()), self.size, self.size), dtype=kind)
            dense[:, self.rows, self.columns] = matrices[bad]
            x[bad] = np.linalg.solve(dense, np.broadcast_to(sides, x.shape)[bad])
        return np.moveaxis(x, 0, 2)

    def product(self, values: Numbers, x: Numbers) -> Numbers:
        """A x for ``values`` (entries, batch) and x (size, batch): (size, batch)."""
        result: Numbers = self._sum_rows @ (values * x[self.columns])
        return result


_patterns: LRUCache[bytes, Pattern] = LRUCache(maxsize=_KEPT)
_lock = Lock()


def pattern(filled: NDArray[np.bool_]) -> Pattern:
    """The pattern of ``filled`` (size, size), with its order of elimination if it has been met before."""
    key = len(filled).to_bytes(4, "big") + np.packbits(filled).tobytes()
    with _lock:
        found = _patterns[key] = _patterns.get(key) or Pattern(filled)
    return found


def forget() -> None:
    """Forget every order of elimination that was worked out."""
    with _lock:
        _patterns.clear()


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
