"""The DC operating point: damped Newton, with continuation where Newton alone fails."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from thermionic import budget
from thermionic.circuit.kernels.newton import (
    SETTLED,
    SINGULAR,
    Continuation,
    Tolerances,
    cold,
    newton,
    newton_of_limited,
)
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.system import LARGE, System
from thermionic.devices.base import Array
from thermionic.errors import BudgetSpent, NoSolution
from thermionic.lazily import lazily

_ITERATIONS = 60
_WHOLE_STEPS = 30
_TOLERANCES = Tolerances(volt=1e-9, relative=1e-9, ampere=1e-10)
_CHANGES_OF_STATE = 20
_COLD = 1e-5  # siemens


@dataclass(frozen=True)
class PartState:
    """A part at the operating point: current into its first terminal (A), voltage from the first terminal to
    the second (V), and the power it turns into heat (W; negative for a source that delivers)."""

    current: float
    voltage: float
    dissipation: float


@dataclass(frozen=True, eq=False)
class Solution:
    """Solved DC states: ``x`` over the system's unknowns, (size,), or (variants, size); what follows has the
    variants first, too."""

    system: System
    x: Array

    @lazily
    def terminal_currents(self) -> dict[str, Array]:
        """Current into each terminal of each part, A."""
        return self.system.terminal_currents(self.x)

    @lazily
    def port_slopes(self) -> Array:
        """Derivatives of the injected currents by the sensed voltages here, S, (injects, ports)."""
        v = self.system.sensed(self.x) if self.x.ndim == 1 else self.x @ self.system.S
        return self.system.currents(v)[1]

    @lazily
    def slopes(self) -> Array:
        """The Jacobian G + B g S^T here, (size, size)."""
        return self.system.jacobian(self.port_slopes)


@dataclass(frozen=True, eq=False)
class OperatingPoint(Solution):
    """A solved DC state of one circuit."""

    def voltage(self, node: str) -> float:
        """A node's voltage to earth, V."""
        return 0.0 if node == GROUND else float(self.x[self.system.node(node)])

    @lazily
    def parts(self) -> dict[str, PartState]:
        """Current, voltage and dissipation of every part."""
        states = {}
        for part in self.system.netlist.parts:
            flow = self.terminal_currents[part.name]
            volts = [self.voltage(node) for node in part.nodes]
            states[part.name] = PartState(
                current=float(flow[0]),
                voltage=volts[0] - volts[1],
                dissipation=float(np.dot(flow, volts)),
            )
        return states


def operating_point(system: System, start: Array | None = None) -> OperatingPoint:
    """Solve G x + B i(S^T x) = b_dc.

    From ``start`` if given, else from the solution with a resistance for every nonlinear port. Where Newton in whole
    steps fails, it is tried with backtracking; then the sources are raised from zero, then a shrinking conductance is
    laid across every port.
    Devices that have states (a gas tube, a fuse) are put in the one that the solution leads to, and it is solved
    again until they stay. Raises NoSolution, saying what was tried and which node would not settle; BudgetSpent.
    """
    if system.variants is not None:
        raise ValueError("an array of variants is solved by circuit.variants")
    with budget.at_most():
        seen: list[System] = []
        for _ in range(_CHANGES_OF_STATE):
            x = _solve(system, start)
            if not system.with_states:
                return OperatingPoint(system, x)
            v = x @ system.S
            # Only one device changes its state at a time: a string of gas tubes strikes one after the other.
            changed = next(
                (
                    with_state
                    for with_state in system.with_states
                    if with_state.part.device.after(v[with_state.ports]) is not with_state.part.device
                ),
                None,
            )
            if changed is None:
                return OperatingPoint(system, x)
            seen.append(system)
            name = changed.part.name
            system = system.revised(
                lambda place, name=name, v=v: (  # type: ignore[misc]
                    place.part.device.after(v[place.ports]) if place.part.name == name else place.part.device
                )
            )
            start = x
    raise NoSolution(
        f"{system.netlist.title}: {name} has no steady state; it would go on and off for ever.",
        tried=("each state in turn",),
        where=name,
    )


def _solve(system: System, start: Array | None) -> Array:
    if not system.ports:
        return system.solve(system.G, system.b_dc)
    tried: list[str] = []
    x = np.zeros(system.size)
    singular: NoSolution | None = None
    for name, attempt in _ways(system, start):
        try:
            x, converged = attempt()
        except BudgetSpent:
            raise
        except NoSolution as refusal:
            # Either the circuit leaves something open, and every way will find so, or only where this one went does.
            singular, converged = singular or refusal, False
        else:
            singular = None
        if converged:
            return x
        tried.append(name)
    if singular is not None:
        raise singular
    worst = int(np.argmax(np.abs(_residual(system, x, 1.0, 0.0)[0])))
    where = system.describe(worst)
    raise NoSolution(
        f"{system.netlist.title} has no operating point that could be found: {where} would not settle. "
        f"Tried: {'; '.join(tried)}.",
        tried=tuple(tried),
        where=where,
    )


def _ways(system: System, start: Array | None) -> Iterator[tuple[str, Callable[[], tuple[Array, bool]]]]:
    """How it is tried, in turn: in words, and what gives the last iterate and whether it converged."""
    if start is not None and len(start) == system.size:
        yield "Newton from the last solution", lambda: _newton(system, start, False)
    yield "Newton from the circuit with a resistance for every tube", lambda: _newton(system, _cold(system), True)
    if system.size < LARGE:  # which is how large ones are solved in any case
        yield "Newton with backtracking", lambda: _backtracking(system, _cold(system))
    yield "raising the supplies from zero", lambda: _raise_sources(system)
    yield "a shrinking conductance across every tube", lambda: _shrink_conductance(system)
    yield "following the circuit in a time of its own", lambda: _pseudo_transient(system)


