"""Parts whose resistance is their temperature's: inrush limiters, limiting lamps, fuses.

Each has its temperature rise as an unknown of its own, in the heat balance ``C dT/dt + loss(T) = v i``. So the
operating point finds the temperature that the current itself makes, and a slow run follows it there.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from thermionic.devices.base import EARTH, Array, Device, Pairs, Value, placed

AMBIENT_KELVIN = 298.15
_CELSIUS_25 = 298.15
# Newton may try any temperature; the laws are held to what could be.
_COLDEST, _HOTTEST = 200.0, 3600.0


class Hot(Device, ABC):
    """Two terminals, and the temperature rise over ambient, K, as local unknown 2."""

    terminals: ClassVar = ("a", "b")
    branches: ClassVar = 1
    ports: ClassVar = ((0, 1), (2, EARTH))

    @property
    def injects(self) -> Pairs:
        return (0, 1), (2, EARTH)

    @abstractmethod
    def _conductance_at(self, kelvin: Array) -> tuple[Array, Array]:
        """Electrical conductance at a temperature, S, and its derivative by it."""

    @abstractmethod
    def _loss(self, kelvin: Array) -> tuple[Array, Array]:
        """Heat lost to the surroundings, W, and its derivative by temperature."""

    def ohm_at(self, rise: float) -> float:
        """Its resistance at a temperature ``rise`` kelvin above ambient, Ω."""
        kelvin = np.clip(np.array(AMBIENT_KELVIN + rise), _COLDEST, _HOTTEST)
        return float(1.0 / self._conductance_at(kelvin)[0])

    def steady_rise(self, watt: float) -> float:
        """The rise at which it loses as much as is turned into heat in it, K; at the hottest possible at the most."""
        low, high = 0.0, _HOTTEST - AMBIENT_KELVIN
        for _ in range(60):  # the loss rises with temperature
            middle = 0.5 * (low + high)
            if float(self._loss(np.array(AMBIENT_KELVIN + middle))[0]) < watt:
                low = middle
            else:
                high = middle
        return 0.5 * (low + high)

    def warming(self, rise: float, watt: float) -> float:
        """How fast it warms at a ``rise`` with ``watt`` turned into heat in it, K/s."""
        lost = float(self._loss(np.array(AMBIENT_KELVIN + rise))[0])
        return (watt - lost) / float(self.storage()[2, 2])

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        volt = v[..., 0]
        wanted = AMBIENT_KELVIN + v[..., 1]
        kelvin = np.clip(wanted, _COLDEST, _HOTTEST)
        inside = (wanted == kelvin).astype(float)
        y, y_by_t = self._conductance_at(kelvin)
        y_by_t = y_by_t * inside
        loss, loss_by_t = self._loss(kelvin)
        # Outside the range the loss goes on as a straight line, so that there is always a way back.
        loss = loss + loss_by_t * (wanted - kelvin)
        i, g = np.empty((*volt.shape, 2)), np.empty((*volt.shape, 2, 2))
        i[..., 0] = y * volt
        i[..., 1] = loss - y * volt**2
        g[..., 0, 0], g[..., 0, 1] = y, y_by_t * volt
        g[..., 1, 0], g[..., 1, 1] = -2 * y * volt, loss_by_t - y_by_t * volt**2
        return i, g


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
    terminals: ClassVar = ("a", "b")

    def storage(self) -> Array:
        return placed(3, (2, 2, self.heat_j_per_k))

    def _conductance_at(self, kelvin: Array) -> tuple[Array, Array]:
        y = np.exp(-self.beta_kelvin * (1 / kelvin - 1 / _CELSIUS_25)) / self.cold_ohm
        return y, y * self.beta_kelvin / kelvin**2

    def _loss(self, kelvin: Array) -> tuple[Array, Array]:
        loss = np.asarray(self.loss_w_per_k)
        return loss * (kelvin - AMBIENT_KELVIN), loss + 0.0 * kelvin


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
    terminals: ClassVar = ("a", "b")

    def storage(self) -> Array:
        # The heat that the rated power brings in ``warm_second`` raises it by the whole range.
        return placed(3, (2, 2, self.watt * np.asarray(self.warm_second) / (self.hot_kelvin - AMBIENT_KELVIN)))

    def _conductance_at(self, kelvin: Array) -> tuple[Array, Array]:
        y = self.watt / np.asarray(self.volt) ** 2 * (self.hot_kelvin / kelvin) ** 1.2
        return y, -1.2 * y / kelvin

    def _loss(self, kelvin: Array) -> tuple[Array, Array]:
        scale = self.watt / (np.asarray(self.hot_kelvin) ** 4 - AMBIENT_KELVIN**4)
        return scale * (kelvin**4 - AMBIENT_KELVIN**4), 4 * scale * kelvin**3


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

    @property
    def injects(self) -> Pairs:
        return (0, 1), (2, EARTH)

    @property
    def tau(self) -> Value:
        """The time constant with which its heat leaks away, s."""
        return self.melting_i2t / (2.0 * np.asarray(self.rated_ampere)) ** 2

    def storage(self) -> Array:
        return placed(3, (2, 2, 1.0))

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        y = 1e-9 if self.blown else 1.0 / np.asarray(self.ohm)
        volt = v[..., 0]
        i, g = np.empty((*volt.shape, 2)), np.zeros((*volt.shape, 2, 2))
        i[..., 0] = y * volt
        i[..., 1] = v[..., 1] / self.tau - (y * volt) ** 2
        g[..., 0, 0] = y
        g[..., 1, 0] = -2 * y**2 * volt
        g[..., 1, 1] = 1.0 / self.tau
        return i, g

    def after(self, v: Array) -> Fuse:
        return replace(self, blown=True) if not self.blown and np.all(v[1] >= self.melting_i2t) else self
