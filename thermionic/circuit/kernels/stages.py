"""The implicit equations of a stage of a transient's step; see steps and docs/solver.md.

Every stage is C x / (gamma/2 h) + G x + B i(S^T x) = rhs. The linear part, with small reference slopes at the
devices' ports, is inverted once for each length of step; Newton's method then iterates the ports' voltages alone:

    v = S^T x0 - Z (i(v) - reference v),    x = x0 - R (i(v) - reference v)

with x0 the solution without the devices, R (reach) the inverse times B, and Z (impedance) R at the ports.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from thermionic.circuit.kernels.convergence import will_settle
from thermionic.circuit.kernels.dense import factored, sensed, solve_factored
from thermionic.compiled import compiled
from thermionic.devices.laws import evaluate

GAMMA = 2.0 - math.sqrt(2.0)  # the first stage's part of a step, with which both stages have one matrix
HALF = 0.5 * GAMMA
_NEWTON = 12  # iterations; a step that needs more is shortened
_VOLT, _RELATIVE = 1e-6, 1e-6  # what Newton's last step may be at a port
_LEAP = 1.0  # V; a longer step of a port is taken only as far as it brings the equations nearer
_LEAST_FRACTION = 1e-3  # of a step, below which it is not shortened further
# Up to so many ports a plain elimination is quicker than a library's, which has to be called (measured).
_FEW = 40


class Circuit(NamedTuple):
    """What a run is of.

    ``laws``, ``at`` and ``numbers`` are the devices', see laws.evaluate; ``senses`` (ports, 2) the unknowns at the
    ports' ends; ``own`` (ports, 2) from where to where the injects of each port's device are; ``reference`` (injects,
    ports) the slopes counted with the linear part; ``B`` (size, injects) and ``S`` (size, ports); ``base`` (size,
    size) G with those slopes; ``farads`` C's entries at rows and columns ``stores`` (entries, 2).
    """

    laws: Any
    at: Any
    numbers: Any
    senses: Any
    own: Any
    reference: Any
    B: Any
    S: Any
    base: Any
    stores: Any
    farads: Any


class Factors(NamedTuple):
    """For one length of step: ``inverse`` (size, size), ``reach`` (size, injects), ``impedance`` (injects, ports)."""

    inverse: Any
    reach: Any
    impedance: Any


class _Ports(NamedTuple):
    """The ports during an iteration: ``v`` (1, ports), currents ``i`` (1, injects) and slopes ``g`` (1, injects,
    ports), and ``beyond`` (injects,) what the currents are beyond those of the reference slopes."""

    v: Any
    i: Any
    g: Any
    beyond: Any


@compiled
def storage_of(circuit: Any, x: Any) -> Any:
    """C x."""
    stored = np.zeros(len(x))
    for entry in range(len(circuit.farads)):
        stored[circuit.stores[entry, 0]] += circuit.farads[entry] * x[circuit.stores[entry, 1]]
    return stored


@compiled
def factor(circuit: Any, h: float, factors: Any) -> None:
    """Fill ``factors`` for a step h: the inverse of C / (gamma/2 h) + base, and it at the ports.

    Farads over microseconds stand beside the leak of a floating node: rows and columns are scaled to like size.
    """
    inverse, size = factors.inverse, len(circuit.base)
    rows, columns = np.zeros(size), np.zeros(size)
    inverse[:, :] = circuit.base
    for entry in range(len(circuit.farads)):
        inverse[circuit.stores[entry, 0], circuit.stores[entry, 1]] += circuit.farads[entry] / (HALF * h)
    for row in range(size):
        for column in range(size):
            rows[row] = max(rows[row], abs(inverse[row, column]))
    for row in range(size):
        for column in range(size):
            inverse[row, column] /= rows[row]
            columns[column] = max(columns[column], abs(inverse[row, column]))
    for row in range(size):
        for column in range(size):
            inverse[row, column] /= columns[column]
    scaled = np.linalg.inv(inverse)
    for row in range(size):
        for column in range(size):
            inverse[row, column] = scaled[row, column] / (columns[row] * rows[column])
    factors.reach[:, :] = np.dot(inverse, circuit.B)
    factors.impedance[:, :] = np.dot(factors.reach.T, circuit.S)


@compiled
def _evaluate_beyond(circuit: Any, ports: Any) -> None:
    """What the devices' currents are beyond those of the reference slopes, and by how much their slopes are."""
    own, reference, v, i, g = circuit.own, circuit.reference, ports.v, ports.i, ports.g
    for port in range(len(own)):
        for inject in range(own[port, 0], own[port, 1]):
            i[0, inject] = 0.0
            g[0, inject, port] = 0.0
    evaluate(circuit.laws, circuit.at, circuit.numbers, v, np.zeros(1), i, g)
    for inject in range(len(ports.beyond)):
        ports.beyond[inject] = i[0, inject]
    for port in range(len(own)):
        for inject in range(own[port, 0], own[port, 1]):
            ports.beyond[inject] -= reference[inject, port] * v[0, port]
            g[0, inject, port] -= reference[inject, port]


