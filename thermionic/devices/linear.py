"""Linear parts and sources. Ohm, Faraday and Kirchhoff; any circuit theory text."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, ClassVar

import numpy as np

from thermionic.devices.base import (
    BOLTZMANN,
    KELVIN,
    Array,
    ComplexArray,
    Device,
    Excitation,
    Noise,
    Pieces,
    Value,
    at,
    between,
    placed,
)
from thermionic.devices.waves import Sine, Wave
from thermionic.lazily import lazily


def thermal(plus: int, minus: int, ohm: Value) -> Noise:
    """Johnson noise, 4kT/R: J. B. Johnson, Phys. Rev. 32 (1928), p. 97; H. Nyquist, ibid., p. 110."""
    return Noise(plus, minus, 4 * BOLTZMANN * KELVIN / np.asarray(ohm))


@dataclass(frozen=True)
class Resistor(Device):
    """A resistance in ohms.

    ``excess`` is the current noise of composition and film types, as the flicker voltage in a decade of
    frequency over the voltage across the part: 1e-6 is the catalogue's "1 µV/V", 0 a wirewound's.
    """

    ohm: Value
    excess: Value = 0.0
    terminals: ClassVar = ("a", "b")

    def conductance(self) -> Array:
        return between(2, 0, 1, 1.0 / self.ohm)

    @lazily
    def pieces(self) -> Pieces:
        return Pieces.across(siemens=1.0 / self.ohm)

    def noise(self, local: Array) -> tuple[Noise, ...]:
        # The noise index of IEC 60195 as a source: excess x V is the noise voltage of one decade.
        excess = (self.excess * (local[0] - local[1]) / self.ohm) ** 2 / np.log(10.0)
        return thermal(0, 1, self.ohm), Noise(0, 1, 0.0, excess, kind="excess")


@dataclass(frozen=True)
class Capacitor(Device):
    """A capacitance in farads; an open circuit at DC. ``start_volt`` is its charge as a transient begins."""

    farad: Value
    start_volt: float | None = None
    terminals: ClassVar = ("a", "b")

    def storage(self) -> Array:
        return between(2, 0, 1, self.farad)

    @lazily
    def pieces(self) -> Pieces:
        return Pieces.across(farad=self.farad)

    def begins(self) -> Array | None:
        return at(2, (0, self.start_volt)) if self.start_volt else None


class _Branch(Device):
    """A two-terminal part whose current is an unknown of its own (local index 2)."""

    terminals: ClassVar[tuple[str, ...]] = ("a", "b")
    branches: ClassVar = 1

    def conductance(self) -> Array:
        return placed(3, (0, 2, 1.0), (1, 2, -1.0), (2, 0, 1.0), (2, 1, -1.0))


@dataclass(frozen=True)
class Inductor(_Branch):
    """An inductance in henries; a short circuit at DC. v = L di/dt. ``start_ampere`` is its current as a transient at
    rest begins."""

    henry: Value
    start_ampere: float = 0.0
    terminals: ClassVar = ("a", "b")

    def begins(self) -> Array | None:
        return at(3, (2, self.start_ampere)) if self.start_ampere else None

    def storage(self) -> Array:
        return placed(3, (2, 2, -self.henry))


@dataclass(frozen=True)
class VoltageSource(_Branch):
    """``volt`` steady volts plus a test tone of ``tone_volt`` volts peak, from b up to a.

    In a transient it follows ``wave`` where it has one, and holds ``volt`` where it has none.
    """

    volt: Value = 0.0
    tone_volt: Value | complex = 0.0
    wave: Wave | None = None

    def excitation(self) -> Excitation:
        return Excitation(at(3, (2, self.volt)), _tone(3, (2, self.tone_volt)))


def _tone(size: int, *entries: tuple[int, Any]) -> Array | ComplexArray:
    """Like ``at``, for amplitudes that may have a phase."""
    real = at(size, *((place, np.real(value)) for place, value in entries))
    if any(np.iscomplexobj(value) for _, value in entries):
        return real + 1j * at(size, *((place, np.imag(value)) for place, value in entries))
    return real


@dataclass(frozen=True)
class CurrentProbe(_Branch):
    """A short circuit from a to b whose current is read as the voltage of ``reading`` to earth, a volt an ampere."""

    terminals: ClassVar = ("a", "b", "reading")

    def conductance(self) -> Array:
        reading, branch = 2, 3
        return placed(
            4, (0, branch, 1.0), (1, branch, -1.0), (branch, 0, 1.0), (branch, 1, -1.0),
            (reading, reading, 1.0), (reading, branch, -1.0),
        )  # fmt: skip


@dataclass(frozen=True)
class MainsSource(_Branch):
    """The mains: ``peak_volt`` x sin(2 pi hertz t), from b up to a. Silent at DC and for the test tone.

    ``folded`` it is |sin|: what a circuit sees in which every negative half cycle is turned over. There a rectifier
    that conducts in both half cycles alike is a single diode, a resistance is itself, and a transformer without
    leakage or magnetising current is an IdealTransformer; so one primary's resistance is shared by all of its
    windings exactly, at half the harmonics. A transient begins at its ``phase``, rad; nothing else looks at that.
    """

    peak_volt: Value
    hertz: float
    folded: bool = False
    phase: float = 0.0

    def excitation(self) -> Excitation:
        mean = 2 / np.pi * np.asarray(self.peak_volt) if self.folded else 0.0
        return Excitation(at(3, (2, mean)), np.zeros(3))

    def phasors(self, harmonics: int, fundamental: float) -> ComplexArray:
        """Its harmonics for a peak of 1 V, the mean first, of a ``fundamental`` that is the mains frequency or, where
        it is folded, twice that: (harmonics + 1,).

        |sin x| = 2/pi - 4/pi (cos 2x / 3 + cos 4x / 15 + ...), any table of Fourier series.
        """
        result = np.zeros(harmonics + 1, dtype=complex)
        if not self.folded:
            result[1] = -1j  # sin x is the real part of -j exp(jx)
            return result
        step = round(2 * self.hertz / fundamental)
        order = np.arange(harmonics // step + 1)
        result[::step] = -4 / np.pi / (4.0 * order**2 - 1)
        result[0] /= 2
        return result

    def wave(self) -> Wave:
        """It in time."""
        return Sine(0.0, float(self.peak_volt), self.hertz, phase=self.phase, folded=self.folded)

    def at_time(self, second: float, off: float = np.inf) -> Device:
        return replace(self, peak_volt=0.0 * self.peak_volt) if second >= off else self


@dataclass(frozen=True)
class IdealTransformer(Device):
    """Two windings with no loss, leakage or magnetising current, at any frequency and at DC: ``ratio`` x the first's
    voltage is the second's, and the second's current out of its first end, times ``ratio``, goes into the first's.
    For circuits whose mains is folded; iron is a Transformer."""

    ratio: Value
    terminals: ClassVar = ("start1", "end1", "start2", "end2")
    branches: ClassVar = 1

    def conductance(self) -> Array:
        n, current = self.ratio, 4  # the current goes into start2
        return placed(
            5, (2, current, 1.0), (3, current, -1.0), (0, current, -n), (1, current, n),
            (current, 2, 1.0), (current, 3, -1.0), (current, 0, -n), (current, 1, n),
        )  # fmt: skip


@dataclass(frozen=True)
class Thevenin(_Branch):
    """A source of ``volt`` steady volts behind ``ohm`` ohms: v = volt - ohm x (current delivered)."""

    volt: Value
    ohm: Value

    def conductance(self) -> Array:
        # The branch current flows into terminal a.
        return super().conductance() + placed(3, (2, 2, -self.ohm))

    def excitation(self) -> Excitation:
        return Excitation(at(3, (2, self.volt)), np.zeros(3))


@dataclass(frozen=True)
class CurrentSource(Device):
    """``ampere`` steady amperes plus ``tone_ampere`` amperes peak, flowing from a through the source to b.

    In a transient it follows ``wave`` where it has one.
    """

    ampere: Value = 0.0
    tone_ampere: Value | complex = 0.0
    wave: Wave | None = None
    terminals: ClassVar = ("a", "b")

    def excitation(self) -> Excitation:
        tone = self.tone_ampere
        return Excitation(at(2, (0, -self.ampere), (1, self.ampere)), _tone(2, (0, -tone), (1, tone)))


@dataclass(frozen=True)
class CoupledInductors(Device):
    """Windings without resistance on a common field: v_j = sum of henry[j][k] di_k/dt.

    ``henry`` is the symmetric matrix of inductances, as nested tuples. Terminals are a and b of each winding.
    ``start_ampere``, if given, is each winding's current as a transient at rest begins.
    """

    henry: tuple[tuple[float, ...], ...]
    start_ampere: tuple[float, ...] = ()

    def begins(self) -> Array | None:
        if not self.start_ampere:
            return None
        return np.append(np.zeros(2 * len(self.henry)), self.start_ampere)

    @property
    def terminals(self) -> tuple[str, ...]:  # type: ignore[override]
        """a and b of each winding."""
        return tuple(f"{end}{k}" for k in range(1, len(self.henry) + 1) for end in ("a", "b"))

    @property
    def branches(self) -> int:  # type: ignore[override]
        """The current of each winding."""
        return len(self.henry)

    def conductance(self) -> Array:
        first = 2 * len(self.henry)
        entries = []
        for k in range(len(self.henry)):
            a, b, branch = 2 * k, 2 * k + 1, first + k
            entries += [(a, branch, 1.0), (b, branch, -1.0), (branch, a, 1.0), (branch, b, -1.0)]
        return placed(self.size, *entries)

    def storage(self) -> Array:
        matrix = np.zeros((self.size, self.size))
        matrix[2 * len(self.henry) :, 2 * len(self.henry) :] = -np.array(self.henry)
        return matrix


@dataclass(frozen=True)
class VoltageControlled(_Branch):
    """An ideal amplifier, SPICE's E: v(a, b) = gain x v(c, d)."""

    gain: Value
    terminals: ClassVar = ("a", "b", "c", "d")

    def conductance(self) -> Array:
        gain = self.gain
        return placed(5, (0, 4, 1.0), (1, 4, -1.0), (4, 0, 1.0), (4, 1, -1.0), (4, 2, -gain), (4, 3, gain))


