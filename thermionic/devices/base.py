"""What every device tells the circuit about itself.

A circuit is the system ``C dx/dt + G x + B i(S^T x) = b``, with ``x`` the node voltages followed by branch
unknowns (currents mostly; a flux or a temperature for some devices). A device contributes a small local piece
of each, over its own unknowns: first its terminals, in the order of ``terminals``, then its ``branches``.

Signs: a terminal's current is positive INTO the device. A port is a pair of local unknowns (plus, minus): what
it senses is their difference, and its current flows into plus, through the device, and out of minus. Where a
device senses one thing and drives another it gives ``injects`` beside ``ports``. ``EARTH`` stands for the
missing second unknown of a port on a branch.

Variants: any number in a device may be an array of shape (variants,), one value a variant; then its matrices
have shape (variants, size, size) and ``currents`` takes ``v`` of shape (..., variants, ports). Nothing else
changes, so one equation serves a single circuit, an array of variants, and several like devices at once.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, fields, is_dataclass, replace
from typing import Any, ClassVar, TypeVar

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
ComplexArray = NDArray[np.complex128]
Pairs = tuple[tuple[int, int], ...]
# A number, or one number for each of an array of variants.
Value = float | Array

EARTH = -1
BOLTZMANN, CHARGE, KELVIN = 1.380649e-23, 1.602176634e-19, 300.15
THERMAL_VOLT = BOLTZMANN * KELVIN / CHARGE  # kT/q at 27 °C, the usual nominal temperature of circuit simulators


@dataclass(frozen=True)
class Excitation:
    """A source's right-hand side over the local unknowns: steady part and amplitude of the test tone."""

    dc: Array
    tone: Array | ComplexArray


@dataclass(frozen=True)
class Noise:
    """One noise current of a device, flowing between two local unknowns.

    ``density`` is its one-sided spectral density in A^2/Hz at frequency f: white + flicker / f.
    """

    plus: int
    minus: int
    white: Value
    flicker: Value = 0.0
    kind: str = "thermal"


class Device:
    """Base of all devices. The linear pieces are matrices; a nonlinear device adds ``ports`` and ``currents``."""

    terminals: ClassVar[tuple[str, ...]]
    branches: ClassVar[int] = 0
    ports: ClassVar[Pairs] = ()
    # A rectifier is solved over the mains cycle where everything else is linearised around its mean.
    rectifies: ClassVar[bool] = False

    @property
    def injects(self) -> Pairs:
        """Where each current of ``currents`` flows: the ports themselves unless a device says otherwise."""
        return self.ports

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

    def dispersion(self, hertz: Array) -> ComplexArray | None:
        """What G + jwC cannot say: an admittance that is any function of frequency, (frequencies, size, size)."""
        return None

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        """Injected currents, A, and their derivatives, S, at sensed voltages ``v`` of shape (..., ports).

        Returns arrays of shape (..., injects) and (..., injects, ports); the last axis of the second is the
        voltage derived by. ``phase`` (radians of the fundamental, broadcast against the leading axes)
        matters only to devices that are driven from within.
        """
        raise TypeError(f"{type(self).__name__} has no ports")

    def plain_currents(self, v: Sequence[float]) -> tuple[Sequence[float], Sequence[Sequence[float]]] | None:
        """``currents`` of one device at plain numbers, where there is a quicker way to them; else None."""
        return None

    def noise(self, local: Array) -> tuple[Noise, ...]:
        """The noise currents, the local unknowns being ``local`` (size,) at the operating point."""
        return ()

    def sensed(self, local: Array) -> Array:
        """The port voltages (ports,) at local unknowns ``local`` (size,)."""
        ended = np.append(local, 0.0)  # EARTH is -1
        return np.array([ended[plus] - ended[minus] for plus, minus in self.ports])

    def softened(self, times: float) -> Device:
        """The device with its knee so many times softer, for a solver to come to the real one by degrees."""
        return self

    def variants_of_matrices(self) -> set[int] | None:
        """For a device whose arrays are matrices: how many variants they are for, if for several. None for others."""
        return None

    def at_time(self, second: float, off: float = np.inf) -> Device:
        """The device ``second`` after switch-on, heaters off again from ``off``: a warming tube is a weaker one."""
        return self

    def after(self, v: Array) -> Device:
        """The device in the state that sensed voltages ``v`` (ports,) leave it in: a gas tube struck or out."""
        return self