def _cold(system: System) -> Array:
    """Where to start from nothing: every port the 100 kΩ or so that a tube is, which halves the steps."""
    if system.size >= LARGE:
        return system.factored(np.zeros((len(system.drives), system.ports)), _COLD)(system.b_dc)
    x = np.empty(system.size)
    if cold(system.senses, np.ascontiguousarray(system.G), np.ascontiguousarray(system.b_dc), _COLD, x):
        return x
    return system.solve(system.G + _COLD * system.S @ system.S.T, system.b_dc)


def _residual(system: System, x: Array, lift: float, across: float) -> tuple[Array, Array]:
    """Residual, and the slopes at the ports, with the sources at ``lift`` and ``across`` siemens over every port."""
    v = system.sensed(x)
    i, g = system.currents(v)
    residual = system.G @ x + system.injected(i) - lift * system.b_dc
    if across:
        residual = residual + across * (system.S @ v)
    return residual, g


def _newton(system: System, x: Array, begin: bool) -> tuple[Array, bool]:
    """Newton in whole steps, the voltages of junctions limited; see its kernel, which is for all but large circuits.
    Returns the last iterate and whether it converged."""
    if system.size >= LARGE:
        return _backtracking(system, x)
    budget.check(f"looking for the operating point of {system.netlist.title}")
    x = np.array(x, dtype=float)
    return x, bool(newton_of_limited(system.equations(), begin, x, _WHOLE_STEPS, _TOLERANCES))


def _backtracking(system: System, x: Array, lift: float = 1.0, across: float = 0.0) -> tuple[Array, bool]:
    """Newton with backtracking. Returns the last iterate and whether it converged.

    A step is shortened until the residual falls, or until what Newton's matrix makes of the residual there is less
    than the step, which is blind to how the equations are scaled: P. Deuflhard, "A modified Newton method for the
    solution of ill-conditioned systems of nonlinear equations", Numerische Mathematik 22 (1974), p. 289. Either alone
    takes up to four times the steps on some circuit.
    """
    if system.size < LARGE:
        budget.check(f"looking for the operating point of {system.netlist.title}")
        x = np.array(x, dtype=float)
        state = newton(system.equations(), Continuation(float(lift), float(across)), x, _ITERATIONS, _TOLERANCES)
        if state == SINGULAR:
            residual, g = _residual(system, x, lift, across)
            system.factored(g, across)(residual)  # says what is left open
        return x, state == SETTLED
    residual, g = _residual(system, x, lift, across)
    for _ in range(_ITERATIONS):
        budget.check(f"looking for the operating point of {system.netlist.title}")
        solve = system.factored(g, across)
        step = -solve(residual)
        fraction = 1.0
        while True:
            trial = x + fraction * step
            new, g = _residual(system, trial, lift, across)
            finite = bool(np.all(np.isfinite(new)))
            enough = 1.0 - 1e-4 * fraction
            if finite and (
                np.linalg.norm(new) <= enough * np.linalg.norm(residual)
                or np.linalg.norm(solve(new)) <= enough * np.linalg.norm(step)
            ):
                break
            if fraction < 1e-3:
                break
            fraction *= 0.5
        if not finite:
            return x, False
        small = np.all(np.abs(fraction * step) <= _TOLERANCES.volt + _TOLERANCES.relative * np.abs(trial))
        x, residual = trial, new
        if small and np.max(np.abs(residual)) < _TOLERANCES.ampere * max(1.0, float(np.max(np.abs(x)))):
            return x, True
    return x, False


def _raise_sources(system: System) -> tuple[Array, bool]:
    x, lift, rise = np.zeros(system.size), 0.0, 0.1
    while lift < 1.0:
        target = min(1.0, lift + rise)
        trial, converged = _backtracking(system, x, lift=target)
        if converged:
            x, lift, rise = trial, target, rise * 1.5
        elif rise < 1e-4:
            return trial, False
        else:
            rise *= 0.25
    return x, True


def _shrink_conductance(system: System) -> tuple[Array, bool]:
    x, converged = _cold(system), False
    for across in (*np.logspace(-1, -12, 23), 0.0):
        x, converged = _backtracking(system, x, across=float(across))
        if not converged:
            return x, False
    return x, converged


def _pseudo_transient(system: System) -> tuple[Array, bool]:
    """Every unknown given a capacity and let settle: C. T. Kelley and D. E. Keyes, "Convergence analysis of
    pseudo-transient continuation", SIAM J. Numer. Anal. 35 (1998), p. 508."""
    x = np.zeros(system.size)
    nodes = np.zeros(system.size)
    nodes[: len(system.nodes)] = 1.0
    capacity = 1e-3
    residual, g = _residual(system, x, 1.0, 0.0)
    for _ in range(400):
        budget.check(f"looking for the operating point of {system.netlist.title}")
        size = float(np.linalg.norm(residual))
        step = -system.solve(system.jacobian(g) + np.diag(capacity * nodes), residual)
        step *= min(1.0, 50.0 / max(float(np.max(np.abs(step))), 1e-12))
        new, new_g = _residual(system, x + step, 1.0, 0.0)
        ratio = float(np.linalg.norm(new)) / max(size, 1e-300)
        if not np.isfinite(ratio) or ratio > 3.0:
            capacity *= 8.0
            if capacity > 1e9:
                break
            continue
        x, residual, g = x + step, new, new_g
        capacity *= min(max(ratio, 0.3), 1.5)
        if capacity < 1e-9 or ratio < 1e-3:
            result, converged = _backtracking(system, x)
            if converged:
                return result, True
    return _backtracking(system, x)