@compiled
def _port_matrix(impedance: Any, g: Any, own: Any, transposed: Any, matrix: Any) -> None:
    """I + Z g to ``matrix`` (ports, ports), for slopes ``g`` (injects, ports) that each device has by its own ports
    alone. ``impedance`` (injects, ports) has a row for each inject, so the matrix is made by columns, in
    ``transposed``."""
    ports = len(matrix)
    for port in range(ports):
        for row in range(ports):
            transposed[port, row] = 0.0
        transposed[port, port] = 1.0
        for inject in range(own[port, 0], own[port, 1]):
            slope = g[inject, port]
            for row in range(ports):
                transposed[port, row] += slope * impedance[inject, row]
    for row in range(ports):
        for port in range(ports):
            matrix[row, port] = transposed[port, row]


@compiled
def _shortened(circuit: Any, impedance: Any, open_volts: Any, step: Any, ports: Any, trial: Any) -> float:
    """The part of ``step`` after which the ports' equations are left with less than now, halved until then: ports are
    kept from leaping further than the exponential of a junction can stand."""
    count = len(step)
    dropped = np.dot(ports.beyond, impedance)
    worst = 0.0
    for port in range(count):
        worst += (open_volts[port] - ports.v[0, port] - dropped[port]) ** 2
    fraction = 1.0
    while fraction > _LEAST_FRACTION:
        for port in range(count):
            trial.v[0, port] = ports.v[0, port] + fraction * step[port]
        _evaluate_beyond(circuit, trial)
        dropped = np.dot(trial.beyond, impedance)
        total = 0.0
        for port in range(count):
            total += (trial.v[0, port] - open_volts[port] + dropped[port]) ** 2
        if total < worst:
            break
        fraction *= 0.5
    return fraction


@compiled
def _moved_ports(ports: Any, step: Any, fraction: float) -> float:
    """Move the ports by the fraction of a step; the largest move over what is allowed."""
    size_of_step = 0.0
    for port in range(len(step)):
        ports.v[0, port] += fraction * step[port]
        size_of_step = max(size_of_step, abs(step[port]) / (_VOLT + _RELATIVE * abs(ports.v[0, port])))
    return size_of_step


@compiled
def _room(ports: int, injects: int) -> Any:
    return _Ports(np.empty((1, ports)), np.empty((1, injects)), np.zeros((1, injects, ports)), np.empty(injects))


@compiled
def solve_stage(circuit: Any, factors: Any, curved: Any, rhs: Any, guess: Any, out: Any) -> bool:
    """Solve a stage from port voltages near those of ``guess``: x to ``out``; whether it could be solved.

    ``curved`` (1,) is the curvature that Newton's method has shown in this run, see convergence; renewed here.
    """
    impedance, own = factors.impedance, circuit.own
    size, count, injects = len(rhs), len(own), len(circuit.reference)
    alone = np.dot(factors.inverse, rhs)
    if count == 0:
        out[:] = alone
        return True
    open_volts, step, ports, trial = np.empty(count), np.empty(count), _room(count, injects), _room(count, injects)
    matrix, transposed = np.empty((count, count)), np.empty((count, count))
    pivots = np.empty(count, dtype=np.int64)
    sensed(alone, circuit.senses, open_volts)
    sensed(guess, circuit.senses, ports.v[0])
    before = 0.0
    for _ in range(_NEWTON):
        _evaluate_beyond(circuit, ports)
        dropped = np.dot(ports.beyond, impedance)
        _port_matrix(impedance, ports.g[0], own, transposed, matrix)
        for port in range(count):
            step[port] = open_volts[port] - ports.v[0, port] - dropped[port]
        if count <= _FEW:
            factored(matrix, pivots)
            solve_factored(matrix, pivots, step)
        else:
            step[:] = np.linalg.solve(matrix, step)
        largest = 0.0
        for port in range(count):
            if not math.isfinite(step[port]):
                return False
            largest = max(largest, abs(step[port]))
        fraction = 1.0
        if largest > _LEAP:
            fraction = _shortened(circuit, impedance, open_volts, step, ports, trial)
        size_of_step = _moved_ports(ports, step, fraction)
        if fraction < 1.0:
            before = 0.0
            continue
        if before > 0.0:
            shown = size_of_step / before**2
            curved[0] = max(shown, 0.5 * curved[0]) if curved[0] < np.inf else shown
        before = size_of_step
        if will_settle(size_of_step, curved[0]):
            for port in range(count):
                for inject in range(own[port, 0], own[port, 1]):
                    ports.beyond[inject] += ports.g[0, inject, port] * step[port]
            shift = np.dot(factors.reach, ports.beyond)
            for row in range(size):
                out[row] = alone[row] - shift[row]
                if not math.isfinite(out[row]):
                    return False
            return True
    return False
