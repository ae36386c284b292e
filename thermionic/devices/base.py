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

from dataclasses import dataclass, field, fields, is_dataclass
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from thermionic.devices import laws
from thermionic.devices.knees import BOLTZMANN, CHARGE, KELVIN, THERMAL_VOLT
from thermionic.devices.laws import Law
from thermionic.lazily import lazily

Array = NDArray[np.float64]
ComplexArray = NDArray[np.complex128]
Pairs = tuple[tuple[int, int], ...]
# A number, or one number for each of an array of variants.
Value = float | Array

EARTH = -1
_NUMBERS = {float, int, str, bool, type(None)}
__all__ = [
    "ACROSS", "BOLTZMANN", "CHARGE", "EARTH", "KELVIN", "NOTHING", "THERMAL_VOLT", "Array", "ComplexArray", "Device",
    "Entries", "Excitation", "Law", "Noise", "Pairs", "Pieces", "Table", "Value", "at", "between", "placed",
    "variants_in",
]  # fmt: skip


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


@dataclass(frozen=True)
class Entries:
    """Values at rows and columns of a device's local matrix; each of variants, one of (variants,)."""

    at: tuple[tuple[int, int], ...] = ()
    values: tuple[Value, ...] = ()

    @classmethod
    def of(cls, matrix: Array) -> Entries:
        """All of a matrix that are not nothing, in any variant."""
        if matrix.ndim > 2:
            some = [(int(r), int(c)) for r, c in np.argwhere(np.any(matrix != 0, axis=0))]
            return cls(tuple(some), tuple([np.ascontiguousarray(matrix[:, r, c]) for r, c in some]))
        rows = matrix.tolist()
        at = tuple([(r, c) for r, row in enumerate(rows) for c, value in enumerate(row) if value])
        return cls(at, tuple([rows[r][c] for r, c in at]))


# Where a two-terminal admittance has its entries.
ACROSS = (0, 0), (1, 1), (0, 1), (1, 0)


NOTHING: Array = np.zeros(0)


@dataclass(frozen=True, eq=False)
class Pieces:
    """What a device puts into the equations, entry by entry over its local unknowns, nothing left out but nothing.

    ``dc`` and ``tone`` are places and values; ``numbers`` what its ``law`` reads. A device that holds arrays, whose
    ``variants`` are their lengths, has a value for each in any of these, and no numbers here.
    """

    terminals: int
    branches: int
    ports: Pairs
    injects: Pairs
    variants: frozenset[int]
    conductance: Entries = Entries()
    storage: Entries = Entries()
    dc: tuple[tuple[int, Value], ...] = ()
    tone: tuple[tuple[int, Any], ...] = ()
    law: int = -1
    numbers: Array = field(default_factory=lambda: NOTHING)

    @lazily
    def code(self) -> NDArray[np.int64]:
        """How many terminals, branches, ports, injects, and entries in conductance, storage, dc and tone; its law and
        how many numbers that reads; and the places of ports to tone in turn: what the equations are put together by.
        Variants have none of the four: they are added up by themselves.
        """
        steady, sounding = [place for place, _ in self.dc], [place for place, _ in self.tone]
        pairs = self.ports, self.injects, self.conductance.at, self.storage.at
        if self.variants:
            steady, sounding, pairs = [], [], (self.ports, self.injects, (), ())
        counts = [self.terminals, self.branches, *map(len, (*pairs, steady, sounding)), self.law, len(self.numbers)]
        flat = [end for several in pairs for pair in several for end in pair]
        return np.array([*counts, *flat, *steady, *sounding], dtype=np.int64)

    @lazily
    def values(self) -> Array:
        """What goes to the places of the last four, in turn; of a tone the real and the imaginary part."""
        if self.variants:
            return NOTHING
        steady = [value for _, value in self.dc]
        sounding = [part for _, value in self.tone for part in (value.real, value.imag)]
        return np.array([*self.conductance.values, *self.storage.values, *steady, *sounding], dtype=np.float64)

    @classmethod
    def across(cls, siemens: Value = 0.0, farad: Value = 0.0) -> Pieces:
        """Those of a two-terminal admittance, which most parts are."""
        conductance, storage = (
            Entries(ACROSS, (value, value, less, less)) if type(value) is not float or value else Entries()
            for value in (siemens, farad) for less in (-value,)
        )  # fmt: skip
        return cls(2, 0, (), (), frozenset(variants_in((siemens, farad))), conductance, storage)

    @classmethod
    def of(cls, device: Device) -> Pieces:
        """Those of a device."""
        numbers = device.numbers() if device.equation is not None and device.ports else ()
        variants = frozenset(variants_in(device) | variants_in(numbers))
        injects = device.injects if device.ports else ()
        law = -1 if device.equation is None else int(device.equation)
        own = type(device)
        excitation = device.excitation() if own.excitation is not Device.excitation else None
        return cls(
            len(device.terminals),
            device.branches,
            device.ports,
            injects,
            variants,
            Entries.of(device.conductance()) if own.conductance is not Device.conductance else Entries(),
            Entries.of(device.storage()) if own.storage is not Device.storage else Entries(),
            _places(excitation.dc) if excitation else (),
            _places(excitation.tone) if excitation else (),
            law,
            NOTHING if variants else np.array(numbers, dtype=float),
        )


