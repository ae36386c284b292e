"""Small dense systems inside a kernel: factors that serve again, which the library reaches no form of from there."""

from __future__ import annotations

from typing import Any

import numpy as np

from thermionic.compiled import compiled


@compiled
def sensed(x: Any, ends: Any, v: Any) -> None:
    """The voltages between pairs of unknowns, ``ends`` (pairs, 2), -1 being earth."""
    for port in range(len(ends)):
        plus, minus = ends[port]
        v[port] = (x[plus] if plus >= 0 else 0.0) - (x[minus] if minus >= 0 else 0.0)


@compiled
def factored(matrix: Any, pivots: Any) -> None:
    """Gauss's elimination with partial pivoting in place: the factors, and which row each step took."""
    # Counted without a sign: an index that could be negative keeps the compiler from taking several at once.
    size, one = np.uint64(len(matrix)), np.uint64(1)
    for k in range(size):
        best, most = k, abs(matrix[k, k])
        for row in range(k + one, size):
            if abs(matrix[row, k]) > most:
                best, most = row, abs(matrix[row, k])
        pivots[k] = best
        if best != k:
            for column in range(size):
                matrix[k, column], matrix[best, column] = matrix[best, column], matrix[k, column]
        inverse = 1.0 / matrix[k, k]
        for row in range(k + one, size):
            if matrix[row, k] != 0.0:
                factor = matrix[row, k] * inverse
                matrix[row, k] = factor
                for column in range(k + one, size):
                    matrix[row, column] -= factor * matrix[k, column]


@compiled
def solve_factored(matrix: Any, pivots: Any, rhs: Any) -> None:
    """Solve with the factors, the solution in the place of ``rhs``."""
    size, one = np.uint64(len(matrix)), np.uint64(1)
    for step in range(size):
        best = np.uint64(pivots[step])
        if best != step:
            rhs[step], rhs[best] = rhs[best], rhs[step]
    for row in range(one, size):
        total = rhs[row]
        for column in range(row):
            total -= matrix[row, column] * rhs[column]
        rhs[row] = total
    for back in range(size):
        k = np.uint64(size - one - back)
        total = rhs[k]
        for column in range(k + one, size):
            total -= matrix[k, column] * rhs[column]
        rhs[k] = total / matrix[k, k]


@compiled
def square(values: Any) -> Any:
    """The sum of squares."""
    total = 0.0
    for value in values:
        total += value * value
    return total
