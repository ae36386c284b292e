"""A feedback loop: how much there is of it at every frequency, and how near it is to oscillating."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from thermionic.amplifier.solved import REFERENCE_HERTZ, SolvedAmplifier
from thermionic.blocks.facets import Loop
from thermionic.circuit.netlist import Netlist
from thermionic.circuit.small_signal import Linear, SmallSignal
from thermionic.circuit.system import System
from thermionic.devices.base import Array, ComplexArray, Device
from thermionic.errors import NetlistRefused, ThermionicError
from thermionic.lazily import lazily, remembered

# Rules of thumb: with these the response has no peak worth the name, and tubes and parts may stray.
PHASE_MARGIN, GAIN_MARGIN = 45.0, 6.0
_LOWEST, HIGHEST_HERTZ, _A_DECADE = 0.01, 1e8, 40


@dataclass(frozen=True)
class Margin:
    """At one end of the band: the frequency at which the loop gain is 1 and how far its phase there is from turning
    the feedback round, degrees; the frequency at which its phase has turned and how far below 1 it is there, dB.
    None where there is no such frequency."""

    crossing_hertz: float | None
    phase_degrees: float | None
    turning_hertz: float | None
    gain_db: float | None

    @property
    def is_thin(self) -> bool:
        """Whether either is below what the rule of thumb asks."""
        thin_phase = self.phase_degrees is not None and self.phase_degrees < PHASE_MARGIN
        return thin_phase or (self.gain_db is not None and self.gain_db < GAIN_MARGIN)


@dataclass(frozen=True, eq=False)
class LoopGain:
    """The loop gain T of one feedback path with one load: (frequencies,), positive where the feedback is negative."""

    hertz: Array
    gain: ComplexArray

    @property
    def feedback_db(self) -> Array:
        """What the feedback takes off the gain, dB: 20 log10 |1 + T|."""
        level: Array = 20 * np.log10(np.abs(1.0 + self.gain))
        return level

    def feedback_at(self, hertz: float) -> float:
        """The same at one frequency."""
        return float(np.interp(np.log(hertz), np.log(self.hertz), self.feedback_db))

    @lazily
    def _degrees(self) -> Array:
        """The phase of T, unwrapped, with that in mid-band between -180 and 180."""
        angle = np.degrees(np.unwrap(np.angle(self.gain)))
        middle = int(np.argmin(np.abs(np.log(self.hertz / REFERENCE_HERTZ))))
        shifted: Array = angle - 360.0 * round(float(angle[middle]) / 360.0)
        return shifted

    @property
    def degrees(self) -> Array:
        """The phase of T, degrees: 0 in mid-band for negative feedback."""
        return self._degrees

    @lazily
    def is_stable(self) -> bool:
        """Whether the amplifier with this loop closed is at rest, by Nyquist's criterion: 1 + T does not go round
        the origin (H. Nyquist, "Regeneration theory", Bell System Technical Journal 11 (1932), p. 126). It holds
        where the amplifier is stable without this loop."""
        turned = np.unwrap(np.angle(1.0 + self.gain))
        return bool(abs(turned[-1] - turned[0]) < np.pi)

    @property
    def is_negative(self) -> bool:
        """Whether what comes back takes from the input in the middle of the band."""
        return bool(self.gain[np.argmin(np.abs(np.log(self.hertz / self._middle)))].real > 0)

    @lazily
    def low(self) -> Margin:
        """The margins below the middle of the band."""
        below = self.hertz <= self._middle
        return _margin(self.hertz[below][::-1], self.gain[below][::-1], self.degrees[below][::-1])

    @lazily
    def high(self) -> Margin:
        """The margins above it."""
        above = self.hertz >= self._middle
        return _margin(self.hertz[above], self.gain[above], self.degrees[above])

    @property
    def _middle(self) -> float:
        """Where there is most feedback between 20 Hz and 20 kHz."""
        heard = (self.hertz >= 20.0) & (self.hertz <= 20e3)
        return float(self.hertz[heard][np.argmax(np.abs(self.gain[heard]))])


def _margin(hertz: Array, gain: ComplexArray, degrees: Array) -> Margin:
    """The least margins on the way outwards from the middle."""
    level = 20 * np.log10(np.maximum(np.abs(gain), 1e-30))
    log = np.log(hertz)
    phases = [
        (180.0 - abs(float(_between(degrees, at, share))), float(np.exp(_between(log, at, share))))
        for at, share in _crossings(level)
    ]
    gains = [
        (-float(_between(level, at, share)), float(np.exp(_between(log, at, share))))
        for turn in (180.0, -180.0)
        for at, share in _crossings(degrees - turn)
    ]
    phase = min(phases, default=(None, None))
    # A loop that has turned while its gain is above 1 still is the worst of all.
    margin = min(gains, default=(None, None))
    return Margin(phase[1], phase[0], margin[1], margin[0])


def _crossings(values: Array) -> Iterator[tuple[int, float]]:
    """Where a curve goes through nought: the point before, and the share of the way to the next."""
    for at in np.flatnonzero(np.signbit(values[1:]) != np.signbit(values[:-1])).tolist():
        yield at, float(values[at] / (values[at] - values[at + 1]))


def _between(values: Array, at: int, share: float) -> float:
    return float(values[at] + share * (values[at + 1] - values[at]))


def frequencies() -> Array:
    """Those at which a loop is followed, Hz: far past both ends of the band."""
    count = round(float(np.log10(HIGHEST_HERTZ / _LOWEST)) * _A_DECADE) + 1
    return np.geomspace(_LOWEST, HIGHEST_HERTZ, count)


def loop_gain(
    amplifier: SolvedAmplifier, loop: Loop, load: Device | None = None, hertz: Array | None = None
) -> LoopGain:
    """The loop gain of a feedback path, with another load in place of the amplifier's own if one is given, at
    ``frequencies`` unless others are.

    Raises NetlistRefused where the loop cannot be broken at its parts.
    """
    netlist = amplifier.state.at.system.netlist
    return gain_of(amplifier, netlist, loop.parts, load, hertz, backwards=is_backwards(amplifier, loop))


@remembered
def is_backwards(amplifier: SolvedAmplifier, loop: Loop) -> bool:
    """Whether a feedback path carries its signal from the second terminal of its parts to the first.

    A path may be drawn from either end. Loop gains taken in the two directions differ, and the right one says what
    taking the path out does to the gain: A_open / A_closed is 1 + T but for the loading by the path itself (H. W.
    Bode, *Network Analysis and Feedback Amplifier Design* (1945), ch. 4).
    """
    hertz, netlist = np.array([REFERENCE_HERTZ]), amplifier.state.at.system.netlist

    def change(backwards: bool) -> float:
        try:
            return float(np.log(np.abs(1.0 + amplifier.small_signal.loop_gain(loop.parts, hertz, backwards)[0])))
        except NetlistRefused:
            return np.nan

    changes = {backwards: change(backwards) for backwards in (False, True)}
    known = [backwards for backwards, value in changes.items() if np.isfinite(value)]
    if len(known) < 2:
        return known == [True]
    node = amplifier.state.at.system.node(amplifier.compiled.node(amplifier.load.node))
    try:
        opened = linear(amplifier, netlist.without(lambda part: part.name in loop.parts))
        there = opened.at.system.node(amplifier.compiled.node(amplifier.load.node))
        ratio = opened.tone(hertz)[0, there] / amplifier.reference_phasors[node]
    except ThermionicError:
        return False
    without = float(np.log(max(abs(ratio), 1e-30)))
    return abs(changes[True] - without) < abs(changes[False] - without) - 1e-9


def gain_of(
    amplifier: SolvedAmplifier,
    netlist: Netlist,
    parts: tuple[str, ...],
    load: Device | None = None,
    hertz: Array | None = None,
    backwards: bool = False,
) -> LoopGain:
    """The loop gain through ``parts`` of the amplifier's circuit as ``netlist`` has it, at ``frequencies`` unless
    others are given; ``backwards`` the parts carry it from their second terminal to the first. Raises
    NetlistRefused."""
    hertz = frequencies() if hertz is None else hertz
    if load is not None:
        netlist = netlist.with_device(amplifier.load.part, load)
    return LoopGain(hertz, linear(amplifier, netlist).loop_gain(parts, hertz, backwards))


def linear(amplifier: SolvedAmplifier, netlist: Netlist) -> SmallSignal:
    """The amplifier's circuit with linear parts changed or added. None of them has ports, so that the devices' slopes
    stay as they are."""
    if netlist is amplifier.state.at.system.netlist:
        return amplifier.small_signal
    system = System(netlist)
    return SmallSignal(Linear(system, system.jacobian(amplifier.state.at.port_slopes)))
