"""The circuit in time, with steps as long as the error allows.

Method: TR-BDF2 (R. E. Bank et al., "Transient simulation of silicon devices and circuits", IEEE Trans.
Computer-Aided Design 4 (1985), p. 436), with the error estimate and dense output of M. E. Hosea and L. F. Shampine,
"Analysis and implementation of TR-BDF2", Applied Numerical Mathematics 20 (1996), p. 21. Both stages have one
matrix, and a step is grown or shrunk by whole factors, so the linear part is inverted a few times in a run and
only the devices' ports are iterated.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from thermionic import budget
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.operating_point import OperatingPoint, operating_point
from thermionic.circuit.system import System
from thermionic.devices import Capacitor, CurrentSource, MainsSource, VoltageSource
from thermionic.devices.base import Array, Device
from thermionic.errors import NetlistRefused, NoSolution

GAMMA = 2.0 - np.sqrt(2.0)
_NEWTON = 12
_LEAST_STEP = 1e-12  # of the whole run
_KEPT = 24  # factorisations
_REFERENCE = 1e-6  # siemens


@dataclass(frozen=True, eq=False)
class Transient:
    """A run: ``seconds`` (points,) and ``x`` (points, size), the points where the steps fell."""

    system: System
    seconds: Array
    x: Array

    def voltage(self, node: str) -> Array:
        """A node's voltage at every point, V, (points,)."""
        if node == GROUND:
            return np.zeros(len(self.seconds))
        volts: Array = self.x[:, self.system.node(node)]
        return volts

    def at(self, seconds: Array) -> Array:
        """All unknowns at other times, by straight lines between the points: (times, size)."""
        between: Array = np.stack([np.interp(seconds, self.seconds, column) for column in self.x.T], axis=1)
        return between


@dataclass(frozen=True)
class Accuracy:
    """What each step's error is held to: a part of the largest that an unknown has been, and a least size for volts
    and the rest."""

    relative: float = 1e-4
    volt: float = 1e-5
    other: float = 1e-8


class _Sources:
    """The right-hand side at any time."""

    def __init__(self, system: System) -> None:
        self.steady = system.b_dc
        moving: list[tuple[Callable[[float], float], list[tuple[int, float]]]] = []
        self.corners: list[Callable[[float], Array]] = []
        for place in system.placed:
            device = place.part.device
            if isinstance(device, VoltageSource) and device.wave:
                wave, volt = device.wave, float(device.volt)
                moving.append((lambda t, w=wave, v=volt: w.at(t) - v, [(place.unknowns[2], 1.0)]))  # type: ignore[misc]
                self.corners.append(wave.corners)
            elif isinstance(device, CurrentSource) and device.wave:
                wave, ampere = device.wave, float(device.ampere)
                moving.append(
                    (lambda t, w=wave, a=ampere: w.at(t) - a, [(place.unknowns[0], -1.0), (place.unknowns[1], 1.0)])  # type: ignore[misc]
                )
                self.corners.append(wave.corners)
            elif isinstance(device, MainsSource):
                peak, omega = float(device.peak_volt), 2 * np.pi * device.hertz
                moving.append((lambda t, p=peak, w=omega: p * np.sin(w * t), [(place.unknowns[2], 1.0)]))  # type: ignore[misc]
        self.moving = moving

    def __call__(self, second: float) -> Array:
        b: Array = self.steady.copy()
        for wave, places in self.moving:
            value = wave(second)
            for place, sign in places:
                if place >= 0:
                    b[place] += sign * value
        return b


