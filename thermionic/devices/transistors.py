"""Transistors, well enough for regulators, ripple filters and current sources."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from thermionic.devices.base import BOLTZMANN, CHARGE, KELVIN, Array, Device, Law, Noise, Pairs, Value, between
from thermionic.devices.junction_laws import BipolarNumbers, MosfetNumbers


@dataclass(frozen=True)
class BipolarTransistor(Device):
    """The transistor of Gummel and Poon at DC: transport current, Early's effect and high-level injection.

    H. K. Gummel and H. C. Poon, "An integral charge control model of bipolar transistors", Bell System Technical
    Journal 49 (1970), p. 827:

        f = Is (e^(vbe / nf Vt) - 1),  r = Is (e^(vbc / nr Vt) - 1)
        q1 = 1 / (1 - vbc / early - vbe / reverse_early),  q2 = f / knee + r / reverse_knee
        qb = q1 / 2 (1 + sqrt(1 + 4 q2))
        ict = (f - r) / qb,  ib = f / bf + r / br

    ``polarity`` is +1 for NPN, -1 for PNP. Current into the collector is ict less the base-collector part.
    Terminal resistances and charges are parts of their own (Resistor, JunctionCharge). The defaults are those
    of a small silicon type.
    """

    saturation_ampere: Value = 1e-14
    forward_beta: Value = 200.0
    reverse_beta: Value = 2.0
    early_volt: Value = 1e9
    knee_ampere: Value = 1e9
    forward_emission: Value = 1.0
    reverse_emission: Value = 1.0
    polarity: Value = 1
    reverse_early_volt: Value = 1e9
    reverse_knee_ampere: Value = 1e9
    terminals: ClassVar = ("collector", "base", "emitter")
    ports: ClassVar = ((1, 2), (1, 0))
    equation: ClassVar = Law.BIPOLAR

    @property
    def injects(self) -> Pairs:
        return (1, 2), (1, 0), (0, 2)

    def numbers(self) -> tuple[Value, ...]:
        return BipolarNumbers(
            saturation_ampere=self.saturation_ampere, forward_beta=self.forward_beta, reverse_beta=self.reverse_beta,
            early_volt=self.early_volt, knee_ampere=self.knee_ampere, forward_emission=self.forward_emission,
            reverse_emission=self.reverse_emission, polarity=self.polarity,
            reverse_early_volt=self.reverse_early_volt, reverse_knee_ampere=self.reverse_knee_ampere,
        )  # fmt: skip

    def noise(self, local: Array) -> tuple[Noise, ...]:
        i, _ = self.currents(self.sensed(local))
        return (
            Noise(0, 2, 2 * CHARGE * np.abs(i[..., 2]), kind="shot"),
            Noise(1, 2, 2 * CHARGE * np.abs(i[..., 0]), kind="shot"),
        )


@dataclass(frozen=True)
class Mosfet(Device):
    """The square-law MOSFET with channel-length modulation, its substrate tied to the source.

    H. Shichman and D. A. Hodges, "Modeling and simulation of insulated-gate field-effect transistor switching
    circuits", IEEE J. Solid-State Circuits 3 (1968), p. 285. With k = ``transconductance`` A/V^2 and vd = vgs - vt:

        saturated   i = k/2 vd^2 (1 + lambda vds)
        triode      i = k vds (vd - vds/2) (1 + lambda vds)

    and the ends exchanged for negative vds; the body diode conducts then too. ``polarity`` is +1 for
    N channel, -1 for P. No subthreshold current. The defaults are those of a medium high-voltage type.
    """

    threshold_volt: Value = 3.5
    transconductance: Value = 1.0
    modulation: Value = 0.0
    body_ampere: Value = 1e-14
    gs_farad: Value = 0.0
    gd_farad: Value = 0.0
    polarity: Value = 1
    terminals: ClassVar = ("drain", "gate", "source")
    ports: ClassVar = ((1, 2), (0, 2))
    equation: ClassVar = Law.MOSFET

    @property
    def injects(self) -> Pairs:
        return ((0, 2),)

    def storage(self) -> Array:
        return between(3, 1, 2, self.gs_farad) + between(3, 1, 0, self.gd_farad)

    def numbers(self) -> tuple[Value, ...]:
        return MosfetNumbers(
            threshold_volt=self.threshold_volt, transconductance=self.transconductance, modulation=self.modulation,
            body_ampere=self.body_ampere, polarity=self.polarity,
        )  # fmt: skip

    def noise(self, local: Array) -> tuple[Noise, ...]:
        _, g = self.currents(self.sensed(local))
        return (Noise(0, 2, 4 * BOLTZMANN * KELVIN * 2 / 3 * np.abs(g[..., 0, 0]), kind="thermal"),)
