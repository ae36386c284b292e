"""Newton for the operating point; see operating_point and docs/solver.md."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numba
import numpy as np

from thermionic.circuit.kernels.convergence import curvature, will_settle
from thermionic.circuit.kernels.dense import factored, sensed, solve_factored, square
from thermionic.compiled import REAL, TRUTH, WHOLE, compiled, gives, ready, takes, together
from thermionic.devices.laws import begun, evaluate, limited

LOST, SETTLED, SINGULAR = 0, 1, 2
_LEAST_FRACTION = 1e-3  # of a step, below which it is not shortened further
_DESCENT = 1e-4  # of the fraction, by which a shortened step must at least bring it nearer (Armijo's condition)
_FORESEEN = 0.01  # of the residual that is allowed, where the last step is not taken


class Equations(NamedTuple):
    """G x + B i(S^T x) = b.

    ``laws``, ``at`` and ``numbers`` are the devices', see laws.evaluate; ``senses`` (ports, 2) and ``drives``
    (injects, 2) the unknowns at the plus and minus ends of ports and injected currents, -1 for earth; ``G`` (size,
    size) and ``b`` (size,).
    """

    laws: Any
    at: Any
    numbers: Any
    senses: Any
    drives: Any
    G: Any
    b: Any


class Tolerances(NamedTuple):
    """A step is settled within ``volt`` and ``relative``, the residual within ``ampere``."""

    volt: float
    relative: float
    ampere: float


class Continuation(NamedTuple):
    """An easier problem on the way: the sources at ``lift`` of theirs, ``across`` siemens over every port."""

    lift: float
    across: float


class _Devices(NamedTuple):
    """What the devices do at an iterate: ``v`` (1, ports), ``i`` (1, injects), ``g`` (1, injects, ports)."""

    v: Any
    i: Any
    g: Any


_EQUATIONS = together(
    Equations, gives(WHOLE, 1), gives(WHOLE, 2), gives(REAL, 2), gives(WHOLE, 2), gives(WHOLE, 2), gives(REAL, 2),
    gives(REAL, 1),
)  # fmt: skip
_TOLERANCES = together(Tolerances, REAL, REAL, REAL)
_CONTINUATION = together(Continuation, REAL, REAL)


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
    """Add B g S^T, for slopes ``g`` (injects, ports) at pairs of unknowns, see ``Equations``."""
    for port in range(len(senses)):
        sense_plus, sense_minus = senses[port]
        for inject in range(len(drives)):
            if g[inject, port] != 0.0:
                plus, minus = drives[inject]
                _stamp(matrix, plus, minus, sense_plus, sense_minus, g[inject, port])


@compiled
def _evaluated(equations: Any, devices: Any) -> None:
    """The devices' currents and slopes at their voltages."""
    devices.i[:], devices.g[:] = 0.0, 0.0
    evaluate(equations.laws, equations.at, equations.numbers, devices.v, np.zeros(1), devices.i, devices.g)


@compiled
def _residual(equations: Any, problem: Any, x: Any, devices: Any, residual: Any) -> None:
    """G x + B i(S^T x) - b of the problem at x to ``residual``; what the devices do there to ``devices``."""
    senses, drives = equations.senses, equations.drives
    sensed(x, senses, devices.v[0])
    _evaluated(equations, devices)
    inside = np.dot(equations.G, x)
    for row in range(len(x)):
        residual[row] = inside[row] - problem.lift * equations.b[row]
    for inject in range(len(drives)):
        plus, minus = drives[inject]
        if plus >= 0:
            residual[plus] += devices.i[0, inject]
        if minus >= 0:
            residual[minus] -= devices.i[0, inject]
    if problem.across > 0.0:
        for port in range(len(senses)):
            plus, minus = senses[port]
            if plus >= 0:
                residual[plus] += problem.across * devices.v[0, port]
            if minus >= 0:
                residual[minus] -= problem.across * devices.v[0, port]


@compiled
def _jacobian(equations: Any, across: float, g: Any, matrix: Any) -> None:
    """G + B g S^T, with ``across`` siemens over every port, to ``matrix``."""
    for row in range(len(matrix)):
        for column in range(len(matrix)):
            matrix[row, column] = equations.G[row, column]
    add_slopes(matrix, equations.senses, equations.drives, g)
    if across > 0.0:
        for port in range(len(equations.senses)):
            plus, minus = equations.senses[port]
            _stamp(matrix, plus, minus, plus, minus, across)


@compiled
def _room(equations: Any, size: int) -> Any:
    """Arrays for what the devices do, a matrix and its pivots."""
    ports, injects = len(equations.senses), len(equations.drives)
    devices = _Devices(np.empty((1, ports)), np.empty((1, injects)), np.empty((1, injects, ports)))
    return devices, np.empty((size, size)), np.empty(size, dtype=np.int64)


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


