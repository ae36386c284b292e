"""The innermost loops of the analyses, compiled."""

from __future__ import annotations

from typing import Any

import numba

from thermionic.compiled import COMPLEX, REAL, TRUTH, WHOLE, gives, ready, takes

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
            inverse = 1.0 / work[steps[step, 0]]
            target = bounds[step, 2]
            for k in range(bounds[step, 0], bounds[step + 1, 0]):
                factor = work[below[k]] * inverse
                for m in range(bounds[step, 1], bounds[step + 1, 1]):
                    work[targets[target]] -= factor * work[right[m]]
                    target += 1
                for side in range(sides):
                    b[rows[k], side] -= factor * b[row, side]
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
