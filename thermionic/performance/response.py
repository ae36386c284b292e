"""What the whole amplifier does to a signal against frequency, and to a square wave."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from thermionic import budget
from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.solved import REFERENCE_HERTZ
from thermionic.circuit.small_signal import Response, respond
from thermionic.circuit.system import System
from thermionic.circuit.transient import transient
from thermionic.devices import Piecewise
from thermionic.devices.base import Array, ComplexArray
from thermionic.lazily import remembered
from thermionic.performance.levels import reference_output

LOWEST, HIGHEST, A_DECADE = 1.0, 1e6, 40
SQUARES = (100.0, 1e3, 10e3)
# A square wave's edges take this part of its period.
_EDGE = 1e-3
_HARMONICS = 800
_PERIODS = 2
_SHOWN = 400


@dataclass(frozen=True, eq=False)
class Sweep:
    """The amplifier against frequency, from 1 Hz to 1 MHz: ``gain`` from the source's own voltage to the load,
    complex, and ``output_ohm`` the impedance at the load's terminals without the load, complex; both
    (frequencies,). ``load_ohm`` is the load's nominal impedance."""

    hertz: Array
    gain: ComplexArray
    output_ohm: ComplexArray
    load_ohm: float

    @property
    def response(self) -> Response:
        """The gain as a response, for its corners."""
        return Response(self.hertz, self.gain)

    @property
    def decibels(self) -> Array:
        """The gain against that at 1 kHz, dB."""
        level: Array = self.response.decibels
        middle: float = float(np.interp(np.log(REFERENCE_HERTZ), np.log(self.hertz), level))
        return level - middle

    @property
    def degrees(self) -> Array:
        """The phase against that in mid-band, unwrapped, so that 0 or 180 degrees there are 0."""
        angle = np.degrees(np.unwrap(np.angle(self.gain)))
        middle = float(np.interp(np.log(REFERENCE_HERTZ), np.log(self.hertz), angle))
        shifted: Array = angle - 180.0 * round(middle / 180.0)
        return shifted

    @property
    def damping(self) -> Array:
        """The load's nominal impedance over the amplifier's own, (frequencies,)."""
        factor: Array = self.load_ohm / np.abs(self.output_ohm)
        return factor


def frequencies() -> Array:
    """Those of a sweep, Hz: evenly over the logarithm."""
    count = round(float(np.log10(HIGHEST / LOWEST)) * A_DECADE) + 1
    return np.geomspace(LOWEST, HIGHEST, count)


@remembered
def sweep(amplifier: SolvedAmplifier) -> Sweep:
    """The amplifier against frequency. Raises NoSolution."""
    hertz = frequencies()
    system, small = amplifier.state.at.system, amplifier.small_signal
    load = system.node(amplifier.load.node)
    columns = np.hstack([system.tone[:, None], small.push(amplifier.load.node)])
    solved = small.respond(hertz, columns)[:, load]
    source = amplifier.netlist[amplifier.compiled.source.part].device.excitation().tone[2]
    return Sweep(hertz, solved[:, 0] / source, amplifier.without_load(hertz, solved[:, 1]), amplifier.load.ohm)


