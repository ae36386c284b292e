"""The circuit driven hard by its test tone, or by two: power, distortion, intermodulation, clipping, bias shift."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from thermionic import budget
from thermionic.circuit.balance_equations import Balance
from thermionic.circuit.harmonic_balance import balance, balance_alike, balance_in_turn
from thermionic.circuit.operating_point import OperatingPoint
from thermionic.circuit.small_signal import respond
from thermionic.circuit.spectrum import Spectrum, harmonics_of_one, products_of_two
from thermionic.circuit.variants import VariantPoints
from thermionic.devices.base import Array, ComplexArray

# Distortion is good to 0.5 % of itself well into clipping with these (measured against 40 harmonics).
# samples a harmonic
HARMONICS, SAMPLES = 10, 4
# Intermodulation products up to this order, of both tones together.
ORDER = 6


@dataclass(frozen=True, eq=False)
class Drive:
    """The periodic steady state at each of ``levels`` (multiples of the circuit's own test tone).

    ``x`` holds the phasors of every unknown, (levels, size, frequencies), the first being the mean and the rest
    those of ``spectrum``: for one tone harmonic k at place k. With an array of variants, levels are the variants.
    """

    at: OperatingPoint | VariantPoints
    tones: tuple[float, ...]
    levels: Array
    spectrum: Spectrum
    x: ComplexArray
    ports: Balance

    @property
    def hertz(self) -> Array:
        """The frequency of each phasor, Hz."""
        return self.spectrum.hertz(*self.tones)

    def joined(self, other: Drive) -> Drive:
        """This with the levels of another of the same circuit and tones among its own; ``ports`` stay its own."""
        levels = np.concatenate([self.levels, other.levels])
        order = np.argsort(levels)
        return replace(self, levels=levels[order], x=np.concatenate([self.x, other.x])[order])

    def phasors(self, node: str) -> ComplexArray:
        """A node's phasors, V peak: (levels, frequencies)."""
        return self.x[:, self.at.system.node(node)]

    def bias_shift(self, node: str) -> Array:
        """How far the drive moves a node's mean voltage from where it idles, V: (levels,)."""
        place = self.at.system.node(node)
        shift: Array = self.x[:, place, 0].real - self.at.x[..., place]
        return shift


def drive(
    at: OperatingPoint | VariantPoints,
    hertz: float,
    levels: Array,
    near: Drive | None = None,
    harmonics: int = HARMONICS,
) -> Drive:
    """Solve the periodic steady state at each drive level, an increasing sequence. Raises NoSolution, BudgetSpent.

    ``near`` is the solution of a similar circuit at levels that correspond one by one, to start from. For an array of
    variants ``levels`` has one level a variant, or one for all.

    The circuit is linearised at its operating point, and only what the devices' currents differ from that is
    balanced; so a small signal is solved at once, and a bias shift under drive is part of the answer.
    """
    spectrum = harmonics_of_one(harmonics, SAMPLES * harmonics)
    tone = np.zeros(harmonics + 1)
    tone[1] = 1.0
    return _driven(at, (hertz,), levels, spectrum, tone, near)


def two_tones(
    at: OperatingPoint, first: float, second: float, ratio: float, levels: Array, order: int = ORDER
) -> Drive:
    """The steady state under two tones of ``first`` and ``second`` Hz, the first ``ratio`` times the second.

    At level 1 their peaks add up to that of the circuit's own test tone. Raises NoSolution, BudgetSpent.
    """
    spectrum = products_of_two(order)
    tone = np.zeros(len(spectrum.orders))
    for row, share in (((1, 0), ratio / (1 + ratio)), ((0, 1), 1 / (1 + ratio))):
        tone[int(np.nonzero(np.all(spectrum.orders == row, axis=1))[0][0])] = share
    return _driven(at, (first, second), levels, spectrum, tone, None)


class _Around:
    """The circuit linearised at its operating point, and what its devices differ from that."""

    def __init__(self, at: OperatingPoint | VariantPoints, hertz: Array, tone_at: Array) -> None:
        system = at.system
        self.at, self.hertz = at, hertz
        columns: Array | ComplexArray = np.hstack([system.B, system.tone[:, None]])
        solved = respond(system, at.slopes, hertz, columns)
        self.reach = solved[..., :-1]
        # Phasors of every unknown for the tones alone, at level 1: (..., frequencies, size).
        self.alone = solved[..., -1] * tone_at[:, None]
        self.impedance = np.einsum("np,...nq->...pq", system.S, self.reach)
        self.rest = at.x @ system.S  # (ports,) or (variants, ports)
        self.i_rest, _ = system.currents(self.rest)
        self.slope = at.port_slopes

    def currents(self, v: Array, phase: Array, which: NDArray[np.int_]) -> tuple[Array, Array]:
        """What flows besides the linear part, and its slopes; ``which`` are the variants in v, if it has any."""
        slope, rest, i_rest = self.slope, self.rest, self.i_rest
        if self.at.system.variants is None:
            i, g = self.at.system.currents(v, phase)
        else:
            slope, rest, i_rest = slope[which], rest[which], i_rest[which]
            i, g = self.at.system.currents(v, phase, which)
        linear = np.einsum("...mp,...p->...m", slope, v - rest)
        return i - i_rest - linear, g - slope

    def open_volts(self, levels: Array) -> ComplexArray:
        """The ports' voltages with the linear part alone: (levels, ports, frequencies)."""
        system = self.at.system
        volts: ComplexArray = np.zeros((len(levels), system.ports, len(self.hertz)), dtype=np.complex128)
        volts += levels[:, None, None] * np.swapaxes(self.alone @ system.S, -1, -2)
        volts[:, :, 0] += self.rest
        return volts

    def unknowns(self, levels: Array, ports: Balance) -> ComplexArray:
        """Every unknown, from what flows at the ports."""
        if self.at.system.variants is None:
            x = -np.einsum("knp,lpk->lnk", self.reach, ports.amperes)
        else:
            x = -np.einsum("lknp,lpk->lnk", self.reach, ports.amperes)
        x += levels[:, None, None] * np.swapaxes(self.alone, -1, -2)
        x[:, :, 0] += self.at.x
        result: ComplexArray = x
        return result


def _driven(
    at: OperatingPoint | VariantPoints,
    tones: tuple[float, ...],
    levels: Array,
    spectrum: Spectrum,
    tone_at: Array,
    near: Drive | None,
) -> Drive:
    system = at.system
    with budget.at_most():
        around = _Around(at, spectrum.hertz(*tones), tone_at)
        count = len(np.atleast_1d(levels)) if system.variants is None else system.variants
        levels = np.broadcast_to(np.asarray(levels, dtype=float), (count,))
        open_volts = start = around.open_volts(levels)
        if near is not None and near.ports.volts.shape == start.shape:
            start = near.ports.volts.copy()
            start[:, :, 0] += around.rest - near.at.x @ near.at.system.S
        else:
            near = None
        if system.variants is not None:
            ports = balance(spectrum, around.impedance, open_volts, around.currents, start, together=True)
        else:
            known = near.ports if near else None
            ports = balance_in_turn(spectrum, around.impedance, open_volts, around.currents, start, known)
        x = around.unknowns(levels, ports)
    return Drive(at, tones, levels, spectrum, x, ports)


def drive_alike(at: VariantPoints, hertz: float, near: Drive, share: Array) -> list[tuple[Drive, Array]]:
    """Many variants, the first in their midst, at each of the rising levels of ``near``, a drive of that first by
    itself: each level's drive, and which variants settled at it, (variants,) true or false. Raises BudgetSpent.

    Each variant's levels are ``share`` (variants,) of those of ``near``: where they bring all to like outputs, they
    are solved sooner. The harmonics are those of ``near``.
    """
    spectrum = near.spectrum
    tone = np.zeros(len(spectrum.orders))
    tone[1] = 1.0
    count = at.system.variants
    if count is None:
        raise ValueError("there is no array of variants in this system")
    with budget.at_most():
        around = _Around(at, spectrum.hertz(hertz), tone)
        result = []
        away: Array | ComplexArray = np.zeros((count, *near.ports.volts.shape[1:]))
        away[:, :, 0] += around.rest - near.at.x @ near.at.system.S
        for level, volts in zip(near.levels, near.ports.volts, strict=True):
            levels = level * share
            ports, settled = balance_alike(
                spectrum, around.impedance, around.open_volts(levels), around.currents, volts + away
            )
            result.append((Drive(at, (hertz,), levels, spectrum, around.unknowns(levels, ports), ports), settled))
            # As far from the first as at this level they will be at the next, about.
            away = np.where(settled[:, None, None], ports.volts - volts, away)
    return result


def distortion(phasors: ComplexArray) -> Array:
    """Total harmonic distortion of phasors (..., harmonics + 1) as a fraction of the fundamental: (...)."""
    size = np.abs(phasors)
    total: Array = np.sqrt(np.sum(size[..., 2:] ** 2, axis=-1)) / np.maximum(size[..., 1], 1e-30)
    return total


def intermodulation(driven: Drive, node: str) -> Array:
    """Intermodulation at a node under two tones, as a fraction of the second tone, (levels,).

    The root of the sum of squares of every product that holds both tones: with a low and a four times smaller
    high tone this is the modulation of the high one, with two close tones all their products.
    """
    size = np.abs(driven.phasors(node))
    orders = driven.spectrum.orders
    mixed = np.all(orders != 0, axis=1)
    carrier = np.all(orders == (0, 1), axis=1)
    total: Array = np.sqrt(np.sum(size[:, mixed] ** 2, axis=1)) / np.maximum(size[:, carrier][:, 0], 1e-30)
    return total


def clipping_level(at: OperatingPoint, hertz: float, node: str, most: float = 0.01) -> float | None:
    """The drive level, a multiple of the test tone, at which distortion at ``node`` reaches ``most``.

    None if it does not below a thousand times the test tone. Good to 0.1 % of itself. Raises NoSolution.
    """
    from scipy.optimize import brentq  # quarter of a second to import

    low, high = 1e-3, 1e-3
    with budget.at_most():

        def excess(level: float) -> float:
            return float(distortion(drive(at, hertz, np.array([level])).phasors(node))[0]) - most

        while excess(high) < 0:
            low, high = high, high * 2
            if high > 1e3:
                return None
        if high == low:
            return float(low)
        return float(brentq(excess, low, high, rtol=1e-3))
