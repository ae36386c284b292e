"""Parts whose resistance is their temperature's: inrush limiters, limiting lamps, fuses.

Each has its temperature rise as an unknown of its own, in the heat balance ``C dT/dt + loss(T) = v i``. So the
operating point finds the temperature that the current itself makes, and a slow run follows it there.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from thermionic.devices.base import EARTH, Array, Device, Law, Pairs, Value, placed
from thermionic.devices.linear import Resistor
from thermionic.devices.state_laws import (
    AMBIENT_KELVIN,
    COLDEST,
    HOTTEST,
    FuseNumbers,
    LampNumbers,
    ThermistorNumbers,
    lamp,
    thermistor,
)

_OPEN_OHM = 1e9


class Hot(Device, ABC):
    """Two terminals, and the temperature rise over ambient, K, as local unknown 2."""

    terminals: ClassVar = ("a", "b")
    branches: ClassVar = 1
    ports: ClassVar = ((0, 1), (2, EARTH))

    @property
    def injects(self) -> Pairs:
        return (0, 1), (2, EARTH)

    @abstractmethod
    def _at(self, kelvin: float) -> tuple[float, float, float, float]:
        """Conductance, S, and heat lost, W, at a temperature, each with its derivative by it."""

    def ohm_at(self, rise: float) -> float:
        """Its resistance at a temperature ``rise`` kelvin above ambient, Ω."""
        return 1.0 / self._at(min(max(AMBIENT_KELVIN + rise, COLDEST), HOTTEST))[0]

    def steady_rise(self, watt: float) -> float:
        """The rise at which it loses as much as is turned into heat in it, K; at the hottest possible at the most."""
        low, high = 0.0, HOTTEST - AMBIENT_KELVIN
        for _ in range(60):  # the loss rises with temperature
            middle = 0.5 * (low + high)
            if self._at(AMBIENT_KELVIN + middle)[2] < watt:
                low = middle
            else:
                high = middle
        return 0.5 * (low + high)

    def warming(self, rise: float, watt: float) -> float:
        """How fast it warms at a ``rise`` with ``watt`` turned into heat in it, K/s."""
        lost = self._at(AMBIENT_KELVIN + rise)[2]
        return (watt - lost) / float(self.storage()[2, 2])


@dataclass(frozen=True)
class Thermistor(Hot):
    """An inrush limiter: R = R25 exp(beta (1/T - 1/T25)), losing ``loss_w_per_k`` watts a kelvin of rise.

    J. A. Becker, C. B. Green and G. L. Pearson, "Properties and uses of thermistors", Trans. AIEE 65 (1946), p. 711.
    ``heat_j_per_k`` is its thermal capacity. The defaults are typical of a 15 mm disc.
    """

    cold_ohm: Value = 10.0
    beta_kelvin: Value = 3000.0
    loss_w_per_k: Value = 0.02
    heat_j_per_k: Value = 1.5
    equation: ClassVar = Law.THERMISTOR
    terminals: ClassVar = ("a", "b")

    def storage(self) -> Array:
        return placed(3, (2, 2, self.heat_j_per_k))

    def numbers(self) -> tuple[Value, ...]:
        return ThermistorNumbers(self.cold_ohm, self.beta_kelvin, self.loss_w_per_k)

    def _at(self, kelvin: float) -> tuple[float, float, float, float]:
        at: tuple[float, float, float, float] = thermistor(np.array(self.numbers(), dtype=float), kelvin)
        return at


@dataclass(frozen=True)
class Lamp(Hot):
    """A tungsten lamp in series with the mains: its resistance rises some twelvefold from cold to bright.

    Resistivity as T^1.2 and radiation as T^4, with no conduction to its leads (H. A. Jones and I. Langmuir, "The
    characteristics of tungsten filaments as functions of temperature", General Electric Review 30 (1927), p. 310,
    give exponents near these between 1000 and 2800 K). ``watt`` at ``volt`` is its rating, at ``hot_kelvin``.
    """

    watt: Value
    volt: Value
    hot_kelvin: Value = 2700.0
    warm_second: Value = 0.1
    equation: ClassVar = Law.LAMP
    terminals: ClassVar = ("a", "b")

    def storage(self) -> Array:
        # The heat that the rated power brings in ``warm_second`` raises it by the whole range.
        return placed(3, (2, 2, self.watt * np.asarray(self.warm_second) / (self.hot_kelvin - AMBIENT_KELVIN)))

    def numbers(self) -> tuple[Value, ...]:
        return LampNumbers(watt=self.watt, volt=self.volt, hot_kelvin=self.hot_kelvin)

    def _at(self, kelvin: float) -> tuple[float, float, float, float]:
        at: tuple[float, float, float, float] = lamp(np.array(self.numbers(), dtype=float), kelvin)
        return at


@dataclass(frozen=True)
class Contact(Resistor):
    """A switch that is closed by hand ``closes_at`` s after the mains: open before that, in a slow run from the
    switch; closed, its contacts' resistance, everywhere else."""

    closes_at: float = 0.0

    def at_time(self, second: float, off: float = np.inf) -> Resistor:
        return self if second >= self.closes_at else Resistor(_OPEN_OHM)


@dataclass(frozen=True)
class Fuse(Device):
    """A fuse: ``ohm`` cold, and blown once the heat in it reaches its melting integral.

    The heat is an unknown of its own, q in A^2 s: dq/dt + q / tau = i^2, with ``melting_i2t`` the
    integral of a quick overload and tau such that twice the rated current never quite stops short of melting
    it: the two-point picture of IEC 60127's time-current tables. A real one spreads by a factor of two or more,
    so a time to blow from here is unsure.
    """

    rated_ampere: Value
    melting_i2t: Value
    ohm: Value = 0.1
    blown: bool = False
    terminals: ClassVar = ("a", "b")
    branches: ClassVar = 1
    ports: ClassVar = ((0, 1), (2, EARTH))
    equation: ClassVar = Law.FUSE

    @property
    def injects(self) -> Pairs:
        return (0, 1), (2, EARTH)

    @property
    def tau(self) -> Value:
        """The time constant with which its heat leaks away, s."""
        return self.melting_i2t / (2.0 * np.asarray(self.rated_ampere)) ** 2

    def storage(self) -> Array:
        return placed(3, (2, 2, 1.0))

    def numbers(self) -> tuple[Value, ...]:
        return FuseNumbers(1e-9 if self.blown else 1.0 / np.asarray(self.ohm), cooling_second=self.tau)

    def after(self, v: Array) -> Fuse:
        return replace(self, blown=True) if not self.blown and np.all(v[1] >= self.melting_i2t) else self
