"""Small-signal analysis: the circuit linearised at its operating point."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from thermionic.circuit.operating_point import OperatingPoint
from thermionic.devices.base import Array

ComplexArray = NDArray[np.complex128]


@dataclass(frozen=True, eq=False)
class SmallSignal:
    """(J + j w C) X = B about an operating point."""

    at: OperatingPoint

    def respond(self, hertz: Array, rhs: Array) -> ComplexArray:
        """Solve for right-hand sides ``rhs`` (size, columns) at each frequency: (frequencies, size, columns)."""
        system = self.at.system
        matrices = self.at.slopes + 2j * np.pi * np.atleast_1d(hertz)[:, None, None] * system.C
        return np.linalg.solve(matrices, rhs[None].astype(complex))

    def tone(self, hertz: Array) -> ComplexArray:
        """Phasors of all unknowns for the circuit's own test tone: (frequencies, size)."""
        return self.respond(hertz, self.at.system.b_tone[:, None])[..., 0]

    def impedance(self, node: str, hertz: float) -> complex:
        """The impedance from a node to earth with all sources still, Ω."""
        push = np.zeros((self.at.system.size, 1))
        place = self.at.system.node(node)
        push[place] = 1.0
        return complex(self.respond(np.array([hertz]), push)[0, place, 0])


@dataclass(frozen=True, eq=False)
class Response:
    """A transfer against frequency: ``transfer`` (frequencies,) complex, at ``hertz`` (frequencies,)."""

    hertz: Array
    transfer: ComplexArray

    @cached_property
    def decibels(self) -> Array:
        """20 log10 |transfer|."""
        return 20 * np.log10(np.maximum(np.abs(self.transfer), 1e-30))

    def corner(self, reference_hertz: float, upwards: bool) -> float | None:
        """Where the response first falls 3.01 dB below its value at ``reference_hertz``, going up or down.

        None if it does not within the frequencies given. Interpolates linearly in dB over log frequency.
        """
        log = np.log10(self.hertz)
        level = self.decibels - np.interp(np.log10(reference_hertz), log, self.decibels) + 3.0103
        order = np.arange(len(log)) if upwards else np.arange(len(log))[::-1]
        side = (self.hertz >= reference_hertz) if upwards else (self.hertz <= reference_hertz)
        path = [k for k in order if side[k]]
        for near, far in itertools.pairwise(path):
            if level[near] >= 0 > level[far]:
                share = level[near] / (level[near] - level[far])
                return float(10 ** (log[near] + share * (log[far] - log[near])))
        return None