def transient(
    system: System,
    until: float,
    *,
    start: OperatingPoint | Array | None = None,
    at_rest: bool = False,
    longest: float | None = None,
    accuracy: Accuracy | None = None,
    keep_from: float = 0.0,
    corners: Sequence[float] = (),
) -> Transient:
    """Run from 0 to ``until`` s and keep the points from ``keep_from`` on.

    Starts from ``start`` if given, else from the operating point with the sources as they are at time 0, or with
    ``at_rest`` from nothing: every capacitor at its own starting charge, or empty. No step is longer than
    ``longest`` (by default a fiftieth of the run), nor straddles a corner of a source's wave or one of
    ``corners``.

    Raises NoSolution, saying when and where, if a step cannot be solved; NetlistRefused for a part that has no
    response in time, BudgetSpent.
    """
    if system.variants is not None:
        raise ValueError("a transient is of one circuit")
    for place in system.placed:
        if place.part.device.dispersion(np.array([1e3])) is not None:
            raise NetlistRefused(
                f"{place.part.name} is a table over frequency, which has no response in time: use a driver's model."
            )
    if not until > 0:
        raise NetlistRefused("A transient must run for longer than no time.")
    with budget.at_most():
        run = Stepper(system, until, longest or until / 50, accuracy or Accuracy(), corners)
        return run.go(start, at_rest, keep_from)