def _places(vector: Array | ComplexArray) -> tuple[tuple[int, Any], ...]:
    if vector.ndim > 1:
        return tuple([(int(place), vector[:, place]) for place in np.flatnonzero(np.any(vector != 0, axis=0))])
    return tuple([(place, value) for place, value in enumerate(vector.tolist()) if value])


class Device:
    """Base of all devices. The linear pieces are matrices; a nonlinear one adds ``ports``, and an ``equation`` with
    its ``numbers`` (see ``laws``) or ``currents`` of its own."""

    terminals: ClassVar[tuple[str, ...]]
    branches: ClassVar[int] = 0
    ports: ClassVar[Pairs] = ()
    equation: ClassVar[Law | None] = None
    # A rectifier is solved over the mains cycle where everything else is linearised around its mean.
    rectifies: ClassVar[bool] = False

    @lazily
    def pieces(self) -> Pieces:
        """What it puts into the equations; kept with it, for it does not change."""
        return Pieces.of(self)

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
        if self.equation is None:
            raise TypeError(f"{type(self).__name__} has no ports")
        ports, injects = len(self.ports), len(self.injects)
        table = Table.of([self], [slice(0, ports)], [slice(0, injects)])
        lead = np.broadcast_shapes(np.shape(v)[:-1], () if len(table.numbers) == 1 else (len(table.numbers),))
        i, g = np.zeros((*lead, injects)), np.zeros((*lead, injects, ports))
        table.evaluate(np.broadcast_to(v, (*lead, ports)), phase, i, g)
        return i, g

    def numbers(self) -> tuple[Value, ...]:
        """What its law reads, in the law's order."""
        raise TypeError(f"{type(self).__name__} has no law")

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

    def behind(self, ohm: float) -> Device | None:
        """A rectifier in series with a resistance, where that has a closed form; else None."""
        return None

    def variants_of_matrices(self) -> set[int] | None:
        """For a device whose arrays are matrices: how many variants they are for, if for several. None for others."""
        return None

    def at_time(self, second: float, off: float = np.inf) -> Device:
        """The device ``second`` after switch-on, heaters off again from ``off``: a warming tube is a weaker one."""
        return self

    def begins(self) -> Array | None:
        """The local unknowns (size,) that its storage holds as a transient at rest begins; None for nothing."""
        return None

    def after(self, v: Array) -> Device:
        """The device in the state that sensed voltages ``v`` (ports,) leave it in: a gas tube struck or out."""
        return self