def between(size: int, plus: int, minus: int, value: Value) -> Array:
    """The pattern of a two-terminal admittance ``value`` between local unknowns ``plus`` and ``minus``."""
    pattern = np.zeros((size, size))
    pattern[plus, plus] = pattern[minus, minus] = 1.0
    pattern[plus, minus] = pattern[minus, plus] = -1.0
    spread: Array = pattern * np.asarray(value)[..., None, None]
    return spread


def _shape(values: list[Value]) -> tuple[int, ...]:
    if all(isinstance(value, float) for value in values):  # numpy takes its time over plain numbers
        return ()
    return np.broadcast_shapes(*(np.shape(value) for value in values))


def placed(size: int, *entries: tuple[int, int, Value]) -> Array:
    """A local matrix with each value added at (row, column); array values give a matrix a variant."""
    shape = _shape([value for _, _, value in entries])
    matrix = np.zeros((*shape, size, size))
    for row, column, value in entries:
        matrix[..., row, column] += value
    return matrix


def at(size: int, *entries: tuple[int, Value]) -> Array:
    """A local vector with each value added at its place; array values give a vector a variant."""
    shape = _shape([value for _, value in entries])
    vector = np.zeros((*shape, size))
    for place, value in entries:
        vector[..., place] += value
    return vector


class Arrays:
    """The functions that an equation is written with, on arrays."""

    maximum, minimum, sqrt, where = np.maximum, np.minimum, np.sqrt, np.where

    @staticmethod
    def softplus(u: Array) -> tuple[Array, Array]:
        """ln(1 + e^u) and its derivative, without overflow."""
        return np.logaddexp(0.0, u), 0.5 * (1.0 + np.tanh(0.5 * u))


class Plain:
    """The same on plain numbers. A circuit with ten tubes spends most of its time on the overhead of tiny arrays,
    which this avoids; the equation itself is written once, over either."""

    maximum, minimum, sqrt = max, min, math.sqrt

    @staticmethod
    def where(test: bool, yes: float, no: float) -> float:
        """``yes`` where the test holds."""
        return yes if test else no

    @staticmethod
    def softplus(u: float) -> tuple[float, float]:
        """ln(1 + e^u) and its derivative, without overflow."""
        e = math.exp(-abs(u))
        soft = math.log1p(e)
        return (u + soft, 1.0 / (1.0 + e)) if u > 0 else (soft, e / (1.0 + e))


def softplus(u: Array) -> Array:
    """ln(1 + e^u), without overflow."""
    return np.logaddexp(0.0, u)


def logistic(u: Array) -> Array:
    """The derivative of softplus, without overflow."""
    return 0.5 * (1.0 + np.tanh(0.5 * u))


def bounded_exp(u: Array, bend: float = 40.0) -> tuple[Array, Array]:
    """e^u and its derivative, continued as its tangent above ``bend``: Newton may try any voltage."""
    low = np.minimum(u, bend)
    e = np.exp(low)
    return e * (1.0 + u - low), e


def variants_in(thing: Any) -> set[int]:
    """The lengths of the arrays of variants that a device holds, also within its parts."""
    found: set[int] = set()
    if isinstance(thing, np.ndarray):
        found = {len(thing)} if thing.ndim else set()
    elif isinstance(thing, tuple):
        found = {length for one in thing for length in variants_in(one)}
    elif isinstance(thing, Device) and (own := thing.variants_of_matrices()) is not None:
        found = own
    elif is_dataclass(thing):
        for value in vars(thing).values():
            if not isinstance(value, (float, int, str)):
                found |= variants_in(value)
    return found


Thing = TypeVar("Thing")


def stacked(things: Sequence[Thing]) -> Thing:
    """Like devices as one, every number that differs an array over a new last axis, (..., len(things)).

    Raises ValueError where they are not alike: different classes, or different in what is not a number.
    """
    first = things[0]
    if any(type(thing) is not type(first) for thing in things) or not is_dataclass(first):
        raise ValueError("only like things can be stacked")
    changed: dict[str, Any] = {}
    for entry in fields(first):
        values = [getattr(thing, entry.name) for thing in things]
        if all(isinstance(value, (int, float, np.ndarray)) and not isinstance(value, bool) for value in values):
            if any(np.ndim(value) for value in values) or any(value != values[0] for value in values):
                changed[entry.name] = np.stack(np.broadcast_arrays(*values), axis=-1)
        elif is_dataclass(values[0]):
            changed[entry.name] = stacked(values)
        elif any(value != values[0] for value in values):
            raise ValueError(f"{entry.name} differs and is not a number")
    made: Thing = replace(first, **changed) if changed else first  # type: ignore[type-var]
    return made
