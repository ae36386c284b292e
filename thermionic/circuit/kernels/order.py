"""The order of elimination of matrices of one sparsity, compiled; see elimination."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from thermionic.compiled import COMPLEX, REAL, WHOLE, compiled, ready, takes

_PLACES = takes(WHOLE, 1)


class Order(NamedTuple):
    """An order of elimination, as ``plan`` makes it.

    ``steps`` (size, 3) is each pivot's entry, row and column; ``bounds`` (size + 1, 3) where its part begins of
    ``rows`` and ``below`` (rows that hold its column, their entries in it), of ``columns`` and ``right`` (the others
    of its row, their entries) and of ``targets`` (what rows x columns change); ``entries`` counts all, those that the
    elimination fills too.
    """

    steps: Any
    bounds: Any
    rows: Any
    below: Any
    columns: Any
    right: Any
    targets: Any
    entries: int


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
def _sized(value: Any) -> Any:
    """How large a number is, within a factor of the root of two: what a choice of pivots needs, and soon had."""
    return abs(value.real) + abs(value.imag)


class _Lists(NamedTuple):
    """Where the entries are that are left: ``place`` (size, size), -1 for none; the columns of each row and the rows
    of each column, of which the first so many count."""

    place: Any
    in_row: Any
    in_column: Any
    row_count: Any
    column_count: Any


@compiled
def _share(sizes: Any, lists: Any, entry: int, column: int) -> float:
    """An entry's size over the largest in its column, the least of the samples."""
    least = np.inf
    for sample in range(sizes.shape[1]):
        largest = 1e-300
        for k in range(lists.column_count[column]):
            largest = max(largest, sizes[lists.place[lists.in_column[column, k], column], sample])
        least = min(least, sizes[entry, sample] / largest)
    return least


@compiled
def _listed(size: int, rows: Any, columns: Any) -> Any:
    """The lists of entries at places."""
    lists = _Lists(
        np.full((size, size), -1), np.empty((size, size), dtype=np.int64), np.empty((size, size), dtype=np.int64),
        np.zeros(size, dtype=np.int64), np.zeros(size, dtype=np.int64),
    )  # fmt: skip
    for entry in range(len(rows)):
        lists.place[rows[entry], columns[entry]] = entry
        _add_entry(lists, rows[entry], columns[entry])
    return lists


@compiled
def _add_entry(lists: Any, row: int, column: int) -> None:
    lists.in_row[row, lists.row_count[row]] = column
    lists.in_column[column, lists.column_count[column]] = row
    lists.row_count[row] += 1
    lists.column_count[column] += 1


@compiled
def _pivot(lists: Any, sizes: Any, gone: Any, threshold: float, searched: int) -> Any:
    """The row and column of the next pivot, -1 where there is none: among the rows with the fewest entries left,
    ``searched`` of them, the pivot that touches the fewest others and is at least ``threshold`` of the largest in its
    column; else the largest by that share."""
    best_cost, best_share, best_row, best_column = np.inf, 0.0, -1, -1
    most_share, most_row, most_column = 0.0, -1, -1
    row_count, column_count = lists.row_count, lists.column_count
    seen = gone.copy()
    looked = 0
    while best_row < 0 or looked < searched:
        row = -1
        for candidate in range(len(seen)):
            if not seen[candidate] and (row < 0 or row_count[candidate] < row_count[row]):
                row = candidate
        if row < 0 or (best_row >= 0 and row_count[row] - 1 > best_cost):
            break
        seen[row] = True
        looked += 1
        for k in range(row_count[row]):
            column = lists.in_row[row, k]
            cost = (row_count[row] - 1.0) * (column_count[column] - 1.0)
            share = _share(sizes, lists, lists.place[row, column], column)
            if share >= threshold:
                if cost < best_cost or (cost == best_cost and share > best_share):
                    best_cost, best_share, best_row, best_column = cost, share, row, column
            elif share > most_share:
                most_share, most_row, most_column = share, row, column
    return (best_row, best_column) if best_row >= 0 else (most_row, most_column)