@dataclass(frozen=True)
class Transconductance(Device):
    """A voltage-controlled current, SPICE's G: ``siemens`` x v(c, d) flows from a through the source to b."""

    siemens: Value
    terminals: ClassVar = ("a", "b", "c", "d")

    def conductance(self) -> Array:
        g = self.siemens
        return placed(4, (0, 2, g), (0, 3, -g), (1, 2, -g), (1, 3, g))


@dataclass(frozen=True)
class AffinePorts(Device):
    """Currents ``ampere`` + ``siemens`` v at a set of ports: the linear stand-in for solved rectifiers.

    ``pairs`` gives each port's two terminals; ``siemens`` is (ports, ports), ``ampere`` (ports,), or either with the
    variants first.
    """

    pairs: tuple[tuple[int, int], ...]
    siemens: Array
    ampere: Array

    @property
    def terminals(self) -> tuple[str, ...]:  # type: ignore[override]
        """Plus and minus of each port."""
        return tuple(f"{side}{port}" for port in range(len(self.pairs)) for side in ("plus", "minus"))

    def _incidence(self) -> Array:
        incidence = np.zeros((2 * len(self.pairs), len(self.pairs)))
        for port in range(len(self.pairs)):
            incidence[2 * port, port], incidence[2 * port + 1, port] = 1.0, -1.0
        return incidence

    def conductance(self) -> Array:
        incidence = self._incidence()
        matrix: Array = incidence @ self.siemens @ incidence.T
        return matrix

    def excitation(self) -> Excitation:
        return Excitation(-self.ampere @ self._incidence().T, np.zeros(2 * len(self.pairs)))

    def variants_of_matrices(self) -> set[int]:
        return {len(self.siemens)} if np.ndim(self.siemens) == 3 else set()