@dataclass(frozen=True, eq=False)
class SquareWave:
    """A square wave of ``hertz`` at the load, one period once it is steady: ``seconds`` and ``volts`` (points,), with
    ``ideal_volt`` the height of its flat top if the amplifier did to all of it what it does at 1 kHz. ``linear`` is
    whether it was put together from the small-signal response, which cannot clip: the load is a measured table."""

    hertz: float
    seconds: Array
    volts: Array
    ideal_volt: float
    linear: bool

    @property
    def overshoot(self) -> float:
        """How far the first half-period goes past the height of a flat top, as a fraction of that; 0 where it does
        not."""
        return max(float(self._half.max()) / self.ideal_volt - 1.0, 0.0)

    @property
    def tilt(self) -> float:
        """How much of its level the flat top loses over the half-period, as a fraction: of the straight line through
        its first and third quarter. 0 where it rises."""
        half = self._half
        quarter, last = float(half[len(half) // 4]), float(half[3 * len(half) // 4])
        middle = 0.5 * (quarter + last)
        return max(2.0 * (quarter - last) / middle, 0.0) if middle > 0 else 0.0

    @property
    def rise_seconds(self) -> float | None:
        """From a tenth to nine tenths of the way up, s; None where it does not get so far in half a period."""
        points = len(self.volts) - 1
        # From the middle of the half-period before the edge to that after it.
        around = np.concatenate([self.volts[3 * points // 4 : -1], self.volts[: points // 2]]) * self._sign
        share = (around / self.ideal_volt + 1.0) / 2.0
        step = float(self.seconds[1] - self.seconds[0])
        low, high = _first_above(share, 0.1), _first_above(share, 0.9)
        return (high - low) * step if low is not None and high is not None else None

    @property
    def _half(self) -> Array:
        half: Array = self.volts[: len(self.volts) // 2] * self._sign
        return half

    @property
    def _sign(self) -> float:
        return float(np.sign(self.volts[len(self.volts) // 4])) or 1.0


def _first_above(share: Array, limit: float) -> float | None:
    """Where a curve first rises past a limit, in points, between them by a straight line."""
    above = np.flatnonzero((share[1:] >= limit) & (share[:-1] < limit))
    if not len(above):
        return None
    at = int(above[0])
    return at + float((limit - share[at]) / (share[at + 1] - share[at]))


@remembered
def square_wave(amplifier: SolvedAmplifier, hertz: float) -> SquareWave:
    """A square wave through the amplifier, the heating value of whose output would be the reference output (see
    ``levels.reference_output``) if it came out square. Raises NoSolution, BudgetSpent.

    Every unknown is first put together from the small-signal response at the wave's harmonics, so that no slow time
    constant has to settle; from there it is followed in time with every curve of every tube.
    """
    with budget.at_most():
        volt = reference_output(amplifier)
        height = (volt * amplifier.load.ohm) ** 0.5 if amplifier.load.power else volt
        source = height / amplifier.gain(amplifier.load.node)
        at = amplifier.state.at
        seconds = np.linspace(0.0, 1.0 / hertz, _SHOWN + 1)
        steady = at.x + source * _steady(amplifier, hertz, seconds)
        linear = at.system.dispersion(np.array([REFERENCE_HERTZ])) is not None
        place = at.system.node(amplifier.load.node)
        if linear:
            volts = steady[:, place] - at.x[place]
            return SquareWave(hertz, seconds, volts, height, linear)
        name = amplifier.compiled.source.part
        device = replace(at.system.place(name).part.device, wave=_wave(hertz, source))  # type: ignore[type-var]
        system = System(amplifier.state.standing.with_device(name, device))
        run = transient(
            system,
            _PERIODS / hertz,
            start=steady[0],
            longest=0.01 / hertz,
            keep_from=(_PERIODS - 1) / hertz,
        )
        followed = np.interp(seconds + (_PERIODS - 1) / hertz, run.seconds, run.x[:, place])
        return SquareWave(hertz, seconds, followed - at.x[place], height, linear)


def _wave(hertz: float, volt: float) -> Piecewise:
    """Between -volt and volt, in the middle of its rising edge at time 0."""
    period, edge = 1.0 / hertz, _EDGE / hertz
    times = (0.0, edge / 2, (period - edge) / 2, (period + edge) / 2, period - edge / 2, period)
    return Piecewise(times, (0.0, volt, volt, -volt, -volt, 0.0), period=period)


def _steady(amplifier: SolvedAmplifier, hertz: float, seconds: Array) -> Array:
    """Every unknown over a square wave of one volt, by the small-signal response: (times, size).

    A wave with straight edges has the Fourier coefficients of a square one times sinc of the edge.
    """
    system = amplifier.state.at.system
    order = np.arange(1.0, 2 * _HARMONICS, 2)
    size = 4 / (np.pi * order) * np.sinc(order * _EDGE)
    source = amplifier.netlist[amplifier.compiled.source.part].device.excitation().tone[2]
    tone = respond(
        system,
        amplifier.state.at.slopes,
        order * hertz,
        (system.tone / source)[:, None],
    )[..., 0]
    turning = np.exp(2j * np.pi * hertz * np.outer(seconds, order))
    result: Array = np.imag(turning @ (size[:, None] * tone))
    return result
