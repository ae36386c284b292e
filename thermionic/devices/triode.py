"""The triode: anode and grid current from the voltages on its electrodes."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import ClassVar, Self

import numpy as np

from thermionic.devices.base import BOLTZMANN, CHARGE, KELVIN, Array, Device, Law, Noise, Value, between
from thermionic.devices.tube_laws import TriodeNumbers

# The cathode's temperature over room temperature, and the share of it that the space charge lets through as noise
# (A. van der Ziel, *Noise* (1954), ch. 5: an oxide cathode's fluctuations are those of 0.64 x its temperature).
_CATHODE_NOISE = 0.644 * 1000.0 / KELVIN
# Flicker of the anode current: white noise and flicker meet at this frequency, Hz, in an ordinary receiving tube.
# Samples differ by a factor of ten either way, so a noise figure from it is unsure.
FLICKER_HERTZ = 1000.0


@dataclass(frozen=True)
class TriodeCoefficients:
    """Constants of one triode section; see Triode. ``mu``, ``ex``, ``kp``, ``grid_xi``, ``coarse_share`` and
    ``coarse_mu`` are pure numbers, ``kvb`` V^2, ``kg1`` V^ex/A, ``grid_g`` A/V^grid_xi, ``grid_c`` 1/V."""

    mu: Value
    ex: Value
    kg1: Value
    kp: Value
    kvb: Value
    grid_g: Value
    grid_xi: Value = 1.314
    grid_c: Value = 9.901
    coarse_share: Value = 0.0
    coarse_mu: Value = 1.0

    def numbers(self, scale: Value) -> TriodeNumbers:
        """What the laws read, every current ``scale`` times."""
        return TriodeNumbers(
            mu=self.mu, ex=self.ex, kg1=self.kg1, kp=self.kp, kvb=self.kvb, grid_g=self.grid_g, grid_xi=self.grid_xi,
            grid_c=self.grid_c, coarse_share=self.coarse_share, coarse_mu=self.coarse_mu, scale=scale,
        )  # fmt: skip

    def amplifying(self, factor: Value) -> TriodeCoefficients:
        """The same tube with its grid ``factor`` times as close: every mu so much higher."""
        return replace(self, mu=self.mu * factor, coarse_mu=self.coarse_mu * factor)


@dataclass(frozen=True)
class Warmup:
    """How a cathode comes to temperature after switch-on.

    ``second`` is the time to half emission; ``rise`` the width of the rise as a fraction of it. Emission
    follows 1 / (1 + (second / t)^(4 / rise)), a smooth step that starts late and ends level: the usual shape
    of published warm-up curves, and no more than a shape.
    """

    second: float = 0.0
    rise: float = 1.0

    def reaches(self, share: float) -> float:
        """When ``share`` of the full emission is reached, s after switch-on."""
        return float(self.second / (1.0 / share - 1.0) ** (self.rise / 4.0))

    def emission(self, second: float, off: float = np.inf) -> float:
        """Emission at ``second`` after switch-on as a fraction of the full one; switched off again at ``off``."""
        if self.second <= 0:
            return 1.0
        if second > off:
            return self.emission(off) * (1.0 - self.emission(second - off))
        return float(1.0 / (1.0 + (self.second / max(second, 1e-9)) ** (4.0 / self.rise)))


class Cathode(Device):
    """A device with an emitting cathode: ``scale`` multiplies its currents, ``warmup`` says how it warms up."""

    scale: Value
    warmup: Warmup

    def at_time(self, second: float, off: float = np.inf) -> Self:
        if self.warmup.second <= 0:
            return self
        emission = self.scale * self.warmup.emission(second, off)
        warmed: Self = replace(self, scale=emission, warmup=Warmup())  # type: ignore[type-var]
        return warmed


def cathode_noise(plus: int, minus: int, gm: Value, sharing: Value = 0.0) -> tuple[Noise, ...]:
    """Shot noise of a space-charge-limited current of transconductance ``gm``, with its flicker.

    White: 4 k (0.644 Tc) gm, A. van der Ziel, *Noise* (1954), ch. 5, with Tc = 1000 K; ``sharing`` adds the
    partition noise of a screen, A^2/Hz. Flicker: equal to the white noise at FLICKER_HERTZ.
    """
    white = 4 * BOLTZMANN * KELVIN * _CATHODE_NOISE * np.maximum(gm, 0.0)
    return (
        Noise(plus, minus, white + np.asarray(sharing), kind="shot"),
        Noise(plus, minus, 0.0, white * FLICKER_HERTZ, kind="flicker"),
    )


@dataclass(frozen=True)
class Triode(Cathode):
    """Koren's triode with the grid current of Dempwolf, Holters and Zölzer.

    Anode current, N. Koren, "Improved vacuum tube models for SPICE simulations", *Glass Audio* 8 (1996), no. 5:

        E(mu) = (Va / kp) ln(1 + exp(kp (1/mu + Vg / sqrt(kvb + Va^2))))
        ia = 2 (E(mu)^ex + coarse_share E(coarse_mu)^ex) / kg1 for Va > 0, else 0

    The second term is ours, and Koren's law without it dies far too soon. A grid is not the same everywhere: at its
    ends, its supports and a turn out of place the pitch is coarser and the anode reaches further, so what is left of
    the current near cut-off comes from there. Taking such a tube as several side by side with a mu each is K. R.
    Spangenberg's way (*Vacuum Tubes* (1948), ch. 7, the variable-mu tube); one more is enough for what data sheets
    give of cut-off.

    Grid current, K. Dempwolf, M. Holters and U. Zölzer, "A physically-motivated triode model for circuit
    simulations", *Proc. DAFx-11* (2011), eq. 9, without its constant leakage Ig0:

        ig = grid_g (ln(1 + exp(grid_c Vg)) / grid_c)^grid_xi

    We deviate from that paper in leaving the anode current as Koren gives it, since its coefficients are
    fitted to the anode current itself; the cathode carries the sum. ``scale`` multiplies both currents (a
    weak tube has less than 1). The inter-electrode capacitances are in farads.
    """

    coefficients: TriodeCoefficients
    grid_anode_farad: Value = 0.0
    grid_cathode_farad: Value = 0.0
    anode_cathode_farad: Value = 0.0
    scale: Value = 1.0
    warmup: Warmup = field(default=Warmup())
    terminals: ClassVar = ("anode", "grid", "cathode")
    ports: ClassVar = ((1, 2), (0, 2))
    equation: ClassVar = Law.TRIODE

    def storage(self) -> Array:
        return (
            between(3, 0, 1, self.grid_anode_farad)
            + between(3, 1, 2, self.grid_cathode_farad)
            + between(3, 0, 2, self.anode_cathode_farad)
        )

    def numbers(self) -> tuple[Value, ...]:
        return self.coefficients.numbers(self.scale)

    def noise(self, local: Array) -> tuple[Noise, ...]:
        i, g = self.currents(self.sensed(local))
        return (*cathode_noise(0, 2, g[..., 1, 0]), Noise(1, 2, 2 * CHARGE * i[..., 0], kind="grid"))


@dataclass(frozen=True)
class FilamentTriode(Cathode):
    """A directly heated triode with both ends of its filament, so that AC heating and a balance pot mean something.

    Each bit of filament at a fraction s of its length is a cathode at V(f1) + s (V(f2) - V(f1)) that emits as
    the whole tube would there, and its current leaves by the two ends as (1 - s) to s: the superposition that
    Y. Kusunose ("Calculation of characteristics and the design of triodes", Proc. IRE 17 (1929), p. 1706)
    makes of a filament, taken here at four points of Gauss and Legendre. ``filament_ohm`` is the
    hot resistance between the ends. With no voltage along the filament it is the Triode exactly.
    """

    coefficients: TriodeCoefficients
    filament_ohm: Value
    grid_anode_farad: Value = 0.0
    grid_cathode_farad: Value = 0.0
    anode_cathode_farad: Value = 0.0
    scale: Value = 1.0
    warmup: Warmup = field(default=Warmup())
    terminals: ClassVar = ("anode", "grid", "filament1", "filament2")
    ports: ClassVar = ((1, 2), (0, 2), (3, 2))
    equation: ClassVar = Law.FILAMENT_TRIODE

    def conductance(self) -> Array:
        return between(4, 2, 3, 1.0 / self.filament_ohm)

    def storage(self) -> Array:
        total = between(4, 0, 1, self.grid_anode_farad)
        for end in (2, 3):
            total = total + between(4, 1, end, 0.5 * self.grid_cathode_farad)
            total = total + between(4, 0, end, 0.5 * self.anode_cathode_farad)
        return total

    def numbers(self) -> tuple[Value, ...]:
        return self.coefficients.numbers(self.scale)

    def noise(self, local: Array) -> tuple[Noise, ...]:
        _, g = self.currents(self.sensed(local))
        return cathode_noise(0, 2, g[..., 1, 0])