class Table:
    """Devices that have a law, packed for ``laws.evaluate``.

    ``laws`` says which (devices,); ``at`` (devices, 5) from where on its numbers are, and from where to where its
    voltages and its currents are among all; ``numbers`` has shape (variants or 1, all numbers).
    """

    def __init__(self, laws: NDArray[np.int64], at: NDArray[np.int64], numbers: Array) -> None:
        self.laws, self.at, self.numbers = laws, at, numbers

    @classmethod
    def of(cls, devices: list[Device], ports: list[slice], injects: list[slice]) -> Table:
        """That of devices with their ports and injects there among all."""
        pieces = [device.pieces for device in devices]
        several = any(piece.variants for piece in pieces)
        flat: list[Value] = []
        places: list[tuple[int, ...]] = []
        for device, one, port, inject in zip(devices, pieces, ports, injects, strict=True):
            places.append((len(flat), port.start, port.stop, inject.start, inject.stop))
            flat += device.numbers() if several else one.numbers.tolist()
        laws = np.array([piece.law for piece in pieces], dtype=np.int64)
        at = np.array(places, dtype=np.int64).reshape(len(devices), 5)
        if not several:
            return cls(laws, at, np.array([flat], dtype=float))
        count = max((len(value) for value in flat if isinstance(value, np.ndarray) and value.ndim), default=1)
        numbers = np.empty((count, len(flat)))
        for column, value in enumerate(flat):
            numbers[:, column] = value
        return cls(laws, at, numbers)

    @lazily
    def own(self) -> NDArray[np.int_]:
        """From where to where the injects of the device are that each port is of, (ports, 2)."""
        ranges = [
            (inject, injects) for _, port, ports, inject, injects in self.at.tolist() for _ in range(port, ports)
        ]
        return np.array(ranges, dtype=np.int64).reshape(-1, 2)

    def evaluate(
        self, v: Array, phase: Array | float, i: Array, g: Array, which: NDArray[np.int_] | None = None
    ) -> None:
        """Currents into ``i`` (..., injects) and slopes into ``g`` (..., injects, ports), both zeros before and in C
        order, at ``v`` (..., ports). Variants are the last axis but one of v, all or those of ``which``; ``phase``
        goes with those before."""
        if not len(self.laws):
            return
        turned = np.asarray(phase, dtype=np.float64)
        turned = np.broadcast_to(turned, v.shape[:-1]).ravel() if turned.ndim else turned.reshape(1)
        rows = np.ascontiguousarray(v, dtype=np.float64).reshape(-1, v.shape[-1])
        laws.evaluate(
            self.laws, self.at, self.numbers if which is None else self.numbers[which], rows, turned,
            i.reshape(-1, i.shape[-1]), g.reshape(-1, *g.shape[-2:]),
        )  # fmt: skip


def between(size: int, plus: int, minus: int, value: Value) -> Array:
    """The pattern of a two-terminal admittance ``value`` between local unknowns ``plus`` and ``minus``."""
    return placed(size, (plus, plus, value), (minus, minus, value), (plus, minus, -value), (minus, plus, -value))


def placed(size: int, *entries: tuple[int, int, Value]) -> Array:
    """A local matrix with each value added at (row, column); array values give a matrix a variant."""
    # numpy takes its time over plain numbers, which there are many of.
    flat: list[Any] = [0.0] * (size * size)
    for row, column, value in entries:
        if type(value) is not float and np.ndim(value):
            break
        flat[row * size + column] += value
    else:
        return np.array(flat).reshape(size, size)
    matrix = np.zeros((*np.broadcast_shapes(*(np.shape(value) for _, _, value in entries)), size, size))
    for row, column, value in entries:
        matrix[..., row, column] += value
    return matrix


def at(size: int, *entries: tuple[int, Value]) -> Array:
    """A local vector with each value added at its place; array values give a vector a variant."""
    flat: list[Any] = [0.0] * size
    for place, value in entries:
        if type(value) is not float and np.ndim(value):
            break
        flat[place] += value
    else:
        return np.array(flat)
    vector = np.zeros((*np.broadcast_shapes(*(np.shape(value) for _, value in entries)), size))
    for place, value in entries:
        vector[..., place] += value
    return vector


def variants_in(thing: Any) -> set[int]:
    """The lengths of the arrays of variants that a device holds, also within its parts."""
    if isinstance(thing, np.ndarray):
        return {len(thing)} if thing.ndim else set()
    result: set[int] = set()
    if isinstance(thing, tuple):
        inner: Any = thing
    elif isinstance(thing, Device) and (own := thing.variants_of_matrices()) is not None:
        return own
    elif is_dataclass(thing):  # by its fields: what it has worked out of them is kept beside them
        inner = [getattr(thing, one.name) for one in fields(thing)]
    else:
        return result
    for value in inner:
        if type(value) not in _NUMBERS:
            result |= variants_in(value)
    return result
