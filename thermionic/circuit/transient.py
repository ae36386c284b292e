"""The circuit in time, with steps as long as the error allows.

Method: TR-BDF2 (R. E. Bank et al., "Transient simulation of silicon devices and circuits", IEEE Trans.
Computer-Aided Design 4 (1985), p. 436), with the error estimate and dense output of M. E. Hosea and L. F. Shampine,
"Analysis and implementation of TR-BDF2", Applied Numerical Mathematics 20 (1996), p. 21. Both stages have one
matrix, and a step is grown or shrunk by whole factors, so the linear part is inverted a few times in a run and
only the devices' ports are iterated.
"""

from __future__ import annotations

from collections.abc import Sequence
from copy import copy
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from thermionic import budget
from thermionic.circuit.kernels.stages import Circuit
from thermionic.circuit.kernels.steps import (
    AT_CORNER,
    STUCK,
    TRIED,
    Allowed,
    Bounds,
    Kept,
    Points,
    Sources,
    State,
    follow,
    one_step,
    sources,
)
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.operating_point import OperatingPoint, operating_point
from thermionic.circuit.system import System
from thermionic.devices import CurrentSource, MainsSource, VoltageSource
from thermionic.devices.base import Array, Device
from thermionic.errors import NetlistRefused, NoSolution

_LEAST_STEP = 1e-12  # of the whole run
_KEPT = 24  # factorisations at most
_AT_ONCE = 1000  # steps at most between two looks at the budget
_NUMBERS = 2_000_000  # that are held for either, about
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


