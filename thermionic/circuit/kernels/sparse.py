"""Elimination of many matrices of one sparsity, compiled; see elimination."""

from __future__ import annotations

from typing import Any

import numba
import numpy as np

from thermionic.compiled import COMPLEX, REAL, TRUTH, WHOLE, compiled, gives, ready, takes

_PLACES = takes(WHOLE, 1)


@ready(
    *(
        numba.void(
            takes(WHOLE, 2),
            takes(WHOLE, 2),
            _PLACES,
            _PLACES,
            _PLACES,
            _PLACES,
            _PLACES,
            _PLACES,
            _PLACES,
            REAL,
            takes(kind, 2),
            gives(kind, 1),
            takes(kind, 3),
            gives(kind, 3),
            gives(TRUTH, 1),
        )
        for kind in (REAL, COMPLEX)
    )
)
def eliminate(
    steps: Any, bounds: Any, rows: Any, below: Any, columns: Any, right: Any, targets: Any,
    entry_rows: Any, entry_columns: Any, good: float, values: Any, work: Any, rhs: Any, x: Any, bad: Any,
) -> None:  # fmt: skip
    """Solve matrices of one pattern by an order of elimination that is given; see elimination.

    ``steps`` (size, 3) is each pivot's entry, row and column; ``bounds`` (size + 1, 3) where its part begins of
    ``rows`` and ``below`` (rows that hold its column, their entries in it), of ``columns`` and ``right`` (the others
    of its row, their entries) and of ``targets`` (what rows x columns change). ``values`` (batch, entries) are the
    matrices at (``entry_rows``, ``entry_columns``); ``work`` (at least all entries, and size) is used up. Of ``rhs``
    (batch, size, sides) there may be one for all. The solutions go to ``x`` (batch, size, sides). ``bad`` (batch,) is
    set where one leaves more than ``good`` of what its equations add up to.
    """
    batch, size, sides = x.shape
    entries = values.shape[1]
    for one in range(batch):
        own = values[one]
        b = rhs[one % len(rhs)].copy()
        out = x[one]
        work[:entries] = own
        work[entries:] = 0.0
        for step in range(size):
            row = steps[step, 1]
            if work[steps[step, 0]] == 0.0:
                bad[one] = True
                break
            inverse = 1.0 / work[steps[step, 0]]
            target = bounds[step, 2]
            for k in range(bounds[step, 0], bounds[step + 1, 0]):
                factor = work[below[k]] * inverse
                for m in range(bounds[step, 1], bounds[step + 1, 1]):
                    work[targets[target]] -= factor * work[right[m]]
                    target += 1
                for side in range(sides):
                    b[rows[k], side] -= factor * b[row, side]
        if bad[one]:
            continue
        for step in range(size - 1, -1, -1):
            pivot, row, column = steps[step, 0], steps[step, 1], steps[step, 2]
            inverse = 1.0 / work[pivot]
            for side in range(sides):
                total = b[row, side]
                for m in range(bounds[step, 1], bounds[step + 1, 1]):
                    total -= work[right[m]] * out[columns[m], side]
                out[column, side] = total * inverse
        for side in range(sides):
            largest = 0.0
            for row in range(size):
                largest = max(largest, abs(out[row, side]))
            # What each equation is left with, and what it could add up to, in the places of b and of work.
            b[:, side] = rhs[one % len(rhs), :, side]
            for row in range(size):
                work[row] = abs(b[row, side])
            for entry in range(entries):
                b[entry_rows[entry], side] -= own[entry] * out[entry_columns[entry], side]
                work[entry_rows[entry]] += abs(own[entry]) * largest
            for row in range(size):
                if not abs(b[row, side]) <= good * abs(work[row]) + 1e-300:
                    bad[one] = True


@compiled
def _grown(array: Any, needed: int) -> Any:
    """The array, with room for ``needed`` in its first dimension."""
    if needed <= len(array):
        return array
    larger = np.zeros((max(needed, 2 * len(array)), *array.shape[1:]), dtype=array.dtype)
    larger[: len(array)] = array
    return larger


@compiled
def _dropped(members: Any, count: int, member: int) -> int:
    """Take a member out of a list of so many; the count that is left."""
    for one in range(count):
        if members[one] == member:
            members[one] = members[count - 1]
            return count - 1
    return count


@compiled
def _share(work: Any, place: Any, members: Any, count: int, entry: int, column: int) -> float:
    """An entry's size over the largest in its column, the least of the samples."""
    least = np.inf
    for sample in range(work.shape[1]):
        largest = 1e-300
        for one in range(count):
            largest = max(largest, abs(work[place[members[one], column], sample]))
        least = min(least, abs(work[entry, sample]) / largest)
    return least


