"""Silicon diodes, and the winding with a bridge of them that makes a high-tension supply."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from scipy.special import wrightomega

from thermionic.devices.base import Array, Device

THERMAL_VOLT = 0.025852  # kT/q at 300 K


@dataclass(frozen=True)
class Diode(Device):
    """Shockley's diode: i = Is (exp(v / n Vt) - 1), continued as its tangent above 40 n Vt.

    Source: W. Shockley, "The theory of p-n junctions in semiconductors and p-n junction transistors",
    Bell System Technical Journal 28 (1949), p. 435. The default constants are typical of a 1 A, 1000 V
    rectifier of the 1N4007 class; their effect here is some 1.4 V in several hundred.
    """

    saturation_ampere: float = 7e-9
    emission: float = 1.8
    terminals: ClassVar = ("anode", "cathode")
    ports: ClassVar = ((0, 1),)

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        u = v[..., 0] / (self.emission * THERMAL_VOLT)
        bend = np.minimum(u, 40.0)
        e = np.exp(bend)
        i = self.saturation_ampere * (e * (1.0 + u - bend) - 1.0)
        g = self.saturation_ampere * e / (self.emission * THERMAL_VOLT)
        return i[..., None], g[..., None, None]


@dataclass(frozen=True)
class RectifiedWinding(Device):
    """A mains transformer winding feeding a bridge of four silicon diodes: a source with one port.

    The winding's open-circuit voltage is ``peak_volt`` x sin(phase) behind ``ohm`` (its own copper, the
    primary's as seen from it, and any added resistor). In each half cycle two diodes in series conduct, so at
    the output the four are one branch driven by |e|, exactly but for reverse leakage of a few nA:

        |e| - v = i R + 2 n Vt ln(1 + i / Is)

    solved in closed form with the Wright omega function (T. C. Banwell and A. Jayakumar, "Exact analytical
    solution for current flow through diode with series resistance", Electronics Letters 36 (2000), p. 291).

    ``phase`` is that of the ripple fundamental, twice the mains: one period of it is one half cycle.
    Has no operating point of its own; the supply analysis finds its average.
    """

    peak_volt: float
    ohm: float
    mains_hertz: float
    diode: Diode = Diode()
    terminals: ClassVar = ("plus", "minus")
    ports: ClassVar = ((0, 1),)

    @property
    def ripple_hertz(self) -> float:
        """The fundamental of the output: twice the mains frequency."""
        return 2.0 * self.mains_hertz

    def driving_volt(self, phase: Array | float) -> Array:
        """|e| at a phase of the ripple fundamental."""
        return np.abs(self.peak_volt * np.sin(0.5 * np.asarray(phase)))

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        a = 2.0 * self.diode.emission * THERMAL_VOLT
        saturation = self.diode.saturation_ampere
        u = self.driving_volt(phase) - v[..., 0]
        scaled = saturation * self.ohm / a
        delivered = a / self.ohm * wrightomega(np.log(scaled) + u / a + scaled) - saturation
        # The port current flows into plus: it is the delivered current reversed, and falls as v rises.
        slope = 1.0 / (self.ohm + a / np.maximum(delivered + saturation, 1e-30))
        return -delivered[..., None], slope[..., None, None]
