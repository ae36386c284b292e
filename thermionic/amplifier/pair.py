"""The two halves of a push-pull pair as one tube, and how well whatever splits a signal balances its two sides."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.amplifier.driven import driven
from thermionic.amplifier.solved import SolvedAmplifier
from thermionic.amplifier.stage import anode_current, grid_steps, round_up, screen_of, shown_row, small_signal
from thermionic.blocks import Flow
from thermionic.blocks.facets import TubeUse
from thermionic.devices import Pentode, Triode
from thermionic.devices.base import Array


@dataclass(frozen=True, eq=False)
class CompositeDiagram:
    """Both halves as one composite tube: B. J. Thompson, "Graphical determination of performance of push-pull audio
    amplifiers", Proceedings of the IRE 21 (1933), p. 591.

    ``volts`` (n,) is how far side a's anode is above where it idles, side b's as far below. ``curves`` are
    (grid swing of side a, composite current at ``volts``): side a's anode current less side b's, A. ``load_ohm`` is
    what the composite tube works into: a quarter of anode to anode. ``swing``, ``half_a`` and ``half_b`` (samples, 2)
    are (V, A) over a period at the drive of ``swing_output`` (W, V rms for a line load): the composite current, side
    a's, and side b's as a negative one.
    """

    volts: Array
    curves: tuple[tuple[float, Array], ...]
    load_ohm: float
    idle_ampere: float
    swing: Array
    half_a: Array
    half_b: Array
    swing_output: float
    most_volt: float
    most_ampere: float


def composite_diagram(amplifier: SolvedAmplifier, block_id: str) -> CompositeDiagram | None:
    """The composite diagram of a block whose two sides drive one load; None if it has no two sides, or they do not
    work against each other. Raises NoSolution."""
    uses = amplifier.compiled.tubes_of(block_id)
    sides = [[use for use in uses if use.side == side] for side in "ab"]
    if not all(sides):
        return None
    a, b = sides
    signals = [[small_signal(amplifier, use) for use in side] for side in sides]
    volt = (signals[0][0].anode_volt - signals[1][0].anode_volt) / 2
    ampere = sum(signal.anode_ampere for signal in signals[0]) - sum(signal.anode_ampere for signal in signals[1])
    if abs(ampere) < 1e-15:
        return None
    row = shown_row(amplifier)
    idle = [amplifier.over_cathode(side[0], "anode") for side in sides]
    waves = [driven(amplifier, side[0].part).volts["anode"][row] for side in sides]
    moved = ((waves[0] - idle[0]) - (waves[1] - idle[1])) / 2
    flowing = [sum(driven(amplifier, use.part).amperes["anode"][row] for use in side) for side in sides]

    most_volt = round_up(1.1 * max(float(np.abs(moved).max()), 1.0))
    most_ampere = round_up(1.1 * max(float(np.max(flowing)), 1e-6))
    volts = np.linspace(-most_volt, most_volt, 81)
    bias = min(amplifier.over_cathode(use, "grid") for use in uses)
    steps = [step for step in grid_steps(1.05 * min(bias, -0.5), 5) if step]
    swings = np.array([*steps, 0.0, *(-step for step in reversed(steps))])
    currents = _currents(amplifier, a, swings, volts) - _currents(amplifier, b, -swings, -volts)
    point = amplifier.sweep[row]
    return CompositeDiagram(
        volts=volts,
        curves=tuple(zip(swings.tolist(), currents, strict=True)),
        load_ohm=float((-volt / ampere).real),
        idle_ampere=float(sum(amplifier.parts[use.part].current for use in a)
                          - sum(amplifier.parts[use.part].current for use in b)),
        swing=np.stack([moved, flowing[0] - flowing[1]], axis=-1),
        half_a=np.stack([moved, flowing[0]], axis=-1),
        half_b=np.stack([moved, -np.asarray(flowing[1])], axis=-1),
        swing_output=amplifier.output(point),
        most_volt=most_volt,
        most_ampere=most_ampere,
    )  # fmt: skip


def _currents(amplifier: SolvedAmplifier, side: list[TubeUse], swings: Array, volts: Array) -> Array:
    """The anode current of all tubes of a side with grids ``swings`` and anodes ``volts`` from where they idle, A:
    (swings, volts)."""
    total = np.zeros((len(swings), len(volts)))
    for use in side:
        device = amplifier.netlist[use.part].device
        assert isinstance(device, (Triode, Pentode))
        anode = amplifier.over_cathode(use, "anode")
        grid = amplifier.over_cathode(use, "grid")
        screen, follows = screen_of(amplifier, use)
        at = np.maximum(anode + volts, 0.0)
        screens = at if screen is None else np.maximum(screen + follows * volts, 0.0)
        total = total + anode_current(device, grid + swings[:, None], screens, at)
    return total


@dataclass(frozen=True, eq=False)
class PairBalance:
    """How two outputs that should be equal and opposite differ: side a over side b in dB, and by how many degrees
    they are not opposite, at each of ``hertz`` (frequencies,)."""

    hertz: Array
    level_db: Array
    phase_degrees: Array

    def at(self, hertz: float) -> tuple[float, float]:
        """Both at one frequency."""
        log, wanted = np.log10(self.hertz), np.log10(hertz)
        return float(np.interp(wanted, log, self.level_db)), float(np.interp(wanted, log, self.phase_degrees))


def pair_balance(amplifier: SolvedAmplifier, block_id: str) -> PairBalance | None:
    """The balance of a block that gives a balanced pair, 10 Hz to 100 kHz; None for any other, and where a side has
    no signal. Raises NoSolution."""
    block = amplifier.design.block(block_id)
    port = next((name for name, flow in block.ports().items() if flow is Flow.PAIR), None)
    if port is None:
        return None
    a, b = (amplifier.response(block.node(port, side)) for side in "ab")
    if not np.all(np.abs(a.transfer) * np.abs(b.transfer) > 0):
        return None
    within = (a.hertz >= 10.0) & (a.hertz <= 100e3)
    ratio = -a.transfer[within] / b.transfer[within]
    return PairBalance(a.hertz[within], 20 * np.log10(np.abs(ratio)), np.degrees(np.unwrap(np.angle(ratio))))