@dataclass(frozen=True)
class Potentiometer(Device):
    """A potentiometer's two resistances: ``top`` to ``wiper`` and ``wiper`` to ``bottom``, in ohms.

    ``travel`` is the fraction of the track's resistance below the wiper, 0 to 1. Contact resistance keeps
    either part from going under ``ohm`` / 10,000.
    """

    ohm: Value
    travel: Value
    terminals: ClassVar = ("top", "wiper", "bottom")

    def halves(self) -> tuple[Value, Value]:
        """Resistance above and below the wiper, Ω."""
        least = self.ohm * 1e-4
        return np.maximum(self.ohm * (1 - self.travel), least), np.maximum(self.ohm * self.travel, least)

    def conductance(self) -> Array:
        above, below = self.halves()
        return between(3, 0, 1, 1 / above) + between(3, 1, 2, 1 / below)

    def noise(self, local: Array) -> tuple[Noise, ...]:
        above, below = self.halves()
        return thermal(0, 1, above), thermal(1, 2, below)


@dataclass(frozen=True)
class Feed(Device):
    """The wire from a shared rail into one channel, where ``channels`` identical channels hang on the rail.

    No voltage is dropped. The channel takes i; the rail gives ``channels`` x i, the others being taken to draw
    the same current at every instant: exact for identical channels that are driven alike. The balance
    leaves through ``return``, the rail's other side.
    """

    channels: int
    terminals: ClassVar = ("rail", "channel", "return")
    branches: ClassVar = 1

    def conductance(self) -> Array:
        g = np.zeros((4, 4))
        g[:3, 3] = self.channels, -1.0, 1.0 - self.channels
        g[3, :2] = 1.0, -1.0
        return g


@dataclass(frozen=True)
class LinearPart(Device):
    """The linear pieces of a nonlinear device, its ports left out: what stays when a stand-in takes their place."""

    of: Device

    @property
    def terminals(self) -> tuple[str, ...]:  # type: ignore[override]
        """Those of the device."""
        return self.of.terminals

    def conductance(self) -> Array:
        return self.of.conductance()

    def storage(self) -> Array:
        return self.of.storage()
