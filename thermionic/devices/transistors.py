"""Transistors, well enough for regulators, ripple filters and current sources."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from thermionic.devices.base import (
    BOLTZMANN,
    CHARGE,
    KELVIN,
    THERMAL_VOLT,
    Array,
    Device,
    Noise,
    Pairs,
    Value,
    between,
)
from thermionic.devices.base import bounded_exp as _exp


@dataclass(frozen=True)
class BipolarTransistor(Device):
    """The transistor of Gummel and Poon at DC: transport current, Early's effect and high-level injection.

    H. K. Gummel and H. C. Poon, "An integral charge control model of bipolar transistors", Bell System Technical
    Journal 49 (1970), p. 827:

        f = Is (e^(vbe / nf Vt) - 1),  r = Is (e^(vbc / nr Vt) - 1)
        q1 = 1 / (1 - vbc / early),  q2 = f / knee,  qb = q1 / 2 (1 + sqrt(1 + 4 q2))
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
    terminals: ClassVar = ("collector", "base", "emitter")
    ports: ClassVar = ((1, 2), (1, 0))

    @property
    def injects(self) -> Pairs:
        return (1, 2), (1, 0), (0, 2)

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        vbe, vbc = self.polarity * v[..., 0], self.polarity * v[..., 1]
        saturation = np.asarray(self.saturation_ampere)
        forward_volt, reverse_volt = self.forward_emission * THERMAL_VOLT, self.reverse_emission * THERMAL_VOLT
        e, slope = _exp(vbe / forward_volt)
        f, f_slope = saturation * (e - 1.0), saturation * slope / forward_volt
        e, slope = _exp(vbc / reverse_volt)
        r, r_slope = saturation * (e - 1.0), saturation * slope / reverse_volt
        early = np.maximum(1.0 - vbc / self.early_volt, 0.05)
        by_early = np.where(early > 0.05, -1.0 / np.asarray(self.early_volt), 0.0)
        root = np.sqrt(1.0 + 4.0 * np.maximum(f, 0.0) / self.knee_ampere)
        inverse = 2.0 * early / (1.0 + root)  # 1 / qb
        inverse_by_f = np.where(f > 0, -inverse / (1.0 + root) * 2.0 / (root * self.knee_ampere), 0.0)
        i, g = np.empty((*vbe.shape, 3)), np.zeros((*vbe.shape, 3, 2))
        i[..., 0], i[..., 1], i[..., 2] = f / self.forward_beta, r / self.reverse_beta, (f - r) * inverse
        g[..., 0, 0] = f_slope / self.forward_beta
        g[..., 1, 1] = r_slope / self.reverse_beta
        g[..., 2, 0] = f_slope * (inverse + (f - r) * inverse_by_f)
        g[..., 2, 1] = -r_slope * inverse + (f - r) * 2.0 * by_early / (1.0 + root)
        return np.asarray(self.polarity)[..., None] * i, g

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

    @property
    def injects(self) -> Pairs:
        return ((0, 2),)

    def storage(self) -> Array:
        return between(3, 1, 2, self.gs_farad) + between(3, 1, 0, self.gd_farad)

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        vgs, vds = self.polarity * v[..., 0], self.polarity * v[..., 1]
        upright = vds >= 0
        # With the ends exchanged the gate is driven from the other one.
        gate = np.where(upright, vgs, vgs - vds)
        across = np.abs(vds)
        drive = np.maximum(gate - self.threshold_volt, 0.0)
        used = np.minimum(across, drive)
        lift = 1.0 + self.modulation * across
        k = np.asarray(self.transconductance)
        square = used * (drive - 0.5 * used)
        i = k * square * lift
        by_gate = k * used * lift
        by_across = k * ((drive - used) * lift + square * self.modulation)
        sign = np.where(upright, 1.0, -1.0)
        g = np.empty((*vgs.shape, 1, 2))
        g[..., 0, 0] = sign * by_gate
        g[..., 0, 1] = np.where(upright, by_across, by_across + by_gate)
        body, body_slope = _exp(-vds / THERMAL_VOLT)
        g[..., 0, 1] += self.body_ampere * body_slope / THERMAL_VOLT
        current = self.polarity * (sign * i - self.body_ampere * (body - 1.0))
        return current[..., None], g

    def noise(self, local: Array) -> tuple[Noise, ...]:
        _, g = self.currents(self.sensed(local))
        return (Noise(0, 2, 4 * BOLTZMANN * KELVIN * 2 / 3 * np.abs(g[..., 0, 0]), kind="thermal"),)
