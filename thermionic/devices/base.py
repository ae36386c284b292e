"""What every device tells the circuit about itself.

A circuit is the system ``C dx/dt + G x + A i(A^T x) = b``, with ``x`` the node voltages followed by branch
currents. A device contributes a small local piece of each, over its own unknowns: first its terminals, in
the order of ``terminals``, then its ``branches``.

Signs: a terminal's current is positive INTO the device. A port is a pair of terminals (plus, minus); its
current flows into the plus terminal, through the device, and out of the minus terminal.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Excitation:
    """A source's right-hand side over the local unknowns: steady part and amplitude of the test tone."""

    dc: Array
    tone: Array


class Device:
    """Base of all devices. The linear pieces are matrices; a nonlinear device adds ``ports`` and ``currents``."""

    terminals: ClassVar[tuple[str, ...]]
    branches: ClassVar[int] = 0
    ports: ClassVar[tuple[tuple[int, int], ...]] = ()

    @property
    def size(self) -> int:
        """Number of local unknowns: terminals and branches."""
        return len(self.terminals) + self.branches

    def conductance(self) -> Array:
        """Local G, shape (size, size): siemens between terminals; dimensionless in branch rows."""
        return np.zeros((self.size, self.size))

    def storage(self) -> Array:
        """Local C, shape (size, size): farads between terminals; minus henries in branch rows."""
        return np.zeros((self.size, self.size))

    def excitation(self) -> Excitation:
        """Local b, each part of shape (size,)."""
        return Excitation(np.zeros(self.size), np.zeros(self.size))

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        """Port currents, A, and their derivatives, S, at port voltages ``v`` of shape (..., ports).

        Returns arrays of shape (..., ports) and (..., ports, ports); the last axis of the second is the
        voltage derived by. ``phase`` (radians of the fundamental, broadcast against the leading axes)
        matters only to devices that are driven from within.
        """
        raise TypeError(f"{type(self).__name__} has no ports")


def between(size: int, plus: int, minus: int, value: float) -> Array:
    """The pattern of a two-terminal admittance ``value`` between local unknowns ``plus`` and ``minus``."""
    pattern = np.zeros((size, size))
    pattern[plus, plus] = pattern[minus, minus] = value
    pattern[plus, minus] = pattern[minus, plus] = -value
    return pattern


def softplus(u: Array) -> Array:
    """ln(1 + e^u), without overflow."""
    return np.logaddexp(0.0, u)


def logistic(u: Array) -> Array:
    """The derivative of softplus, without overflow."""
    return 0.5 * (1.0 + np.tanh(0.5 * u))
