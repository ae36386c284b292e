"""Small dense systems inside a kernel: factors that serve again, which the library reaches no form of from there."""

from __future__ import annotations

from typing import Any

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
    size = len(matrix)
    for k in range(size):
        best = k
        for row in range(k + 1, size):
            if abs(matrix[row, k]) > abs(matrix[best, k]):
                best = row
        pivots[k] = best
        if best != k:
            for column in range(size):
                matrix[k, column], matrix[best, column] = matrix[best, column], matrix[k, column]
        inverse = 1.0 / matrix[k, k]
        for row in range(k + 1, size):
            if matrix[row, k] != 0.0:
                factor = matrix[row, k] * inverse
                matrix[row, k] = factor
                for column in range(k + 1, size):
                    matrix[row, column] -= factor * matrix[k, column]


@compiled
def solve_factored(matrix: Any, pivots: Any, rhs: Any) -> None:
    """Solve with the factors, the solution in the place of ``rhs``."""
    size = len(matrix)
    for k in range(size):
        best = pivots[k]
        if best != k:
            rhs[k], rhs[best] = rhs[best], rhs[k]
    for k in range(size):
        for row in range(k + 1, size):
            if matrix[row, k] != 0.0:
                rhs[row] -= matrix[row, k] * rhs[k]
    for k in range(size - 1, -1, -1):
        total = rhs[k]
        for column in range(k + 1, size):
            total -= matrix[k, column] * rhs[column]
        rhs[k] = total / matrix[k, k]


@compiled
def square(values: Any) -> Any:
    """The sum of squares."""
    total = 0.0
    for value in values:
        total += value * value
    return total
