"""Elimination of many matrices of one sparsity, compiled; see elimination."""

from __future__ import annotations

from typing import Any

import numba
import numpy as np

from thermionic.compiled import COMPLEX, REAL, TRUTH, WHOLE, compiled, gives, inlined, ready, takes

_PLACES = takes(WHOLE, 1)


# So many matrices go side by side through every step, for the processor takes several numbers at once: with fewer
# the compiler unrolls the loops before it sees that (measured: 16 take nearly twice as long a matrix). A row holds
# the real parts and then the imaginary ones, which leaves the compiler few rows to tell apart.
WIDE = 32
# The same to count up to from a place within a row, without a sign: an index that could be negative keeps the
# compiler from taking several at once.
_WIDE = np.uint64(WIDE)


@inlined
def _less(to: Any, at: int, factor: Any, k: int, from_: Any, other: int, real: bool) -> None:
    """to[at] -= factor[k] * from_[other]."""
    if real:
        for w in range(WIDE):
            to[at, w] -= factor[k, w] * from_[other, w]
    else:
        for w in range(WIDE):
            here, imaginary = from_[other, w], from_[other, WIDE + w]
            to[at, w] -= factor[k, w] * here - factor[k, WIDE + w] * imaginary
            to[at, WIDE + w] -= factor[k, w] * imaginary + factor[k, WIDE + w] * here


@inlined
def _times(to: Any, at: int, one: Any, k: int, other: Any, m: int, real: bool) -> None:
    """to[at] = one[k] * other[m]."""
    if real:
        for w in range(WIDE):
            to[at, w] = one[k, w] * other[m, w]
    else:
        for w in range(WIDE):
            here, imaginary = one[k, w], one[k, WIDE + w]
            to[at, w] = here * other[m, w] - imaginary * other[m, WIDE + w]
            to[at, WIDE + w] = here * other[m, WIDE + w] + imaginary * other[m, w]


@inlined
def _inverted(to: Any, at: int, of: Any, k: int, real: bool) -> None:
    """to[at] = 1 / of[k]."""
    if real:
        for w in range(WIDE):
            to[at, w] = 1.0 / of[k, w]
    else:
        for w in range(WIDE):
            over = 1.0 / (of[k, w] * of[k, w] + of[k, WIDE + w] * of[k, WIDE + w])
            to[at, w], to[at, WIDE + w] = of[k, w] * over, -of[k, WIDE + w] * over


@inlined
def _entry(values: Any, values_i: Any, turning: Any, entry: int, first: int, to: Any, at: int, real: bool) -> None:
    """An entry of the matrices from ``first`` on."""
    if len(turning) > 0:
        steady, turned = values[entry, 0], values_i[entry, 0]
        for w in range(_WIDE):
            to[at, w] = steady
            to[at, _WIDE + w] = turned * turning[first + w]
        return
    for w in range(_WIDE):
        to[at, w] = values[entry, first + w]
    if not real:
        for w in range(_WIDE):
            to[at, _WIDE + w] = values_i[entry, first + w]


@inlined
def _begin(rhs: Any, rhs_i: Any, first: int, b: Any, real: bool) -> None:
    """The right-hand sides of the matrices from ``first`` on, or the one of them all."""
    size, sides = rhs.shape[:2]
    for row in range(size):
        for side in range(sides):
            at = row * sides + side
            if rhs.shape[2] == 1:
                steady = rhs[row, side, 0]
                for w in range(WIDE):
                    b[at, w] = steady
                if not real:
                    steady = rhs_i[row, side, 0]
                    for w in range(WIDE):
                        b[at, WIDE + w] = steady
            else:
                for w in range(_WIDE):
                    b[at, w] = rhs[row, side, first + w]
                if not real:
                    for w in range(_WIDE):
                        b[at, _WIDE + w] = rhs_i[row, side, first + w]


