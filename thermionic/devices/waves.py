"""What a source does in time: the waveforms of a transient, with the corners that a step must not straddle."""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass

import numpy as np

from thermionic.devices.base import Array


class Wave(ABC):
    """A voltage or current as a function of time since the run began, s."""

    @abstractmethod
    def at(self, second: float) -> float:
        """The value at a time."""

    def corners(self, until: float) -> Array:
        """The times up to ``until`` at which the slope jumps."""
        return np.zeros(0)


@dataclass(frozen=True)
class Sine(Wave):
    """offset + amplitude sin(2 pi hertz (t - delay) + phase) exp(-damping (t - delay)); the offset before delay."""

    offset: float
    amplitude: float
    hertz: float
    delay: float = 0.0
    damping: float = 0.0
    phase: float = 0.0

    def at(self, second: float) -> float:
        t = max(second - self.delay, 0.0)
        swing = np.sin(2 * np.pi * self.hertz * t + self.phase) * np.exp(-self.damping * t)
        return float(self.offset + self.amplitude * swing)

    def corners(self, until: float) -> Array:
        return np.array([self.delay] if 0 < self.delay < until else [])


@dataclass(frozen=True)
class Pulse(Wave):
    """A trapezium from ``low`` to ``high`` and back, repeated every ``period``."""

    low: float
    high: float
    delay: float
    rise: float
    fall: float
    width: float
    period: float

    def _points(self) -> tuple[Array, Array]:
        times = np.cumsum([0.0, self.rise, self.width, self.fall])
        return times, np.array([self.low, self.high, self.high, self.low])

    def at(self, second: float) -> float:
        if second < self.delay:
            return self.low
        times, values = self._points()
        return float(np.interp((second - self.delay) % self.period, times, values))

    def corners(self, until: float) -> Array:
        times, _ = self._points()
        repeats = np.arange(min(max(0.0, np.ceil((until - self.delay) / self.period)), 1e6))
        return np.sort((self.delay + repeats[:, None] * self.period + times[None]).ravel())


@dataclass(frozen=True)
class Piecewise(Wave):
    """Straight lines between (times, values); constant outside them."""

    times: tuple[float, ...]
    values: tuple[float, ...]

    def at(self, second: float) -> float:
        return float(np.interp(second, self.times, self.values))

    def corners(self, until: float) -> Array:
        return np.array(self.times)


@dataclass(frozen=True)
class Exponential(Wave):
    """From ``low`` towards ``high`` with time constant ``rise`` after ``delay``, and back with ``fall``."""

    low: float
    high: float
    delay: float
    rise: float
    back: float
    fall: float

    def at(self, second: float) -> float:
        value, span = self.low, self.high - self.low
        if second > self.delay:
            value += span * -np.expm1(-(second - self.delay) / self.rise)
        if second > self.back:
            value -= span * -np.expm1(-(second - self.back) / self.fall)
        return float(value)

    def corners(self, until: float) -> Array:
        return np.array([self.delay, self.back])
