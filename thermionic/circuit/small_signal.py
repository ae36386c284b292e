"""Small-signal analysis: the circuit linearised at its operating point."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from thermionic import budget
from thermionic.circuit.elimination import pattern
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.operating_point import OperatingPoint
from thermionic.circuit.system import System
from thermionic.circuit.variants import VariantPoints
from thermionic.devices.base import Array, ComplexArray
from thermionic.errors import NetlistRefused, NoSolution
from thermionic.lazily import lazily

_FEW = 6  # matrices, below which the dense method is quicker than eliminating them together
_AT_ONCE = 4096


def respond(
    system: System, slopes: Array, hertz: Array, rhs: Array | ComplexArray, transposed: bool = False
) -> ComplexArray:
    """Solve (slopes + jwC + dispersion) X = rhs at each frequency.

    ``slopes`` is (size, size), or with variants (variants, size, size); rhs (size, columns). Returns
    (frequencies, size, columns), or (variants, frequencies, size, columns). ``transposed`` solves with the
    transposed matrix. Raises NoSolution if a matrix is singular, BudgetSpent.
    """
    hertz = np.atleast_1d(np.asarray(hertz, dtype=float))
    storage = system.C
    extra = system.dispersion(hertz)
    if transposed:
        slopes, storage = np.swapaxes(slopes, -1, -2), np.swapaxes(storage, -1, -2)
        extra = None if extra is None else np.swapaxes(extra, -1, -2)
    omega = 2 * np.pi * hertz
    lead = np.broadcast_shapes(slopes.shape[:-2], storage.shape[:-2]) if slopes.ndim + storage.ndim > 4 else ()
    try:
        if not lead and len(hertz) < _FEW:
            matrices = slopes + 1j * omega[:, None, None] * storage
            if extra is not None:
                matrices = matrices + extra
            result: ComplexArray = np.linalg.solve(matrices, rhs[None].astype(complex))
        else:
            result = _together(slopes, storage, omega, extra, rhs, lead)
    except np.linalg.LinAlgError:
        raise NoSolution(f"{system.netlist.title}: its small-signal equations are singular.") from None
    return result


def _together(
    slopes: Array,
    storage: Array,
    omega: Array,
    extra: ComplexArray | None,
    rhs: Array | ComplexArray,
    lead: tuple[int, ...],
) -> ComplexArray:
    size = slopes.shape[-1]
    filled = np.zeros((size, size), dtype=bool)
    for matrix in (slopes, storage):
        filled |= matrix != 0 if matrix.ndim == 2 else (matrix != 0).reshape(-1, size, size).any(axis=0)
    if extra is not None:
        filled = filled | np.any(extra != 0, axis=0)
    shape = pattern(filled)
    if extra is None and not lead and len(omega) <= _AT_ONCE:
        budget.check("sweeping over frequency")
        at = shape.rows, shape.columns
        return shape.sweep(slopes[at], storage[at], omega, rhs[:, :, None]).transpose(2, 0, 1)
    # (entries, ..., frequencies)
    g = np.moveaxis(slopes[..., shape.rows, shape.columns], -1, 0)
    c = np.moveaxis(storage[..., shape.rows, shape.columns], -1, 0)
    values = np.empty((len(shape.rows), *lead, len(omega)), dtype=complex)
    values.real = g[..., None]
    values.imag = c[..., None] * omega
    if extra is not None:
        values += extra[:, shape.rows, shape.columns].T.reshape(len(shape.rows), *(1 for _ in lead), len(omega))
    flat = values.reshape(len(shape.rows), -1)
    pieces = []
    for first in range(0, flat.shape[1], _AT_ONCE):
        budget.check("sweeping over frequency")
        pieces.append(shape.solve(flat[:, first : first + _AT_ONCE], rhs[:, :, None]))
    whole = pieces[0] if len(pieces) == 1 else np.concatenate(pieces, axis=2)
    result: ComplexArray = np.moveaxis(whole, 2, 0).reshape(*lead, len(omega), size, rhs.shape[1])
    return result


@dataclass(frozen=True, eq=False)
class Linear:
    """Equations linearised elsewhere: a system, and G with its devices' slopes in it, (size, size)."""

    system: System
    slopes: Array


