"""Newton for the operating point; see operating_point."""

from __future__ import annotations

import math
from typing import Any

import numba
import numpy as np

from thermionic.circuit.kernels.dense import factored, sensed, solve_factored, square
from thermionic.compiled import REAL, TRUTH, WHOLE, compiled, gives, ready, takes
from thermionic.devices.laws import begun, evaluate, limited

LOST, SETTLED, SINGULAR = 0, 1, 2


@compiled
def _stamp(matrix: Any, plus: int, minus: int, sense_plus: int, sense_minus: int, slope: float) -> None:
    """A current from ``plus`` to ``minus`` of ``slope`` by the voltage between the sensed unknowns; -1 is earth."""
    if plus >= 0:
        if sense_plus >= 0:
            matrix[plus, sense_plus] += slope
        if sense_minus >= 0:
            matrix[plus, sense_minus] -= slope
    if minus >= 0:
        if sense_plus >= 0:
            matrix[minus, sense_plus] -= slope
        if sense_minus >= 0:
            matrix[minus, sense_minus] += slope


@ready(numba.void(gives(REAL, 2), takes(WHOLE, 2), takes(WHOLE, 2), gives(REAL, 2)))
def add_slopes(matrix: Any, senses: Any, drives: Any, g: Any) -> None:
    """Add B g S^T, for slopes ``g`` (injects, ports) at pairs of unknowns, see ``newton``."""
    for port in range(len(senses)):
        sense_plus, sense_minus = senses[port]
        for inject in range(len(drives)):
            if g[inject, port] != 0.0:
                plus, minus = drives[inject]
                _stamp(matrix, plus, minus, sense_plus, sense_minus, g[inject, port])


@compiled
def _left_over(
    laws: Any, at: Any, numbers: Any, senses: Any, drives: Any, G: Any, b: Any, lift: float, across: float,
    x: Any, v: Any, i: Any, g: Any, residual: Any,
) -> None:  # fmt: skip
    """What the equations leave at x, with the sources at ``lift`` and ``across`` siemens over every port; the slopes
    to ``g``."""
    sensed(x, senses, v[0])
    for inject in range(len(drives)):
        i[0, inject] = 0.0
        for port in range(len(senses)):
            g[0, inject, port] = 0.0
    evaluate(laws, at, numbers, v, np.zeros(1), i, g)
    inside = np.dot(G, x)
    for one in range(len(x)):
        residual[one] = inside[one] - lift * b[one]
    for inject in range(len(drives)):
        plus, minus = drives[inject]
        if plus >= 0:
            residual[plus] += i[0, inject]
        if minus >= 0:
            residual[minus] -= i[0, inject]
    if across > 0.0:
        for port in range(len(senses)):
            plus, minus = senses[port]
            if plus >= 0:
                residual[plus] += across * v[0, port]
            if minus >= 0:
                residual[minus] -= across * v[0, port]


@ready((takes(WHOLE, 2), takes(REAL, 2), takes(REAL, 1), REAL, gives(REAL, 1)))
def cold(senses: Any, G: Any, b: Any, across: float, x: Any) -> bool:
    """The solution with ``across`` siemens for every port and nothing else to ``x``; False where there is none."""
    size = len(x)
    matrix, pivots = np.empty((size, size)), np.empty(size, dtype=np.int64)
    for row in range(size):
        x[row] = b[row]
        for column in range(size):
            matrix[row, column] = G[row, column]
    for port in range(len(senses)):
        plus, minus = senses[port]
        _stamp(matrix, plus, minus, plus, minus, across)
    factored(matrix, pivots)
    solve_factored(matrix, pivots, x)
    return bool(np.all(np.isfinite(x)))


