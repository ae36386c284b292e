"""What a source does in time: the waveforms of a transient, with the corners that a step must not straddle."""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from dataclasses import dataclass
from typing import Any

import numpy as np

from thermionic.compiled import compiled
from thermionic.devices.base import Array

_SINE, _LINES, _EXPONENTIAL = 0.0, 1.0, 2.0


@compiled
def wave_at(p: Any, second: Any) -> Any:
    """The value at a time of the wave whose numbers are ``p``."""
    if p[0] == _SINE:
        t = max(second - p[4], 0.0)
        sine = math.sin(2.0 * math.pi * p[3] * t + p[6])
        return p[1] + p[2] * (abs(sine) if p[7] else sine) * math.exp(-p[5] * t)
    if p[0] == _EXPONENTIAL:
        value = p[1]
        if second > p[3]:
            value -= (p[2] - p[1]) * math.expm1(-(second - p[3]) / p[4])
        if second > p[5]:
            value += (p[2] - p[1]) * math.expm1(-(second - p[5]) / p[6])
        return value
    # Straight lines between points, over and over where there is a period.
    delay, period, count = p[1], p[2], (len(p) - 3) // 2
    t = second - delay
    if period > 0.0 and t > 0.0:
        t %= period
    times, values = p[3 : 3 + count], p[3 + count :]
    place = np.searchsorted(times, t)
    if place == 0 or place == count:
        return values[min(place, count - 1)]
    share = (t - times[place - 1]) / (times[place] - times[place - 1])
    return values[place - 1] + share * (values[place] - values[place - 1])


class Wave(ABC):
    """A voltage or current as a function of time since the run began, s."""

    @abstractmethod
    def numbers(self) -> tuple[float, ...]:
        """What ``wave_at`` reads."""

    def at(self, second: float) -> float:
        """The value at a time."""
        return float(wave_at(np.array(self.numbers(), dtype=float), float(second)))

    def corners(self, until: float) -> Array:
        """The times up to ``until`` at which the slope jumps."""
        return np.zeros(0)


@dataclass(frozen=True)
class Sine(Wave):
    """offset + amplitude sin(2 pi hertz (t - delay) + phase) exp(-damping (t - delay)); the offset before delay.
    ``folded``, its half cycles are all positive."""

    offset: float
    amplitude: float
    hertz: float
    delay: float = 0.0
    damping: float = 0.0
    phase: float = 0.0
    folded: bool = False

    def numbers(self) -> tuple[float, ...]:
        numbers = (_SINE, self.offset, self.amplitude, self.hertz, self.delay, self.damping, self.phase)
        return (*numbers, float(self.folded))

    def corners(self, until: float) -> Array:
        if self.folded:
            half = 0.5 / self.hertz
            first = self.delay - self.phase / (2 * np.pi * self.hertz)
            zeros = first + half * np.arange(np.ceil((self.delay - first) / half), np.ceil((until - first) / half))
            return np.asarray(zeros[zeros > 0])
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

    def numbers(self) -> tuple[float, ...]:
        times, values = self._points()
        return _LINES, self.delay, self.period, *times.tolist(), *values.tolist()

    def corners(self, until: float) -> Array:
        times, _ = self._points()
        repeats = np.arange(min(max(0.0, np.ceil((until - self.delay) / self.period)), 1e6))
        return np.sort((self.delay + repeats[:, None] * self.period + times[None]).ravel())


@dataclass(frozen=True)
class Piecewise(Wave):
    """Straight lines between (times, values), constant outside them; or where there is a ``period`` over and over
    after ``delay``."""

    times: tuple[float, ...]
    values: tuple[float, ...]
    delay: float = 0.0
    period: float = 0.0

    def numbers(self) -> tuple[float, ...]:
        return _LINES, self.delay, self.period, *self.times, *self.values

    def corners(self, until: float) -> Array:
        if self.period <= 0.0:
            return self.delay + np.array(self.times)
        repeats = np.arange(min(max(0.0, np.ceil((until - self.delay) / self.period)), 1e6))
        return np.sort((self.delay + repeats[:, None] * self.period + np.array(self.times)[None]).ravel())


@dataclass(frozen=True)
class Exponential(Wave):
    """From ``low`` towards ``high`` with time constant ``rise`` after ``delay``, and back with ``fall``."""

    low: float
    high: float
    delay: float
    rise: float
    back: float
    fall: float

    def numbers(self) -> tuple[float, ...]:
        return _EXPONENTIAL, self.low, self.high, self.delay, self.rise, self.back, self.fall

    def corners(self, until: float) -> Array:
        return np.array([self.delay, self.back])
