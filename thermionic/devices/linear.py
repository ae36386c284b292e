"""Linear parts and sources. Ohm, Faraday and Kirchhoff; any circuit theory text."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from thermionic.devices.base import Array, Device, Excitation, between


@dataclass(frozen=True)
class Resistor(Device):
    """A resistance in ohms."""

    ohm: float
    terminals: ClassVar = ("a", "b")

    def conductance(self) -> Array:
        return between(2, 0, 1, 1.0 / self.ohm)


@dataclass(frozen=True)
class Capacitor(Device):
    """A capacitance in farads; an open circuit at DC."""

    farad: float
    terminals: ClassVar = ("a", "b")

    def storage(self) -> Array:
        return between(2, 0, 1, self.farad)


class _Branch(Device):
    """A two-terminal part whose current is an unknown of its own (local index 2)."""

    terminals: ClassVar = ("a", "b")
    branches: ClassVar = 1

    def conductance(self) -> Array:
        g = np.zeros((3, 3))
        g[0, 2], g[1, 2] = 1.0, -1.0
        g[2, 0], g[2, 1] = 1.0, -1.0
        return g


@dataclass(frozen=True)
class Inductor(_Branch):
    """An inductance in henries; a short circuit at DC. v = L di/dt."""

    henry: float

    def storage(self) -> Array:
        c = np.zeros((3, 3))
        c[2, 2] = -self.henry
        return c


@dataclass(frozen=True)
class VoltageSource(_Branch):
    """``volt`` steady volts plus a test tone of ``tone_volt`` volts peak, from b up to a."""

    volt: float = 0.0
    tone_volt: float = 0.0

    def excitation(self) -> Excitation:
        return Excitation(np.array([0, 0, self.volt]), np.array([0, 0, self.tone_volt]))


@dataclass(frozen=True)
class Thevenin(_Branch):
    """A source of ``volt`` steady volts behind ``ohm`` ohms: v = volt - ohm x (current delivered)."""

    volt: float
    ohm: float

    def conductance(self) -> Array:
        g = super().conductance()
        g[2, 2] = -self.ohm  # the branch current flows into terminal a
        return g

    def excitation(self) -> Excitation:
        return Excitation(np.array([0, 0, self.volt]), np.zeros(3))


@dataclass(frozen=True)
class CurrentSource(Device):
    """``ampere`` steady amperes plus ``tone_ampere`` amperes peak, flowing from a through the source to b."""

    ampere: float = 0.0
    tone_ampere: float = 0.0
    terminals: ClassVar = ("a", "b")

    def excitation(self) -> Excitation:
        return Excitation(np.array([-self.ampere, self.ampere]), np.array([-self.tone_ampere, self.tone_ampere]))


@dataclass(frozen=True)
class Potentiometer(Device):
    """A potentiometer's two resistances: ``top`` to ``wiper`` and ``wiper`` to ``bottom``, in ohms.

    ``travel`` is the fraction of the track's resistance below the wiper, 0 to 1. Contact resistance keeps
    either part from going under ``ohm`` / 10,000.
    """

    ohm: float
    travel: float
    terminals: ClassVar = ("top", "wiper", "bottom")

    def halves(self) -> tuple[float, float]:
        """Resistance above and below the wiper, Ω."""
        least = self.ohm * 1e-4
        return max(self.ohm * (1 - self.travel), least), max(self.ohm * self.travel, least)

    def conductance(self) -> Array:
        above, below = self.halves()
        return between(3, 0, 1, 1 / above) + between(3, 1, 2, 1 / below)


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