@ready((
    takes(WHOLE, 1), takes(WHOLE, 2), takes(REAL, 2), takes(WHOLE, 2), takes(WHOLE, 2), takes(REAL, 2),
    takes(REAL, 1), REAL, REAL, gives(REAL, 1), WHOLE, REAL, REAL, REAL,
))  # fmt: skip
def newton(
    laws: Any, at: Any, numbers: Any, senses: Any, drives: Any, G: Any, b: Any, lift: float, across: float,
    x: Any, iterations: int, volt: float, relative: float, ampere: float,
) -> int:  # fmt: skip
    """Newton with backtracking for G x + B i(S^T x) = b, see operating_point: LOST, SETTLED or SINGULAR.

    ``senses`` (ports, 2) and ``drives`` (injects, 2) are the unknowns at the plus and minus ends, -1 for earth. ``x``
    is where to start and where it ended. Steps are settled within ``volt`` and ``relative``, the residual within
    ``ampere``.
    """
    size, ports, injects = len(x), len(senses), len(drives)
    v, i, g = np.empty((1, ports)), np.empty((1, injects)), np.empty((1, injects, ports))
    residual, new, step = np.empty(size), np.empty(size), np.empty(size)
    trial, judged = np.empty(size), np.empty(size)
    matrix, pivots = np.empty((size, size)), np.empty(size, dtype=np.int64)
    _left_over(laws, at, numbers, senses, drives, G, b, lift, across, x, v, i, g, residual)
    for _ in range(iterations):
        for row in range(size):
            for column in range(size):
                matrix[row, column] = G[row, column]
        add_slopes(matrix, senses, drives, g[0])
        if across > 0.0:
            for port in range(ports):
                plus, minus = senses[port]
                _stamp(matrix, plus, minus, plus, minus, across)
        factored(matrix, pivots)
        for one in range(size):
            step[one] = -residual[one]
        solve_factored(matrix, pivots, step)
        for one in range(size):
            if not math.isfinite(step[one]):
                return SINGULAR
        before, length = math.sqrt(square(residual)), math.sqrt(square(step))
        fraction = 1.0
        while True:
            for one in range(size):
                trial[one] = x[one] + fraction * step[one]
            _left_over(laws, at, numbers, senses, drives, G, b, lift, across, trial, v, i, g, new)
            after = math.sqrt(square(new))
            enough = 1.0 - 1e-4 * fraction
            if math.isfinite(after):
                if after <= enough * before:
                    break
                for one in range(size):
                    judged[one] = new[one]
                solve_factored(matrix, pivots, judged)
                if math.sqrt(square(judged)) <= enough * length:
                    break
            if fraction < 1e-3:
                break
            fraction *= 0.5
        if not math.isfinite(after):
            return LOST
        settled, largest, most = True, 0.0, 1.0
        for one in range(size):
            settled = settled and abs(fraction * step[one]) <= volt + relative * abs(trial[one])
            x[one], residual[one] = trial[one], new[one]
            largest, most = max(largest, abs(new[one])), max(most, abs(x[one]))
        if settled and largest < ampere * most:
            return SETTLED
    return LOST


_CONTRACTS = 0.1  # a step over the one before, from which on Newton is taken to converge by squares
_FORESEEN = 0.01  # of the residual that is allowed, where the last step is not taken


@ready((
    takes(WHOLE, 1), takes(WHOLE, 2), takes(REAL, 2), takes(WHOLE, 2), takes(WHOLE, 2), takes(REAL, 2),
    takes(REAL, 1), TRUTH, gives(REAL, 1), WHOLE, REAL, REAL, REAL,
))  # fmt: skip
def newton_of_limited(
    laws: Any, at: Any, numbers: Any, senses: Any, drives: Any, G: Any, b: Any, begin: bool, x: Any, iterations: int,
    volt: float, relative: float, ampere: float,
) -> bool:  # fmt: skip
    """Newton for G x + B i(S^T x) = b with whole steps, each law taken where ``devices.limits`` lets it be; whether
    it settled. For the rest see ``newton``.

    ``begin`` puts the laws where they begin best, else they are taken at ``x``. It ends where the next step, after
    what the last two show, would be within the bounds.
    """
    size, ports, injects = len(x), len(senses), len(drives)
    v, new_v, free = np.empty((1, ports)), np.empty(ports), np.empty(ports)
    i, g = np.empty((1, injects)), np.empty((1, injects, ports))
    new, residual = np.empty(size), np.empty(size)
    matrix, pivots = np.empty((size, size)), np.empty(size, dtype=np.int64)
    sensed(x, senses, v[0])
    if begin:
        begun(laws, at, numbers[0], v[0])
    before = 0.0  # none yet
    for _ in range(iterations):
        i[:], g[:] = 0.0, 0.0
        evaluate(laws, at, numbers, v, np.zeros(1), i, g)
        for row in range(size):
            new[row] = b[row]
            for column in range(size):
                matrix[row, column] = G[row, column]
        add_slopes(matrix, senses, drives, g[0])
        for inject in range(injects):
            ahead = i[0, inject]
            for port in range(ports):
                ahead -= g[0, inject, port] * v[0, port]
            plus, minus = drives[inject]
            if plus >= 0:
                new[plus] -= ahead
            if minus >= 0:
                new[minus] += ahead
        factored(matrix, pivots)
        solve_factored(matrix, pivots, new)
        step = 0.0
        for one in range(size):
            if not math.isfinite(new[one]):
                return False
            step = max(step, abs(new[one] - x[one]) / (volt + relative * abs(new[one])))
            x[one] = new[one]
        sensed(x, senses, free)
        held = False
        for port in range(ports):
            new_v[port] = free[port]
        limited(laws, at, numbers[0], new_v, v[0])
        for port in range(ports):
            held = held or new_v[port] != free[port]
            v[0, port] = new_v[port]
        if held:
            before = 0.0  # none yet
            continue
        if step <= 1.0 or (step < _CONTRACTS * before and step * step <= before):
            _left_over(laws, at, numbers, senses, drives, G, b, 1.0, 0.0, x, v, i, g, residual)
            largest, most = 0.0, 1.0
            for one in range(size):
                largest, most = max(largest, abs(residual[one])), max(most, abs(x[one]))
            if largest < (1.0 if step <= 1.0 else _FORESEEN) * ampere * most:
                return True
        before = step
    return False
