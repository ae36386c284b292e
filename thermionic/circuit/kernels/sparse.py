"""Elimination of many matrices of one sparsity, compiled; see elimination."""

from __future__ import annotations

from typing import Any

import numba
import numpy as np

from thermionic.compiled import COMPLEX, REAL, TRUTH, WHOLE, compiled, gives, ready, takes

_PLACES = takes(WHOLE, 1)


# So many matrices go side by side through every step, for the processor takes several numbers at once.
WIDE = 16


@compiled
def _less(to: Any, at: int, factor: Any, from_: Any, other: int, to_i: Any, factor_i: Any, from_i: Any) -> None:
    """to[at] -= factor * from_[other], complex numbers by their parts, ``WIDE`` of them."""
    for w in range(WIDE):
        real, imaginary = from_[other, w], from_i[other, w]
        to[at, w] -= factor[w] * real - factor_i[w] * imaginary
        to_i[at, w] -= factor[w] * imaginary + factor_i[w] * real


@compiled
def _begin(rhs: Any, rhs_i: Any, single: bool, first: int, b: Any, b_i: Any) -> None:
    """The right-hand sides of the matrices from ``first`` on, or the one of them all."""
    size, sides = rhs.shape[:2]
    for row in range(size):
        for side in range(sides):
            at = row * sides + side
            if single:
                for w in range(WIDE):
                    b[at, w], b_i[at, w] = rhs[row, side, 0], rhs_i[row, side, 0]
            else:
                for w in range(WIDE):
                    b[at, w], b_i[at, w] = rhs[row, side, first + w], rhs_i[row, side, first + w]


@ready(
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
        WHOLE,
        REAL,
        takes(REAL, 2),
        takes(REAL, 2),
        takes(REAL, 3),
        takes(REAL, 3),
        gives(REAL, 3),
        gives(REAL, 3),
        gives(TRUTH, 1),
    )
)
def eliminate(
    steps: Any, bounds: Any, rows: Any, below: Any, columns: Any, right: Any, targets: Any,
    entry_rows: Any, entry_columns: Any, filled: int, good: float,
    values: Any, values_i: Any, rhs: Any, rhs_i: Any, x: Any, x_i: Any, bad: Any,
) -> None:  # fmt: skip
    """Solve matrices of one pattern by an order of elimination that is given; see elimination.

    ``steps`` (size, 3) is each pivot's entry, row and column; ``bounds`` (size + 1, 3) where its part begins of
    ``rows`` and ``below`` (rows that hold its column, their entries in it), of ``columns`` and ``right`` (the others
    of its row, their entries) and of ``targets`` (what rows x columns change); ``filled`` counts all entries, those
    that the elimination makes too. ``values`` and ``values_i`` (entries, batch) are the real and imaginary parts of
    the matrices at (``entry_rows``, ``entry_columns``), ``rhs`` (size, sides, batch) those of what they are to give,
    of which there may be one for all, and ``x`` (size, sides, batch) those of the solutions. ``bad`` (batch,) is set
    where one leaves more than ``good`` of what its equations add up to. A batch is ``WIDE`` at least.
    """
    size, sides, batch = x.shape
    entries = len(values)
    own, own_i = np.empty((filled, WIDE)), np.empty((filled, WIDE))
    b, b_i = np.empty((size * sides, WIDE)), np.empty((size * sides, WIDE))
    out, out_i = np.empty((size * sides, WIDE)), np.empty((size * sides, WIDE))
    inverse, inverse_i = np.empty((size, WIDE)), np.empty((size, WIDE))
    factor, factor_i, largest = np.empty(WIDE), np.empty(WIDE), np.empty(WIDE)
    single = rhs.shape[2] == 1
    for block in range((batch + WIDE - 1) // WIDE):
        # The last block goes back over some that are done.
        first = min(block * WIDE, batch - WIDE)
        for entry in range(entries):
            for w in range(WIDE):
                own[entry, w], own_i[entry, w] = values[entry, first + w], values_i[entry, first + w]
        own[entries:], own_i[entries:] = 0.0, 0.0
        _begin(rhs, rhs_i, single, first, b, b_i)
        for step in range(size):
            pivot, row = steps[step, 0], steps[step, 1]
            for w in range(WIDE):
                square = own[pivot, w] * own[pivot, w] + own_i[pivot, w] * own_i[pivot, w]
                inverse[step, w], inverse_i[step, w] = own[pivot, w] / square, -own_i[pivot, w] / square
            target = bounds[step, 2]
            for k in range(bounds[step, 0], bounds[step + 1, 0]):
                for w in range(WIDE):
                    real, imaginary = own[below[k], w], own_i[below[k], w]
                    factor[w] = real * inverse[step, w] - imaginary * inverse_i[step, w]
                    factor_i[w] = real * inverse_i[step, w] + imaginary * inverse[step, w]
                for m in range(bounds[step, 1], bounds[step + 1, 1]):
                    _less(own, targets[target], factor, own, right[m], own_i, factor_i, own_i)
                    target += 1
                for side in range(sides):
                    _less(b, rows[k] * sides + side, factor, b, row * sides + side, b_i, factor_i, b_i)
        for step in range(size - 1, -1, -1):
            row, column = steps[step, 1], steps[step, 2]
            for m in range(bounds[step, 1], bounds[step + 1, 1]):
                for w in range(WIDE):
                    factor[w], factor_i[w] = own[right[m], w], own_i[right[m], w]
                for side in range(sides):
                    at = columns[m] * sides + side
                    _less(b, row * sides + side, factor, out, at, b_i, factor_i, out_i)
            for side in range(sides):
                at = row * sides + side
                for w in range(WIDE):
                    real, imaginary = b[at, w], b_i[at, w]
                    to = column * sides + side
                    out[to, w] = real * inverse[step, w] - imaginary * inverse_i[step, w]
                    out_i[to, w] = real * inverse_i[step, w] + imaginary * inverse[step, w]
        for side in range(sides):
            # What each equation is left with in the place of b, what it could add up to in that of the inverses.
            if side == 0:
                _begin(rhs, rhs_i, single, first, b, b_i)
            largest[:] = 0.0
            for row in range(size):
                at = row * sides + side
                for w in range(WIDE):
                    # Plainly compared: the built-in maximum minds numbers that are none, and takes them one by one.
                    here = abs(out[at, w]) + abs(out_i[at, w])
                    largest[w] = here if here > largest[w] else largest[w]
                    inverse[row, w] = abs(b[at, w]) + abs(b_i[at, w])
            for entry in range(entries):
                row = entry_rows[entry]
                at, to = entry_columns[entry] * sides + side, row * sides + side
                for w in range(WIDE):
                    factor[w], factor_i[w] = values[entry, first + w], values_i[entry, first + w]
                    inverse[row, w] += (abs(factor[w]) + abs(factor_i[w])) * largest[w]
                _less(b, to, factor, out, at, b_i, factor_i, out_i)
            factor[:] = 0.0
            for row in range(size):
                at = row * sides + side
                for w in range(WIDE):
                    left = abs(b[at, w]) + abs(b_i[at, w])
                    factor[w] += 0.0 if left <= good * inverse[row, w] + 1e-300 else 1.0
                    x[row, side, first + w], x_i[row, side, first + w] = out[at, w], out_i[at, w]
            for w in range(WIDE):
                if factor[w] > 0.0:
                    bad[first + w] = True


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
