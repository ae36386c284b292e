"""Semiconductor diodes of every sort, and the winding with a bridge of them that makes a high-tension supply."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np
from scipy.special import wrightomega

from thermionic.devices.base import (
    CHARGE,
    EARTH,
    THERMAL_VOLT,
    Array,
    Device,
    Noise,
    Pairs,
    Value,
    between,
    bounded_exp,
    placed,
)


def _junction(u: Array, saturation: Value, slope_volt: Value, ohm: Value) -> tuple[Array, Array]:
    """Current and its derivative of a Shockley junction of ``slope_volt`` = n kT/q behind ``ohm`` at u volts.

    In closed form with the Wright omega function: T. C. Banwell and A. Jayakumar, "Exact analytical solution
    for current flow through diode with series resistance", Electronics Letters 36 (2000), p. 291.
    """
    scaled = saturation * ohm / slope_volt
    total = slope_volt / ohm * wrightomega(np.log(scaled) + u / slope_volt + scaled)
    return total - saturation, 1.0 / (ohm + slope_volt / np.maximum(total, 1e-300))


@dataclass(frozen=True)
class Diode(Device):
    """Shockley's diode: i = Is (exp(v / n Vt) - 1), continued as its tangent above 40 n Vt.

    Source: W. Shockley, "The theory of p-n junctions in semiconductors and p-n junction transistors",
    Bell System Technical Journal 28 (1949), p. 435. ``ohm`` is a series resistance and ``farad`` a constant
    junction capacitance. The default constants are typical of a 1 A, 1000 V rectifier of the 1N4007 class;
    their effect here is some 1.4 V in several hundred.
    """

    saturation_ampere: Value = 7e-9
    emission: Value = 1.8
    ohm: Value = 0.0
    breakdown_volt: Value = 1e6
    breakdown_ampere: Value = 1e-3
    terminals: ClassVar = ("anode", "cathode")
    ports: ClassVar = ((0, 1),)
    rectifies: ClassVar = True

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        slope_volt = self.emission * THERMAL_VOLT
        if np.all(np.asarray(self.ohm) > 0):
            i, g = _junction(v[..., 0], self.saturation_ampere, slope_volt, self.ohm)
        else:
            e, slope = bounded_exp(v[..., 0] / slope_volt)
            i, g = self.saturation_ampere * (e - 1.0), self.saturation_ampere * slope / slope_volt
        if np.any(np.asarray(self.breakdown_volt) < 1e6):
            e, slope = bounded_exp(-(v[..., 0] + self.breakdown_volt) / slope_volt)
            i, g = i - self.breakdown_ampere * e, g + self.breakdown_ampere * slope / slope_volt
        return i[..., None], g[..., None, None]

    def softened(self, times: float) -> Diode:
        return replace(self, emission=self.emission * times, ohm=self.ohm + 0.05 * (times - 1.0))

    def noise(self, local: Array) -> tuple[Noise, ...]:
        i = self.currents(self.sensed(local))[0][..., 0]
        return (Noise(0, 1, 2 * CHARGE * (np.abs(i) + 2 * self.saturation_ampere), kind="shot"),)


@dataclass(frozen=True)
class JunctionCharge(Device):
    """The charge of a junction: its depletion layer's and that of carriers in transit, nothing else.

    Q(v) = farad built_in / (1 - grading) (1 - (1 - v / built_in)^(1 - grading)), continued as a parabola past half of
    ``built_in``, plus transit_second Is (exp(v / n Vt) - 1): H. K. Gummel and H. C. Poon, "An integral charge
    control model of bipolar transistors", Bell System Technical Journal 49 (1970), p. 827. The charge, in nC, is an
    unknown of its own, so that the equations' only storage stays linear.
    """

    farad: Value = 0.0
    built_in: Value = 1.0
    grading: Value = 0.5
    transit_second: Value = 0.0
    saturation_ampere: Value = 1e-14
    emission: Value = 1.0
    polarity: Value = 1
    terminals: ClassVar = ("plus", "minus")
    branches: ClassVar = 1
    ports: ClassVar = ((0, 1),)

    @property
    def injects(self) -> Pairs:
        return ((2, EARTH),)

    def conductance(self) -> Array:
        return placed(3, (2, 2, 1.0))

    def storage(self) -> Array:
        return placed(3, (0, 2, 1e-9), (1, 2, -1e-9))

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        volt = self.polarity * v[..., 0]
        slope_volt = self.emission * THERMAL_VOLT
        e, slope = bounded_exp(volt / slope_volt)
        half = 0.5 * np.asarray(self.built_in)
        low = np.minimum(volt, half)
        rest = 1.0 - low / self.built_in
        power = 1.0 - np.asarray(self.grading)
        charge = self.farad * self.built_in / power * (1.0 - rest**power)
        capacity = self.farad * rest**-self.grading
        above = volt - low
        bend = self.grading / (self.built_in * rest)
        charge = charge + capacity * above * (1.0 + 0.5 * bend * above)
        capacity = capacity * (1.0 + bend * above)
        carried = self.transit_second * np.asarray(self.saturation_ampere)
        charge = charge + carried * (e - 1.0)
        capacity = capacity + carried * slope / slope_volt
        return -1e9 * (self.polarity * charge)[..., None], -1e9 * capacity[..., None, None]


@dataclass(frozen=True)
class LED(Diode):
    """A light-emitting diode used as a bias element: Shockley's junction behind its resistance.

    The defaults are those of a plain red one, 1.65 V at 5 mA: nominal values, and they vary by ±0.1 V.
    """

    saturation_ampere: Value = 4e-18
    emission: Value = 1.8
    ohm: Value = 3.0
    rectifies: ClassVar = False


@dataclass(frozen=True)
class Zener(Device):
    """A regulator diode: a junction forwards; backwards, exponential breakdown behind a resistance.

    Terminals as a diode's: the cathode is the positive end in use. ``volt`` is the drop at ``test_ampere``;
    ``ohm`` the slope there, with the exponential's own share taken out of it. The breakdown exponential's
    slope is that of a junction (as general circuit simulators have it).
    """

    volt: Value
    test_ampere: Value = 5e-3
    ohm: Value = 10.0
    saturation_ampere: Value = 1e-14
    terminals: ClassVar = ("anode", "cathode")
    ports: ClassVar = ((0, 1),)

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        e, slope = bounded_exp(v[..., 0] / THERMAL_VOLT)
        forward = self.saturation_ampere * (e - 1.0)
        own = THERMAL_VOLT / np.asarray(self.test_ampere)
        ohm = np.maximum(self.ohm - own, 1e-3)
        # v = volt + ohm (i - test) + Vt ln(i / test): a junction whose "saturation" is the test current, less that.
        backward, g = _junction(-v[..., 0] - self.volt, self.test_ampere, THERMAL_VOLT, ohm)
        i = forward - backward - self.test_ampere
        return i[..., None], (g + self.saturation_ampere * slope / THERMAL_VOLT)[..., None, None]

    def noise(self, local: Array) -> tuple[Noise, ...]:
        i = self.currents(self.sensed(local))[0][..., 0]
        return (Noise(0, 1, 2 * CHARGE * np.abs(i), kind="shot"),)


@dataclass(frozen=True)
class SeleniumRectifier(Device):
    """A stack of ``plates`` selenium plates in series, each a leaky junction with a soft knee and a resistance.

    Per plate, i = Is (exp(v / n Vt) - 1) behind ``plate_ohm``, and ``leak_ohm`` backwards. The defaults give
    a new plate of 75 mA some 1 V at full current, the round figure of handbooks (F. Langford-Smith,
    *Radiotron Designer's Handbook*, 4th ed. (1953), section 30.5); makes differ and all of them age, so every
    default is unsure.
    """

    plates: Value = 5
    saturation_ampere: Value = 1e-5
    emission: Value = 3.0
    plate_ohm: Value = 4.0
    leak_ohm: Value = 2e4
    terminals: ClassVar = ("anode", "cathode")
    ports: ClassVar = ((0, 1),)
    rectifies: ClassVar = True

    def conductance(self) -> Array:
        return between(2, 0, 1, 1.0 / (self.plates * np.asarray(self.leak_ohm)))

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        slope_volt = self.plates * self.emission * THERMAL_VOLT
        i, g = _junction(v[..., 0], self.saturation_ampere, slope_volt, self.plates * np.asarray(self.plate_ohm))
        return i[..., None], g[..., None, None]


@dataclass(frozen=True)
class RectifiedWinding(Device):
    """A mains transformer winding feeding a bridge of four silicon diodes: a source with one port.

    The winding's open-circuit voltage is ``peak_volt`` x sin(phase) behind ``ohm`` (its own copper, the
    primary's as seen from it, and any added resistor). In each half cycle two diodes in series conduct, so at
    the output the four are one branch driven by |e|, exactly but for reverse leakage of a few nA:

        |e| - v = i R + 2 n Vt ln(1 + i / Is)

    solved in closed form (see ``_junction``).

    ``phase`` is that of the ripple fundamental, twice the mains: one period of it is one half cycle.
    Has no operating point of its own; the supply analysis finds its average.
    """

    peak_volt: Value
    ohm: Value
    mains_hertz: float
    diode: Diode = Diode()
    terminals: ClassVar = ("plus", "minus")
    ports: ClassVar = ((0, 1),)
    rectifies: ClassVar = True

    @property
    def ripple_hertz(self) -> float:
        """The fundamental of the output: twice the mains frequency."""
        return 2.0 * self.mains_hertz

    def driving_volt(self, phase: Array | float) -> Array:
        """|e| at a phase of the ripple fundamental."""
        return np.abs(self.peak_volt * np.sin(0.5 * np.asarray(phase)))

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        slope_volt = 2.0 * self.diode.emission * THERMAL_VOLT
        u = self.driving_volt(phase) - v[..., 0]
        delivered, slope = _junction(u, self.diode.saturation_ampere, slope_volt, self.ohm)
        # The port current flows into plus: it is the delivered current reversed, and falls as v rises.
        return -delivered[..., None], slope[..., None, None]
