"""Semiconductor diodes of every sort."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from thermionic.devices.base import CHARGE, EARTH, Array, Device, Law, Noise, Pairs, Value, between, placed
from thermionic.devices.junction_laws import (
    NO_BREAKDOWN,
    DiodeNumbers,
    JunctionChargeNumbers,
    SeleniumNumbers,
    ZenerNumbers,
)


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
    breakdown_volt: Value = NO_BREAKDOWN
    breakdown_ampere: Value = 1e-3
    terminals: ClassVar = ("anode", "cathode")
    ports: ClassVar = ((0, 1),)
    equation: ClassVar = Law.DIODE
    rectifies: ClassVar = True

    def numbers(self) -> tuple[Value, ...]:
        return DiodeNumbers(
            saturation_ampere=self.saturation_ampere, emission=self.emission, ohm=self.ohm,
            breakdown_volt=self.breakdown_volt, breakdown_ampere=self.breakdown_ampere,
        )  # fmt: skip

    def behind(self, ohm: float) -> Diode | None:
        breaks_down = np.any(np.asarray(self.breakdown_volt) < NO_BREAKDOWN)
        return None if breaks_down else replace(self, ohm=self.ohm + ohm)

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
    equation: ClassVar = Law.JUNCTION_CHARGE

    @property
    def injects(self) -> Pairs:
        return ((2, EARTH),)

    def conductance(self) -> Array:
        return placed(3, (2, 2, 1.0))

    def storage(self) -> Array:
        return placed(3, (0, 2, 1e-9), (1, 2, -1e-9))

    def numbers(self) -> tuple[Value, ...]:
        return JunctionChargeNumbers(
            farad=self.farad, built_in_volt=self.built_in, grading=self.grading, transit_second=self.transit_second,
            saturation_ampere=self.saturation_ampere, emission=self.emission, polarity=self.polarity,
        )  # fmt: skip


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
    equation: ClassVar = Law.ZENER

    def numbers(self) -> tuple[Value, ...]:
        return ZenerNumbers(
            volt=self.volt, test_ampere=self.test_ampere, ohm=self.ohm, saturation_ampere=self.saturation_ampere
        )

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
    equation: ClassVar = Law.SELENIUM
    rectifies: ClassVar = True

    def conductance(self) -> Array:
        return between(2, 0, 1, 1.0 / (self.plates * self.leak_ohm))

    def behind(self, ohm: float) -> SeleniumRectifier:
        return replace(self, plate_ohm=self.plate_ohm + ohm / self.plates)

    def numbers(self) -> tuple[Value, ...]:
        return SeleniumNumbers(
            plates=self.plates, saturation_ampere=self.saturation_ampere, emission=self.emission,
            plate_ohm=self.plate_ohm,
        )  # fmt: skip
