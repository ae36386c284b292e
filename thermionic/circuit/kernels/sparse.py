"""Elimination of many matrices of one sparsity, compiled; see elimination."""

from __future__ import annotations

from typing import Any, NamedTuple

import numba
import numpy as np

from thermionic.circuit.kernels.order import Order
from thermionic.compiled import REAL, TRUTH, WHOLE, gives, inlined, ready, together

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


class Matrices(NamedTuple):
    """Matrices with entries at ``rows`` and ``columns`` (entries,).

    ``real`` and ``imaginary`` (entries, batch) are their parts; with a ``turning`` (batch,) both are (entries, 1),
    and the imaginary parts go with it.
    """

    rows: Any
    columns: Any
    real: Any
    imaginary: Any
    turning: Any


class Sides(NamedTuple):
    """The parts of right-hand sides (size, sides, batch), of which there may be one for all, or of solutions."""

    real: Any
    imaginary: Any


class _Block(NamedTuple):
    """What WIDE matrices are solved in: ``own`` (entries, across), ``inverse`` of the pivots (size, across), a
    ``factor`` (1, across), the sides ``b`` and solutions ``out`` (size x sides, across)."""

    own: Any
    inverse: Any
    factor: Any
    b: Any
    out: Any


@inlined
def _solve_block(order: Any, block: Any, sides: int, real: bool) -> None:
    """Eliminate forwards, then put in backwards."""
    own, inverse, factor, b, out = block.own, block.inverse, block.factor, block.b, block.out
    steps, bounds = order.steps, order.bounds
    size = len(steps)
    for step in range(size):
        pivot, row = steps[step, 0], steps[step, 1]
        _inverted(inverse, step, own, pivot, real)
        target = bounds[step, 2]
        for k in range(bounds[step, 0], bounds[step + 1, 0]):
            _times(factor, 0, own, order.below[k], inverse, step, real)
            for m in range(bounds[step, 1], bounds[step + 1, 1]):
                _less(own, order.targets[target], factor, 0, own, order.right[m], real)
                target += 1
            for side in range(sides):
                _less(b, order.rows[k] * sides + side, factor, 0, b, row * sides + side, real)
    for step in range(size - 1, -1, -1):
        row, column = steps[step, 1], steps[step, 2]
        for m in range(bounds[step, 1], bounds[step + 1, 1]):
            for side in range(sides):
                _less(b, row * sides + side, own, order.right[m], out, order.columns[m] * sides + side, real)
        for side in range(sides):
            _times(out, column * sides + side, b, row * sides + side, inverse, step, real)


@inlined
def _subtract_products(
    matrices: Any, first: Any, block: Any, side: int, sides: int, largest: Any, real: bool
) -> None:
    """Take A x off the right-hand sides, and add to ``inverse`` what each equation could add up to."""
    inverse, factor, b, out = block.inverse, block.factor, block.b, block.out
    for entry in range(len(matrices.real)):
        row = matrices.rows[entry]
        at, other = row * sides + side, matrices.columns[entry] * sides + side
        if real:
            for w in range(_WIDE):
                value = matrices.real[entry, first + w]
                inverse[row, w] += abs(value) * largest[0, w]
                b[at, w] -= value * out[other, w]
            continue
        _entry(matrices.real, matrices.imaginary, matrices.turning, entry, first, factor, 0, real)
        for w in range(WIDE):
            value, imaginary = factor[0, w], factor[0, WIDE + w]
            inverse[row, w] += (abs(value) + abs(imaginary)) * largest[0, w]
            b[at, w] -= value * out[other, w] - imaginary * out[other, WIDE + w]
            b[at, WIDE + w] -= value * out[other, WIDE + w] + imaginary * out[other, w]


@ready(
    numba.void(
        together(
            Order, gives(WHOLE, 2), gives(WHOLE, 2), gives(WHOLE, 1), gives(WHOLE, 1), gives(WHOLE, 1),
            gives(WHOLE, 1), gives(WHOLE, 1), WHOLE,
        ),
        together(Matrices, gives(WHOLE, 1), gives(WHOLE, 1), gives(REAL, 2), gives(REAL, 2), gives(REAL, 1)),
        together(Sides, gives(REAL, 3), gives(REAL, 3)),
        REAL,
        together(Sides, gives(REAL, 3), gives(REAL, 3)),
        gives(TRUTH, 1),
    )
)  # fmt: skip
def eliminate(order: Any, matrices: Any, rhs: Any, good: float, x: Any, bad: Any) -> None:
    """Solve matrices of one pattern by an order of elimination that is given, to ``x``; see elimination.

    Where the imaginary parts of ``x`` are empty all is real, and those of the others are not looked at. ``bad``
    (batch,) is set where a solution leaves more than ``good`` of what its equations add up to. A batch is ``WIDE`` at
    least.
    """
    size, sides, batch = x.real.shape
    entries = len(matrices.real)
    real = len(x.imaginary) == 0
    across = WIDE if real else 2 * WIDE
    block = _Block(
        np.empty((order.entries, across)), np.empty((size, across)), np.empty((1, across)),
        np.empty((size * sides, across)), np.empty((size * sides, across)),
    )  # fmt: skip
    inverse, b, out = block.inverse, block.b, block.out
    largest, here = np.empty((1, WIDE)), np.empty((1, WIDE))
    for number in range((batch + WIDE - 1) // WIDE):
        # The last block goes back over some that are done.
        first = np.uint64(min(number * WIDE, batch - WIDE))
        for entry in range(entries):
            _entry(matrices.real, matrices.imaginary, matrices.turning, entry, first, block.own, entry, real)
        block.own[entries:] = 0.0
        _begin(rhs.real, rhs.imaginary, first, b, real)
        _solve_block(order, block, sides, real)
        for side in range(sides):
            # What each equation is left with in the place of b, what it could add up to in that of the inverses.
            if side == 0:
                _begin(rhs.real, rhs.imaginary, first, b, real)
            largest[:] = 0.0
            for row in range(size):
                _size(here, 0, out, row * sides + side, real)
                for w in range(WIDE):
                    # Plainly compared: the built-in maximum minds numbers that are none, and takes them one by one.
                    largest[0, w] = here[0, w] if here[0, w] > largest[0, w] else largest[0, w]
                _size(inverse, row, b, row * sides + side, real)
            _subtract_products(matrices, first, block, side, sides, largest, real)
            largest[:] = 0.0
            for row in range(size):
                at = row * sides + side
                _size(here, 0, b, at, real)
                for w in range(WIDE):
                    largest[0, w] += 0.0 if here[0, w] <= good * inverse[row, w] + 1e-300 else 1.0
                for w in range(_WIDE):
                    x.real[row, side, first + w] = out[at, w]
                if not real:
                    for w in range(_WIDE):
                        x.imaginary[row, side, first + w] = out[at, _WIDE + w]
            for w in range(_WIDE):
                if largest[0, w] > 0.0:
                    bad[first + w] = True