class Stepper:
    """A run under way: one step after another, of lengths that its caller or the error asks for."""

    def __init__(
        self, system: System, until: float, longest: float, accuracy: Accuracy, corners: Sequence[float] = ()
    ) -> None:
        self.system, self.until, self.longest = system, until, longest
        self.present = system
        waves = _Sources(system)
        self.sources: Callable[[float], Array] = waves
        self.warming = any(place.part.device.at_time(0.0) is not place.part.device for place in system.placed)
        self.states = any(type(place.part.device).after is not Device.after for place in system.placed)
        self.floor = np.where(np.arange(system.size) < len(system.nodes), accuracy.volt, accuracy.other)
        self.relative = accuracy.relative
        times = [corner(until) for corner in waves.corners]
        every = np.concatenate([np.array(corners, dtype=float), *times, [until]])
        self.corners = np.unique(every[(every > 0) & (every <= until)])
        self.factors: dict[float, tuple[Array, Array, Array]] = {}
        # A slope at every device's own ports keeps the linear part from being singular without the devices.
        self.reference = np.zeros((system.B.shape[1], system.ports))
        for place in system.placed:
            for inject, port in zip(range(*place.injects.indices(system.B.shape[1])),
                                    range(*place.ports.indices(system.ports)), strict=False):  # fmt: skip
                self.reference[inject, port] = _REFERENCE
        # The largest that each unknown has been: a zero crossing asks for no more than a peak does.
        self.largest = np.zeros(system.size)
        # Unknowns that only capacitors and inductors move carry the error; the rest follow by the equations.
        self.moved = np.any(system.C != 0, axis=0)

    def go(self, start: OperatingPoint | Array | None, at_rest: bool, keep_from: float) -> Transient:
        """See transient."""
        present = self.system.revised(lambda place: place.part.device.at_time(0.0)) if self.warming else self.system
        if isinstance(start, OperatingPoint):
            present, x = start.system, start.x
        elif start is not None:
            x = np.asarray(start, dtype=float)
        elif at_rest:
            self.present = present
            x = self.rest()
        else:
            began = operating_point(self._with_sources(present))
            present, x = present.revised(lambda place: began.system.place(place.part.name).part.device), began.x
        self.present = present
        second, step = 0.0, min(self.longest, self.until) / (65536 if at_rest else 64)
        seconds, kept = ([0.0], [x]) if keep_from <= 0 else ([], [])
        following = 0
        # C dx/dt at the start of each step, which the first stage needs, and dx/dt to guess the next step from.
        slope = np.zeros(len(x))
        rate = self.rate(x, second)
        settle = at_rest
        while second < self.until * (1 - 1e-12):
            budget.check(f"following {self.system.netlist.title} in time ({second:.3g} of {self.until:.3g} s done)")
            corner = self.corners[following]
            left = corner - second
            h = min(step, self.longest)
            if h >= left * (1 - 1e-9):
                h = left
            elif h > 0.5 * left:
                h = 0.5 * left
            if h < _LEAST_STEP * self.until:
                self.give_up(x, second)
            solved = self.step(x, slope, rate, second, h, settle)
            if solved is None:
                step = h / 8
                continue
            new, new_rate, error = solved
            if error > 1.0 and not settle:
                step = h * max(0.2, 0.85 * error ** (-1 / 3))
                continue
            slope = np.zeros(len(x)) if settle else (new - x) / h
            second, x, rate = second + h, new, new_rate
            settle = False
            if abs(second - corner) < 1e-12 * self.until:
                second = float(corner)
                following += 1
                slope = np.zeros(len(x))
                step = min(h, self.longest / 64) if following < len(self.corners) else h
            else:
                step = h * min(2.0, max(0.3, 0.85 * max(error, 1e-9) ** (-1 / 3)))
            if second >= keep_from:
                seconds.append(second)
                kept.append(x)
            if self.states or self.warming:
                self._renew(x, second)
                rate = self.rate(x, second) if self.warming else rate
        return Transient(self.present, np.array(seconds), np.array(kept))

    def _with_sources(self, system: System) -> System:
        """The system with its sources as they are at time 0."""
        now = System.__new__(System)
        now.__dict__.update(system.__dict__)
        now.b_dc = self.sources(0.0)
        return now

    def rest(self) -> Array:
        """The unknowns at switch-on: capacitors at their starting charge, inductors without current."""
        # Each is a stiff source for an instant.
        system = self.present
        held = 1e6 * system.C
        charge = np.zeros(system.size)
        for place in system.placed:
            device = place.part.device
            if isinstance(device, Capacitor) and device.start_volt:
                for unknown, sign in zip(place.unknowns, (1.0, -1.0), strict=True):
                    if unknown >= 0:
                        charge[unknown] += sign * 1e6 * float(device.farad) * device.start_volt
        rest = System.__new__(System)
        rest.__dict__.update(system.__dict__)
        rest.G = system.G + held * 1e3
        rest.b_dc = self.sources(0.0) + charge * 1e3
        return operating_point(rest).x

    def rate(self, x: Array, second: float) -> Array:
        """C dx/dt as the equations have it."""
        i, _ = self.present.currents(x @ self.present.S)
        rate: Array = self.sources(second) - self.present.G @ x - self.present.B @ i
        return rate

    def _renew(self, x: Array, second: float) -> None:
        """Put devices into the state that they have come to."""
        v = x @ self.system.S

        def now(place):  # type: ignore[no-untyped-def]
            device = place.part.device
            if self.warming:
                device = self.system.place(place.part.name).part.device.at_time(second)
            return device.after(v[place.ports])

        self.present = self.present.revised(now)

    def _factors(self, h: float) -> tuple[Array, Array, Array]:
        """For a step h: the inverse of (C / (gamma/2 h) + G + B g0 S^T), and it at the ports."""
        key = float(f"{h:.12e}")
        found = self.factors.get(key)
        if found is None:
            system = self.system
            matrix = system.C / (0.5 * GAMMA * h) + system.G + system.B @ self.reference @ system.S.T
            # Farads over microseconds beside the leak of a floating node: in rows and columns of like size.
            rows = 1.0 / np.abs(matrix).max(axis=1, keepdims=True)
            columns = 1.0 / np.abs(matrix * rows).max(axis=0)
            inverse = columns[:, None] * np.linalg.inv(matrix * rows * columns) * rows.T
            found = inverse, inverse @ system.B, system.S.T @ inverse @ system.B
            if len(self.factors) >= _KEPT:
                self.factors.pop(next(iter(self.factors)))
            self.factors[key] = found
        return found

    def _implicit(self, rhs: Array, guess: Array, h: float) -> Array | None:
        """Solve C x / (gamma/2 h) + G x + B i(S^T x) = rhs, from port voltages near ``guess``'s."""
        system = self.present
        inverse, reach, impedance = self._factors(h)
        still = inverse @ rhs
        if not system.ports:
            return still
        reference = self.reference
        open_volts, v = still @ system.S, guess @ system.S
        unit = np.eye(system.ports)
        for _ in range(_NEWTON):
            i, g = system.currents(v)
            i = i - reference @ v
            residual = v - open_volts + impedance @ i
            step = np.linalg.solve(unit + impedance @ (g - reference), -residual)
            # Ports are kept from leaping further than the exponentials of a junction can stand.
            largest = float(np.max(np.abs(step)))
            fraction = 1.0
            if largest > 1.0:
                size = float(np.linalg.norm(residual))
                while fraction > 1e-3:
                    trial, _ = system.currents(v + fraction * step)
                    left = v + fraction * step - open_volts + impedance @ (trial - reference @ (v + fraction * step))
                    if float(np.linalg.norm(left)) < size:
                        break
                    fraction *= 0.5
            v = v + fraction * step
            if fraction == 1.0 and np.all(np.abs(step) <= 1e-6 + 1e-6 * np.abs(v)):
                x: Array = still - reach @ (i + (g - reference) @ step)
                return x if np.all(np.isfinite(x)) else None
        return None

    def step(
        self, x: Array, slope: Array, rate: Array, second: float, h: float, settle: bool
    ) -> tuple[Array, Array, float] | None:
        """One step of TR-BDF2: the new unknowns, C dx/dt there, and the error over what is allowed."""
        C = self.system.C
        if settle:
            # The first step from rest is implicit throughout, whatever the start left unbalanced.
            rhs = C @ x / (0.5 * GAMMA * h) + self.sources(second + 0.5 * GAMMA * h)
            new = self._implicit(rhs, x, h)
            return None if new is None else (new, (C @ (new - x)) / (0.5 * GAMMA * h), 0.5)
        diagonal = 0.5 * GAMMA
        # Trapezoidal to gamma h ...
        held = C @ x
        middle = self._implicit(
            held / (diagonal * h) + rate + self.sources(second + GAMMA * h), x + GAMMA * h * slope, h
        )
        if middle is None:
            return None
        middle_rate = (C @ middle - held) / (diagonal * h) - rate
        # ... then the second backward difference to h, of the same matrix.
        weight = np.sqrt(2.0) / 4.0
        rhs = held / (diagonal * h) + (weight / diagonal) * (rate + middle_rate) + self.sources(second + h)
        new = self._implicit(rhs, x + (middle - x) / GAMMA, h)
        if new is None:
            return None
        new_rate = (C @ new - held) / (diagonal * h) - (weight / diagonal) * (rate + middle_rate)
        # The embedded third-order formula's difference, filtered through the matrix of the stage.
        weights = ((1 - weight) / 3, (3 * weight + 1) / 3, diagonal / 3)
        own = (weight, weight, diagonal)
        difference = h * sum((w - o) * r for w, o, r in zip(weights, own, (rate, middle_rate, new_rate), strict=True))
        inverse, _, _ = self._factors(h)
        estimate = inverse @ (difference / (diagonal * h))
        largest = np.maximum(np.maximum(self.largest, np.abs(x)), np.abs(new))
        allowed = self.floor + self.relative * largest
        error = float(np.max((np.abs(estimate) / allowed)[self.moved], initial=0.0))
        if error <= 1.0:
            self.largest = largest
        return new, new_rate, error if np.isfinite(error) else 1e3

    def give_up(self, x: Array, second: float) -> None:
        worst = int(np.argmax(np.abs(self.rate(x, second))))
        where = self.system.describe(worst)
        raise NoSolution(
            f"{self.system.netlist.title}: no step could be made at {second:.6g} s; {where} would not settle.",
            tried=("ever shorter steps",),
            where=where,
        )