@ready(*((WHOLE, _PLACES, _PLACES, takes(kind, 2), REAL, WHOLE) for kind in (REAL, COMPLEX)))
def plan(size: int, rows: Any, columns: Any, values: Any, threshold: float, searched: int) -> Any:
    """An order of elimination for the matrices of ``size`` of which ``values`` (entries, samples) at (``rows``,
    ``columns``) are examples: the arrays that ``eliminate`` takes, and how many entries there are with those filled.

    Among the rows with the fewest entries left, ``searched`` of them, the pivot that touches the fewest others and is
    at least ``threshold`` of the largest in its column. ``steps`` comes back short where the matrix is singular.
    """
    entries = len(rows)
    work = _grown(values.copy(), 2 * entries + 8)
    place = np.full((size, size), -1)
    in_row, in_column = np.empty((size, size), dtype=np.int64), np.empty((size, size), dtype=np.int64)
    row_count, column_count = np.zeros(size, dtype=np.int64), np.zeros(size, dtype=np.int64)
    for entry in range(entries):
        row, column = rows[entry], columns[entry]
        place[row, column] = entry
        in_row[row, row_count[row]] = column
        in_column[column, column_count[column]] = row
        row_count[row] += 1
        column_count[column] += 1
    gone, seen = np.zeros(size, dtype=np.bool_), np.zeros(size, dtype=np.bool_)
    steps, bounds = np.zeros((size, 3), dtype=np.int64), np.zeros((size + 1, 3), dtype=np.int64)
    below_rows, below = np.zeros(entries, dtype=np.int64), np.zeros(entries, dtype=np.int64)
    right_columns, right = np.zeros(entries, dtype=np.int64), np.zeros(entries, dtype=np.int64)
    targets = np.zeros(4 * entries, dtype=np.int64)
    for step in range(size):
        best_cost, best_share, best_row, best_column = np.inf, 0.0, -1, -1
        most_share, most_row, most_column = 0.0, -1, -1
        seen[:] = gone
        looked = 0
        while best_row < 0 or looked < searched:
            row = -1
            for one in range(size):
                if not seen[one] and (row < 0 or row_count[one] < row_count[row]):
                    row = one
            if row < 0 or (best_row >= 0 and row_count[row] - 1 > best_cost):
                break
            seen[row] = True
            looked += 1
            for one in range(row_count[row]):
                column = in_row[row, one]
                cost = (row_count[row] - 1.0) * (column_count[column] - 1.0)
                share = _share(work, place, in_column[column], column_count[column], place[row, column], column)
                if share >= threshold:
                    if cost < best_cost or (cost == best_cost and share > best_share):
                        best_cost, best_share, best_row, best_column = cost, share, row, column
                elif share > most_share:
                    most_share, most_row, most_column = share, row, column
        if best_row < 0:
            best_row, best_column = most_row, most_column
        if best_row < 0:
            return steps[:step], bounds, below_rows, below, right_columns, right, targets, entries
        row, column = best_row, best_column
        gone[row] = True
        steps[step] = place[row, column], row, column
        first, across, target = bounds[step]
        below_rows = _grown(below_rows, first + size)
        below = _grown(below, first + size)
        right_columns = _grown(right_columns, across + size)
        right = _grown(right, across + size)
        row_count[row] = _dropped(in_row[row], row_count[row], column)
        for one in range(row_count[row]):
            other = in_row[row, one]
            column_count[other] = _dropped(in_column[other], column_count[other], row)
            right_columns[across + one], right[across + one] = other, place[row, other]
        column_count[column] = _dropped(in_column[column], column_count[column], row)
        pivot = place[row, column]
        targets = _grown(targets, target + row_count[row] * column_count[column])
        for one in range(column_count[column]):
            lower = in_column[column, one]
            entry = place[lower, column]
            below_rows[first + one], below[first + one] = lower, entry
            row_count[lower] = _dropped(in_row[lower], row_count[lower], column)
            for two in range(row_count[row]):
                other = right_columns[across + two]
                changed = place[lower, other]
                if changed < 0:
                    # The elimination fills it.
                    changed = place[lower, other] = entries
                    entries += 1
                    work = _grown(work, entries)
                    in_row[lower, row_count[lower]] = other
                    in_column[other, column_count[other]] = lower
                    row_count[lower] += 1
                    column_count[other] += 1
                targets[target] = changed
                target += 1
                for sample in range(work.shape[1]):
                    factor = work[entry, sample] / work[pivot, sample]
                    work[changed, sample] -= factor * work[right[across + two], sample]
        bounds[step + 1] = first + column_count[column], across + row_count[row], target
    last = bounds[size]
    return (
        steps, bounds, below_rows[: last[0]].copy(), below[: last[0]].copy(), right_columns[: last[1]].copy(),
        right[: last[1]].copy(), targets[: last[2]].copy(), entries,
    )  # fmt: skip