@dataclass(frozen=True)
class _Waves:
    """The sources that move, packed for the kernels: each one's numbers after what it is counted with in the steady
    right-hand side, where they begin and end, and where its value is taken off and added (-1 for earth)."""

    numbers: Array
    ends: NDArray[np.int_]
    places: NDArray[np.int_]

    @classmethod
    def of(cls, system: System) -> _Waves:
        """Those of a system."""
        moving: list[tuple[tuple[float, ...], tuple[int, int]]] = []
        for place in system.placed:
            device = place.part.device
            if isinstance(device, VoltageSource) and device.wave:
                moving.append(((float(device.volt), *device.wave.numbers()), (-1, place.unknowns[2])))
            elif isinstance(device, CurrentSource) and device.wave:
                moving.append(((float(device.ampere), *device.wave.numbers()), place.unknowns))  # type: ignore[arg-type]
            elif isinstance(device, MainsSource):
                still = float(device.excitation().dc[2])
                moving.append(((still, *device.wave().numbers()), (-1, place.unknowns[2])))
        return cls(
            np.array([number for numbers, _ in moving for number in numbers], dtype=float),
            np.cumsum([0, *(len(numbers) for numbers, _ in moving)]),
            np.array([places for _, places in moving], dtype=int).reshape(-1, 2),
        )


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
        self.waves = _Waves.of(system)
        self.warming = any(place.part.device.at_time(0.0) is not place.part.device for place in system.placed)
        self.states = any(type(place.part.device).after is not Device.after for place in system.placed)
        self.floor = np.where(np.arange(system.size) < len(system.nodes), accuracy.volt, accuracy.other)
        self.relative = accuracy.relative
        shaped = [
            place.part.device.wave
            for place in system.placed
            if isinstance(place.part.device, (VoltageSource, CurrentSource)) and place.part.device.wave
        ]
        shaped += [place.part.device.wave() for place in system.placed if isinstance(place.part.device, MainsSource)]
        times = [wave.corners(until) for wave in shaped]
        every = np.concatenate([np.array(corners, dtype=float), *times, [until]])
        rising = np.unique(every[(every > 0) & (every <= until)])
        # Two that rounding alone keeps apart are one; the last of all is the end of the run.
        apart = np.append(np.diff(rising) > 2 * _LEAST_STEP * until, True)
        self.corners = rising[apart]
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

    def still(self) -> None:
        """Leave the sources as they are at rest."""
        self.waves = _Waves(np.zeros(0), np.zeros(1, dtype=int), np.zeros((0, 2), dtype=int))

    def follow_only(self, least: float) -> None:
        """Let the step be set by what stores at least so much (F, H or Wb-turns a unit): the rest has settled long
        before, and every change of a device from step to step would be taken for a movement of its own."""
        self.moved = np.any(np.abs(self.system.C) >= least, axis=0)

    def _circuit(self) -> Circuit:
        """The circuit as it is."""
        system, table = self.system, self.present.table
        stores = np.ascontiguousarray(np.argwhere(system.C))
        return Circuit(
            table.laws, table.at, table.numbers, system.senses, table.own, self.reference, system.B, system.S,
            base=np.ascontiguousarray(system.G + system.B @ self.reference @ system.S.T),
            stores=stores, farads=system.C[stores[:, 0], stores[:, 1]],
        )  # fmt: skip

    def _sources(self) -> Sources:
        waves = self.waves
        return Sources(np.ascontiguousarray(self.system.b_dc), waves.numbers, waves.ends, waves.places)

    def _allowed(self) -> Allowed:
        return Allowed(self.floor, self.relative, self.moved, self.largest)

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
        size, injects, ports = self.system.size, self.system.B.shape[1], self.system.ports
        # Devices that change as time goes on are looked at after every step.
        at_once = 1 if self.states or self.warming else max(1, min(_AT_ONCE, _NUMBERS // size))
        seconds, points = np.empty(at_once), np.empty((at_once, size))
        kept = max(2, min(_KEPT, _NUMBERS // size**2))
        factors = Kept(
            np.zeros(kept), np.empty((kept, size, size)), np.empty((kept, size, injects)),
            np.empty((kept, injects, ports)),
        )  # fmt: skip
        settling = at_rest or isinstance(start, np.ndarray)
        clock = np.array([0.0, min(self.longest, self.until) / (65536 if at_rest else 64), float(settling), np.inf])
        state = State(x.copy(), np.zeros((2, size)), self.rate(x, 0.0), clock)
        x = state.x
        all_seconds, all_points = ([np.zeros(1)], [x[None].copy()]) if keep_from <= 0 else ([], [])
        written = Points(seconds, points, np.zeros(2, dtype=int))
        circuit = self._circuit()
        for following, corner in enumerate(self.corners.tolist()):
            ended = TRIED
            bounds = Bounds(corner, float(self.longest), _LEAST_STEP * self.until, float(keep_from))
            while ended != AT_CORNER:
                budget.check(
                    f"following {self.system.netlist.title} in time ({clock[0]:.3g} of {self.until:.3g} s done)"
                )
                ended = follow(circuit, self._sources(), self._allowed(), factors, state, bounds, written)
                if ended == STUCK:
                    self.give_up(x, float(clock[0]))
                all_seconds.append(seconds[: written.count[0]].copy())
                all_points.append(points[: written.count[0]].copy())
                if self.states or self.warming:
                    before = self.present
                    self._renew(x, float(clock[0]))
                    if self.present is not before:
                        circuit = self._circuit()
                    if self.warming:
                        state.rate[:] = self.rate(x, float(clock[0]))
            state.ahead[:] = 0.0
            if following + 1 < len(self.corners):
                clock[1] = min(clock[1], self.longest / 64)
        return Transient(self.present, np.concatenate(all_seconds), np.concatenate(all_points))

    def _with_sources(self, system: System) -> System:
        """The system with its sources as they are at time 0."""
        now = copy(system)
        now.b_dc = self.sources(0.0)
        return now

    def sources(self, second: float) -> Array:
        """The right-hand side at a time."""
        b: Array = np.empty(self.system.size)
        sources(*self._sources(), float(second), b)
        return b

    def rest(self) -> Array:
        """The unknowns at switch-on: capacitors at their starting charge, inductors without current."""
        # Each is a stiff source for an instant.
        system = self.present
        held = 1e6 * system.C
        charge = np.zeros(system.size)
        for place in system.placed:
            begins = place.part.device.begins()
            if begins is not None:
                for unknown, held_by in zip(place.unknowns, place.part.device.storage() @ begins, strict=True):
                    if unknown >= 0:
                        charge[unknown] += 1e6 * held_by
        rest = copy(system)
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

    def step(
        self, x: Array, slope: Array, rate: Array, second: float, h: float, settle: bool
    ) -> tuple[Array, Array, float] | None:
        """One step of TR-BDF2: the new unknowns, C dx/dt there, and the error over what is allowed; None where it
        cannot be solved. ``slope`` is dx/dt before, to guess from, ``rate`` C dx/dt."""
        new, new_rate = np.empty(len(x)), np.empty(len(x))
        ahead, clock = np.array([slope, np.zeros(len(x))]), np.array([second, h, float(settle), np.inf])
        state = State(x.copy(), ahead, rate.copy(), clock)
        error = one_step(self._circuit(), self._sources(), self._allowed(), state, new, new_rate)
        return None if error < 0 else (new, new_rate, float(error))

    def give_up(self, x: Array, second: float) -> None:
        worst = int(np.argmax(np.abs(self.rate(x, second))))
        where = self.system.describe(worst)
        raise NoSolution(
            f"{self.system.netlist.title}: no step could be made at {second:.6g} s; {where} would not settle.",
            tried=("ever shorter steps",),
            where=where,
        )
