"""The DC operating point: damped Newton, with continuation where Newton alone fails."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from thermionic.circuit.netlist import GROUND
from thermionic.circuit.system import System
from thermionic.devices.base import Array
from thermionic.errors import NoSolution

_ITERATIONS = 60
_VOLT, _RELATIVE, _AMPERE = 1e-9, 1e-9, 1e-10


@dataclass(frozen=True)
class PartState:
    """A part at the operating point: current into its first terminal (A), voltage from the first terminal to
    the second (V), and the power it turns into heat (W; negative for a source that delivers)."""

    current: float
    voltage: float
    dissipation: float


@dataclass(frozen=True, eq=False)
class OperatingPoint:
    """A solved DC state: ``x`` over the system's unknowns."""

    system: System
    x: Array

    def voltage(self, node: str) -> float:
        """A node's voltage to earth, V."""
        return 0.0 if node == GROUND else float(self.x[self.system.node(node)])

    @cached_property
    def terminal_currents(self) -> dict[str, Array]:
        """Current into each terminal of each part, A."""
        return self.system.terminal_currents(self.x)

    @cached_property
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

    @cached_property
    def port_slopes(self) -> Array:
        """Derivatives of the port currents at this point, S, shape (ports, ports)."""
        _, g = self.system.currents(self.system.A.T @ self.x)
        return g

    @cached_property
    def slopes(self) -> Array:
        """The Jacobian G + A g A^T at this point, shape (size, size)."""
        system = self.system
        return system.G + system.A @ self.port_slopes @ system.A.T


def operating_point(system: System, start: Array | None = None) -> OperatingPoint:
    """Solve G x + A i(A^T x) = b_dc.

    From ``start`` if given, else from the solution without the nonlinear devices. Where plain damped Newton
    fails, the sources are raised from zero, then a shrinking conductance is laid across every port.
    Raises NoSolution, saying what was tried and which node would not settle.
    """
    if not system.ports:
        return OperatingPoint(system, system.solve(system.G, system.b_dc))
    attempts: list[tuple[str, Callable[[], tuple[Array, bool]]]] = [
        ("Newton from the circuit without its tubes", lambda: _newton(system, _cold(system))),
        ("raising the supplies from zero", lambda: _raise_sources(system)),
        ("a shrinking conductance across every tube", lambda: _shrink_conductance(system)),
    ]
    if start is not None:
        attempts.insert(0, ("Newton from the last solution", lambda: _newton(system, start)))
    tried: list[str] = []
    x = np.zeros(system.size)
    for name, attempt in attempts:
        x, converged = attempt()
        if converged:
            return OperatingPoint(system, x)
        tried.append(name)
    worst = int(np.argmax(np.abs(_residual(system, x, 1.0, 0.0)[0])))
    where = system.describe(worst)
    raise NoSolution(
        f"{system.netlist.title} has no operating point that could be found: {where} would not settle. "
        f"Tried: {'; '.join(tried)}.",
        tried=tuple(tried),
        where=where,
    )


def _cold(system: System) -> Array:
    return system.solve(system.G + 1e-9 * system.A @ system.A.T, system.b_dc)


def _residual(system: System, x: Array, lift: float, across: float) -> tuple[Array, Array]:
    """Residual and Jacobian with the sources at ``lift`` and ``across`` siemens over every port."""
    v = system.A.T @ x
    i, g = system.currents(v)
    residual = system.G @ x + system.A @ (i + across * v) - lift * system.b_dc
    g = g + across * np.eye(system.ports)
    return residual, system.G + system.A @ g @ system.A.T


def _newton(system: System, x: Array, lift: float = 1.0, across: float = 0.0) -> tuple[Array, bool]:
    """Newton with backtracking on the residual. Returns the last iterate and whether it converged."""
    residual, jacobian = _residual(system, x, lift, across)
    for _ in range(_ITERATIONS):
        step = -system.solve(jacobian, residual)
        size = np.linalg.norm(residual)
        fraction = 1.0
        while True:
            trial = x + fraction * step
            new, new_jacobian = _residual(system, trial, lift, across)
            if np.linalg.norm(new) <= (1.0 - 1e-4 * fraction) * size or fraction < 1e-3:
                break
            fraction *= 0.5
        if not np.all(np.isfinite(new)):
            return x, False
        small = np.all(np.abs(fraction * step) <= _VOLT + _RELATIVE * np.abs(trial))
        x, residual, jacobian = trial, new, new_jacobian
        if small and np.max(np.abs(residual)) < _AMPERE:
            return x, True
    return x, False


def _raise_sources(system: System) -> tuple[Array, bool]:
    x, lift, rise = np.zeros(system.size), 0.0, 0.1
    while lift < 1.0:
        target = min(1.0, lift + rise)
        trial, converged = _newton(system, x, lift=target)
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
        x, converged = _newton(system, x, across=float(across))
        if not converged:
            return x, False
    return x, converged