@dataclass(frozen=True, eq=False)
class SmallSignal:
    """(J + j w C) X = B about an operating point."""

    at: OperatingPoint | VariantPoints | Linear

    def respond(self, hertz: Array, rhs: Array | ComplexArray) -> ComplexArray:
        """Solve for right-hand sides ``rhs`` (size, columns) at each frequency: (frequencies, size, columns)."""
        return respond(self.at.system, self.at.slopes, hertz, rhs)

    def tone(self, hertz: Array) -> ComplexArray:
        """Phasors of all unknowns for the circuit's own test tone: (frequencies, size); variants first, if any."""
        return self.respond(hertz, self.at.system.tone[:, None])[..., 0]

    def push(self, plus: str, minus: str = GROUND) -> Array:
        """The right-hand side of one ampere pushed into ``plus`` and taken from ``minus``, (size, 1)."""
        rhs = np.zeros((self.at.system.size, 1))
        for node, sign in ((plus, 1.0), (minus, -1.0)):
            if node != GROUND:
                rhs[self.at.system.node(node), 0] += sign
        return rhs

    def impedances(self, node: str, hertz: Array) -> ComplexArray:
        """The impedance from a node to earth with all sources still, Ω, (frequencies,)."""
        place = self.at.system.node(node)
        return self.respond(hertz, self.push(node))[:, place, 0]

    def impedance(self, node: str, hertz: float) -> complex:
        """The impedance from a node to earth with all sources still, Ω."""
        return complex(self.impedances(node, np.array([hertz]))[0])

    def from_source(self, part: str, hertz: Array) -> ComplexArray:
        """Phasors of all unknowns for one volt in series with the branch part ``part``: (frequencies, size).

        With the part a rail's source this is supply rejection, with a signal source gain, with every other
        source still. Raises NetlistRefused for a part that has no branch.
        """
        place = self.at.system.place(part)
        if not place.part.device.branches:
            raise NetlistRefused(f"{part} is not a voltage source, so one volt in series with it means nothing.")
        rhs = np.zeros((self.at.system.size, 1))
        rhs[self.at.system.branch(part), 0] = 1.0
        return self.respond(hertz, rhs)[..., 0]

    def loop_gain(self, parts: str | Sequence[str], hertz: Array, backwards: bool = False) -> ComplexArray:
        """The loop gain T seen at a two-terminal part that carries the feedback from its first terminal to its
        second, or at several side by side, (frequencies,); ``backwards`` it carries it the other way.

        R. D. Middlebrook, "Measurement of loop gain in feedback systems", Int. J. Electronics 38 (1975), p. 485: a
        voltage in series with the part's first terminal, then a current into that node; from the two,
        T = (Tv Ti - 1) / (2 + Tv + Ti), whatever the impedances on either side. Negative feedback has T
        positive in mid-band. Raises NetlistRefused for a part that is not a plain two-terminal one, is connected
        straight to earth where the feedback comes from, or is not between the same nodes as the first.
        """
        system = self.at.system
        names = (parts,) if isinstance(parts, str) else tuple(parts)
        places = [system.place(name) for name in names]
        nodes = places[0].part.nodes
        start = nodes[-1 if backwards else 0]
        hertz = np.atleast_1d(hertz)
        admittance = np.zeros(len(hertz), dtype=complex)
        for place in places:
            device = place.part.device
            if len(nodes) != 2 or device.branches or device.ports or start == GROUND:
                raise NetlistRefused(
                    f"The loop cannot be broken at {place.part.name}: choose a resistor or a capacitor that carries "
                    "the feedback from a point that is not earth."
                )
            if place.part.nodes != nodes:
                raise NetlistRefused(f"{place.part.name} is not between the same nodes as {names[0]}.")
            admittance += device.conductance()[0, 0] + 2j * np.pi * hertz * device.storage()[0, 0]
        near, far = places[0].unknowns[:: -1 if backwards else 1]
        # A volt e in series between the node and the terminal: what the part then draws is Y (v + e ...).
        unit = np.zeros((system.size, 1))
        for unknown, sign in zip((near, far), (1.0, -1.0), strict=True):
            if unknown >= 0:
                unit[unknown, 0] += sign
        found = self.respond(hertz, np.hstack([self.push(start), unit]))
        by_current, driven = found[..., 0], found[..., 1]
        # Current test: an ampere into the node divides between the part and what is behind the node.
        into_part = admittance * (by_current[:, near] - (by_current[:, far] if far >= 0 else 0.0))
        if not np.all(np.abs(into_part) > 1e-30):
            raise NetlistRefused(f"No current of the loop goes through {names[0]}: there is no loop to break there.")
        t_current = (1.0 - into_part) / into_part
        # Voltage test: a volt in series at the terminal injects -Y at the node and +Y at the far end.
        shifted = -admittance * driven[:, near]
        t_voltage = -shifted / (shifted + 1.0)
        result: ComplexArray = (t_voltage * t_current - 1.0) / (2.0 + t_voltage + t_current)
        return result


@dataclass(frozen=True, eq=False)
class Response:
    """A transfer against frequency: ``transfer`` (frequencies,) complex, at ``hertz`` (frequencies,)."""

    hertz: Array
    transfer: ComplexArray

    @lazily
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