@ready((_EQUATIONS, _CONTINUATION, gives(REAL, 1), WHOLE, _TOLERANCES))
def newton(equations: Any, problem: Any, x: Any, iterations: int, tolerances: Any) -> int:
    """Newton with backtracking, see operating_point: LOST, SETTLED or SINGULAR. ``x`` is where to start and where it
    ended."""
    size = len(x)
    devices, matrix, pivots = _room(equations, size)
    residual, new, step = np.empty(size), np.empty(size), np.empty(size)
    trial, judged = np.empty(size), np.empty(size)
    _residual(equations, problem, x, devices, residual)
    for _ in range(iterations):
        _jacobian(equations, problem.across, devices.g[0], matrix)
        factored(matrix, pivots)
        for row in range(size):
            step[row] = -residual[row]
        solve_factored(matrix, pivots, step)
        if not np.all(np.isfinite(step)):
            return SINGULAR
        before, length = math.sqrt(square(residual)), math.sqrt(square(step))
        fraction = 1.0
        while True:
            for row in range(size):
                trial[row] = x[row] + fraction * step[row]
            _residual(equations, problem, trial, devices, new)
            after = math.sqrt(square(new))
            enough = 1.0 - _DESCENT * fraction
            if math.isfinite(after):
                if after <= enough * before:
                    break
                judged[:] = new
                solve_factored(matrix, pivots, judged)
                if math.sqrt(square(judged)) <= enough * length:
                    break
            if fraction < _LEAST_FRACTION:
                break
            fraction *= 0.5
        if not math.isfinite(after):
            return LOST
        settled = True
        for row in range(size):
            allowed = tolerances.volt + tolerances.relative * abs(trial[row])
            settled = settled and abs(fraction * step[row]) <= allowed
            x[row], residual[row] = trial[row], new[row]
        if settled and _is_balanced(x, residual, tolerances.ampere):
            return SETTLED
    return LOST


@compiled
def _is_balanced(x: Any, residual: Any, ampere: float) -> bool:
    """Whether the residual is within ``ampere``, or that part of the largest unknown past 1."""
    largest, most = 0.0, 1.0
    for row in range(len(x)):
        largest, most = max(largest, abs(residual[row])), max(most, abs(x[row]))
    return largest < ampere * most


@compiled
def _advance(new: Any, x: Any, tolerances: Any) -> float:
    """Put ``new`` in the place of x; the step over what is allowed, infinite where ``new`` is no number."""
    step = 0.0
    for row in range(len(x)):
        if not math.isfinite(new[row]):
            return math.inf
        allowed = tolerances.volt + tolerances.relative * abs(new[row])
        step = max(step, abs(new[row] - x[row]) / allowed)
        x[row] = new[row]
    return step


@compiled
def _limit_ports(equations: Any, x: Any, v: Any, free: Any, new_v: Any) -> bool:
    """Move the ports' voltages ``v`` towards those at x, as far as the laws let them; whether any was held back."""
    sensed(x, equations.senses, free)
    new_v[:] = free
    limited(equations.laws, equations.at, equations.numbers[0], new_v, v)
    held = False
    for port in range(len(v)):
        held = held or new_v[port] != free[port]
        v[port] = new_v[port]
    return held


@ready((_EQUATIONS, TRUTH, gives(REAL, 1), WHOLE, _TOLERANCES))
def newton_of_limited(equations: Any, begin: bool, x: Any, iterations: int, tolerances: Any) -> bool:
    """Newton with whole steps, each law taken where its limit lets it be (see laws.limited); whether it settled.

    ``begin`` puts the laws where they begin best, else they are taken at ``x``. It ends where the next step, after
    what the last two show, would be within what is allowed.
    """
    size, ports, drives = len(x), len(equations.senses), equations.drives
    devices, matrix, pivots = _room(equations, size)
    whole = Continuation(1.0, 0.0)
    free, new_v, new, residual = np.empty(ports), np.empty(ports), np.empty(size), np.empty(size)
    v, i, g = devices.v, devices.i, devices.g
    sensed(x, equations.senses, v[0])
    if begin:
        begun(equations.laws, equations.at, equations.numbers[0], v[0])
    before = 0.0  # none yet
    for _ in range(iterations):
        _evaluated(equations, devices)
        _jacobian(equations, 0.0, g[0], matrix)
        new[:] = equations.b
        for inject in range(len(drives)):
            offset = i[0, inject]
            for port in range(ports):
                offset -= g[0, inject, port] * v[0, port]
            plus, minus = drives[inject]
            if plus >= 0:
                new[plus] -= offset
            if minus >= 0:
                new[minus] += offset
        factored(matrix, pivots)
        solve_factored(matrix, pivots, new)
        step = _advance(new, x, tolerances)
        if not math.isfinite(step):
            return False
        if _limit_ports(equations, x, v[0], free, new_v):
            before = 0.0
            continue
        if will_settle(step, curvature(step, before)):
            _residual(equations, whole, x, devices, residual)
            if _is_balanced(x, residual, tolerances.ampere if step <= 1.0 else _FORESEEN * tolerances.ampere):
                return True
        before = step
    return False