@inlined
def _size(to: Any, at: int, of: Any, k: int, real: bool) -> None:
    """to[at] = |re| + |im| of of[k]."""
    if real:
        for w in range(WIDE):
            to[at, w] = abs(of[k, w])
    else:
        for w in range(WIDE):
            to[at, w] = abs(of[k, w]) + abs(of[k, WIDE + w])


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
        takes(REAL, 1),
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
    values: Any, values_i: Any, turning: Any, rhs: Any, rhs_i: Any, x: Any, x_i: Any, bad: Any,
) -> None:  # fmt: skip
    """Solve matrices of one pattern by an order of elimination that is given; see elimination.

    ``steps`` (size, 3) is each pivot's entry, row and column; ``bounds`` (size + 1, 3) where its part begins of
    ``rows`` and ``below`` (rows that hold its column, their entries in it), of ``columns`` and ``right`` (the others
    of its row, their entries) and of ``targets`` (what rows x columns change); ``filled`` counts all entries, those
    that the elimination makes too. ``values`` and ``values_i`` (entries, batch) are the real and imaginary parts of
    the matrices at (``entry_rows``, ``entry_columns``); with a ``turning`` (batch,) both are (entries, 1), and the
    imaginary parts go with it. ``rhs`` (size, sides, batch) are the parts of what they are to give, of which there
    may be one for all, and ``x`` (size, sides, batch) those of the solutions. Where ``x_i`` is empty all is real, and
    the imaginary parts are not looked at. ``bad`` (batch,) is set where one leaves more than ``good`` of what its
    equations add up to. A batch is ``WIDE`` at least.
    """
    size, sides, batch = x.shape
    entries = len(values)
    real = len(x_i) == 0
    across = WIDE if real else 2 * WIDE
    own, inverse, factor = np.empty((filled, across)), np.empty((size, across)), np.empty((1, across))
    b, out = np.empty((size * sides, across)), np.empty((size * sides, across))
    largest, here = np.empty((1, WIDE)), np.empty((1, WIDE))
    for block in range((batch + WIDE - 1) // WIDE):
        # The last block goes back over some that are done.
        first = np.uint64(min(block * WIDE, batch - WIDE))
        for entry in range(entries):
            _entry(values, values_i, turning, entry, first, own, entry, real)
        own[entries:] = 0.0
        _begin(rhs, rhs_i, first, b, real)
        for step in range(size):
            pivot, row = steps[step, 0], steps[step, 1]
            _inverted(inverse, step, own, pivot, real)
            target = bounds[step, 2]
            for k in range(bounds[step, 0], bounds[step + 1, 0]):
                _times(factor, 0, own, below[k], inverse, step, real)
                for m in range(bounds[step, 1], bounds[step + 1, 1]):
                    _less(own, targets[target], factor, 0, own, right[m], real)
                    target += 1
                for side in range(sides):
                    _less(b, rows[k] * sides + side, factor, 0, b, row * sides + side, real)
        for step in range(size - 1, -1, -1):
            row, column = steps[step, 1], steps[step, 2]
            for m in range(bounds[step, 1], bounds[step + 1, 1]):
                for side in range(sides):
                    _less(b, row * sides + side, own, right[m], out, columns[m] * sides + side, real)
            for side in range(sides):
                _times(out, column * sides + side, b, row * sides + side, inverse, step, real)
        for side in range(sides):
            # What each equation is left with in the place of b, what it could add up to in that of the inverses.
            if side == 0:
                _begin(rhs, rhs_i, first, b, real)
            largest[:] = 0.0
            for row in range(size):
                _size(here, 0, out, row * sides + side, real)
                for w in range(WIDE):
                    # Plainly compared: the built-in maximum minds numbers that are none, and takes them one by one.
                    largest[0, w] = here[0, w] if here[0, w] > largest[0, w] else largest[0, w]
                _size(inverse, row, b, row * sides + side, real)
            for entry in range(entries):
                row = entry_rows[entry]
                at, other = row * sides + side, entry_columns[entry] * sides + side
                if real:
                    for w in range(_WIDE):
                        value = values[entry, first + w]
                        inverse[row, w] += abs(value) * largest[0, w]
                        b[at, w] -= value * out[other, w]
                    continue
                _entry(values, values_i, turning, entry, first, factor, 0, real)
                for w in range(WIDE):
                    value, imaginary = factor[0, w], factor[0, WIDE + w]
                    inverse[row, w] += (abs(value) + abs(imaginary)) * largest[0, w]
                    b[at, w] -= value * out[other, w] - imaginary * out[other, WIDE + w]
                    b[at, WIDE + w] -= value * out[other, WIDE + w] + imaginary * out[other, w]
            largest[:] = 0.0
            for row in range(size):
                at = row * sides + side
                _size(here, 0, b, at, real)
                for w in range(WIDE):
                    largest[0, w] += 0.0 if here[0, w] <= good * inverse[row, w] + 1e-300 else 1.0
                for w in range(_WIDE):
                    x[row, side, first + w] = out[at, w]
                if not real:
                    for w in range(_WIDE):
                        x_i[row, side, first + w] = out[at, _WIDE + w]
            for w in range(_WIDE):
                if largest[0, w] > 0.0:
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
def _share(sizes: Any, place: Any, members: Any, count: int, entry: int, column: int) -> float:
    """An entry's size over the largest in its column, the least of the samples."""
    least = np.inf
    for sample in range(sizes.shape[1]):
        largest = 1e-300
        for one in range(count):
            largest = max(largest, sizes[place[members[one], column], sample])
        least = min(least, sizes[entry, sample] / largest)
    return least


@compiled
def _sized(value: Any) -> Any:
    """How large a number is, within a factor of the root of two: what a choice of pivots needs, and soon had."""
    return abs(value.real) + abs(value.imag)


@ready(*((WHOLE, _PLACES, _PLACES, takes(kind, 2), REAL, WHOLE) for kind in (REAL, COMPLEX)))
def plan(size: int, rows: Any, columns: Any, values: Any, threshold: float, searched: int) -> Any:
    """An order of elimination for the matrices of ``size`` of which ``values`` (entries, samples) at (``rows``,
    ``columns``) are examples: the arrays that ``eliminate`` takes, and how many entries there are with those filled.

    Among the rows with the fewest entries left, ``searched`` of them, the pivot that touches the fewest others and is
    at least ``threshold`` of the largest in its column. ``steps`` comes back short where the matrix is singular.
    """
    entries = len(rows)
    work = _grown(values.copy(), 2 * entries + 8)
    sizes = np.zeros(work.shape)
    for entry in range(entries):
        for sample in range(work.shape[1]):
            sizes[entry, sample] = _sized(work[entry, sample])
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
                share = _share(sizes, place, in_column[column], column_count[column], place[row, column], column)
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
                    work, sizes = _grown(work, entries), _grown(sizes, entries)
                    in_row[lower, row_count[lower]] = other
                    in_column[other, column_count[other]] = lower
                    row_count[lower] += 1
                    column_count[other] += 1
                targets[target] = changed
                target += 1
                for sample in range(work.shape[1]):
                    factor = work[entry, sample] / work[pivot, sample]
                    work[changed, sample] -= factor * work[right[across + two], sample]
                    sizes[changed, sample] = _sized(work[changed, sample])
        bounds[step + 1] = first + column_count[column], across + row_count[row], target
    last = bounds[size]
    return (
        steps, bounds, below_rows[: last[0]].copy(), below[: last[0]].copy(), right_columns[: last[1]].copy(),
        right[: last[1]].copy(), targets[: last[2]].copy(), entries,
    )  # fmt: skip