@compiled
def _take_out(lists: Any, row: int, column: int, others: Any, entries: Any) -> None:
    """Take a pivot's row and column out of the lists; the row's other columns to ``others`` and their entries to
    ``entries``."""
    row_count, column_count = lists.row_count, lists.column_count
    row_count[row] = _dropped(lists.in_row[row], row_count[row], column)
    for k in range(row_count[row]):
        other = lists.in_row[row, k]
        column_count[other] = _dropped(lists.in_column[other], column_count[other], row)
        others[k], entries[k] = other, lists.place[row, other]
    column_count[column] = _dropped(lists.in_column[column], column_count[column], row)


@ready(*((WHOLE, _PLACES, _PLACES, takes(kind, 2), REAL, WHOLE) for kind in (REAL, COMPLEX)))
def plan(size: int, rows: Any, columns: Any, values: Any, threshold: float, searched: int) -> Any:
    """An Order for the matrices of ``size`` of which ``values`` (entries, samples) at (``rows``, ``columns``) are
    examples; for ``threshold`` and ``searched`` see _pivot. ``steps`` comes back short where the matrix is singular.
    """
    entries = len(rows)
    work = _grown(values.copy(), 2 * entries + 8)
    sizes = np.zeros(work.shape)
    for entry in range(entries):
        for sample in range(work.shape[1]):
            sizes[entry, sample] = _sized(work[entry, sample])
    lists, gone = _listed(size, rows, columns), np.zeros(size, dtype=np.bool_)
    place, row_count, column_count = lists.place, lists.row_count, lists.column_count
    steps, bounds = np.zeros((size, 3), dtype=np.int64), np.zeros((size + 1, 3), dtype=np.int64)
    below_rows, below = np.zeros(entries, dtype=np.int64), np.zeros(entries, dtype=np.int64)
    right_columns, right = np.zeros(entries, dtype=np.int64), np.zeros(entries, dtype=np.int64)
    targets = np.zeros(4 * entries, dtype=np.int64)
    for step in range(size):
        row, column = _pivot(lists, sizes, gone, threshold, searched)
        if row < 0:
            return Order(steps[:step].copy(), bounds, below_rows, below, right_columns, right, targets, entries)
        gone[row] = True
        pivot = place[row, column]
        steps[step] = pivot, row, column
        first, across, target = bounds[step]
        below_rows, below = _grown(below_rows, first + size), _grown(below, first + size)
        right_columns, right = _grown(right_columns, across + size), _grown(right, across + size)
        _take_out(lists, row, column, right_columns[across:], right[across:])
        targets = _grown(targets, target + row_count[row] * column_count[column])
        for k in range(column_count[column]):
            lower = lists.in_column[column, k]
            entry = place[lower, column]
            below_rows[first + k], below[first + k] = lower, entry
            row_count[lower] = _dropped(lists.in_row[lower], row_count[lower], column)
            for m in range(row_count[row]):
                other = right_columns[across + m]
                changed = place[lower, other]
                if changed < 0:
                    # The elimination fills it.
                    changed = place[lower, other] = entries
                    entries += 1
                    work, sizes = _grown(work, entries), _grown(sizes, entries)
                    _add_entry(lists, lower, other)
                targets[target] = changed
                target += 1
                for sample in range(work.shape[1]):
                    quotient = work[entry, sample] / work[pivot, sample]
                    work[changed, sample] -= quotient * work[right[across + m], sample]
                    sizes[changed, sample] = _sized(work[changed, sample])
        bounds[step + 1] = first + column_count[column], across + row_count[row], target
    below_end, right_end, targets_end = bounds[size]
    return Order(
        steps, bounds, below_rows[:below_end].copy(), below[:below_end].copy(), right_columns[:right_end].copy(),
        right[:right_end].copy(), targets[:targets_end].copy(), entries,
    )  # fmt: skip
