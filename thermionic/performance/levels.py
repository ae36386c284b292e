"""The gain budget: what each block gives and takes, the level at every point, and which stage gives out first."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.driven import CONDUCTING
from thermionic.amplifier.stage import anode_current, driven_load, screen_of, small_signal
from thermionic.amplifier.stations import level, phasor, stations
from thermionic.blocks.facets import TubeUse
from thermionic.devices import Pentode, Triode
from thermionic.devices.base import Array
from thermionic.lazily import remembered

# How far above idle a grid is followed, V: far past where any tube's grid conducts.
_FURTHEST = 8.0
_STEPS = 400
_HALVINGS = 50


@dataclass(frozen=True)
class Step:
    """One block of the signal's way. ``gain`` is V over V at 1 kHz from the block before it (between the two sides
    of a balanced pair). The levels are V rms where the signal leaves it. ``gives_out_volt`` is the source's level, V
    rms, at which a tube of it reaches the end of its load line: its grid conducts or its anode is cut off; None for
    a block without tubes. ``margin_db`` is that against the last stage's."""

    block: str
    gain: float
    at_reference: float
    at_full: float
    at_source: float
    gives_out_volt: float | None
    margin_db: float | None


@dataclass(frozen=True)
class GainBudget:
    """Every block's part. ``reference`` is the output at which the first levels are: W, or V rms at a line load.
    ``source_at_reference`` and ``source_at_full`` are what the source gives for them, V rms; ``first`` the block
    that gives out first of all ("" without tubes on the way). ``overdriven`` is whether the source's own level is
    past what the sweep went to, and its levels therefore the small signal's."""

    steps: tuple[Step, ...]
    reference: float
    full: float
    source_volt: float
    source_at_reference: float
    source_at_full: float
    first: str
    overdriven: bool


def reference_output(amplifier: SolvedAmplifier) -> float:
    """The output that figures are given at: 1 W, or 1 mW where the amplifier gives no watt (headphones); at a line
    load the level that what follows needs, V rms, or the next power of ten below full output."""
    full = amplifier.output(amplifier.full_output)
    if amplifier.load.power:
        return 1.0 if full > 1.0 else 1e-3
    wanted = amplifier.load.line_volt or 1.0
    return wanted if full > wanted else float(10.0 ** np.floor(np.log10(full)))


def source_for(amplifier: SolvedAmplifier, output: float) -> float:
    """The source's level, V rms, for an output up to the sweep's most (W, V rms for a line load)."""
    from scipy.interpolate import (
        PchipInterpolator,  # takes a while to import, which nothing before the first page needs
    )

    volt = (output * amplifier.load.ohm) ** 0.5 if amplifier.load.power else output
    points = amplifier.sweep
    volts = [0.0]
    levels = [0.0]
    for point in points:  # past clipping the output may fall again
        if point.output_volt > volts[-1]:
            volts.append(point.output_volt)
            levels.append(point.source_volt)
    return float(PchipInterpolator(volts, levels)(min(volt, volts[-1])))


@remembered
def gain_budget(amplifier: SolvedAmplifier) -> GainBudget:
    """The gain budget at 1 kHz. Raises NoSolution."""
    reference = reference_output(amplifier)
    low, full = source_for(amplifier, reference), amplifier.full_output.source_volt
    own = amplifier.compiled.source.volt
    limits = {block: gives_out(amplifier, block) for block in amplifier.route}
    known = {block: volt for block, volt in limits.items() if volt is not None}
    last = list(known.values())[-1] if known else None
    steps = []
    before: complex | None = None
    for station in stations(amplifier):
        here = phasor(amplifier, station)
        limit = limits[station.block]
        steps.append(
            Step(
                station.block,
                1.0 if before is None else abs(here) / max(abs(before), 1e-15),
                level(amplifier, station, low),
                level(amplifier, station, full),
                level(amplifier, station, own),
                limit,
                # A stage at the end of its load line without a signal has no headroom to count in decibels.
                20 * float(np.log10(limit / last)) if limit and last else None,
            )
        )
        before = here
    return GainBudget(
        tuple(steps), reference, amplifier.output(amplifier.full_output), own, low, full,
        min(known, key=lambda block: known[block]) if known else "",
        own > amplifier.sweep[-1].source_volt,
    )  # fmt: skip


def gives_out(amplifier: SolvedAmplifier, block_id: str) -> float | None:
    """The source's level, V rms at 1 kHz, at which the first tube of a block reaches the end of its load line.

    Its own curves are followed along the load that it works into for a small signal, up to where its grid draws 20 µA
    and, but for the halves of a pair, down to where its anode is cut off; both halves of a pair are followed as one
    composite tube. What the next stage's grid takes when it conducts is not in it: this is what the stage itself
    could do. None without tubes, or where the signal does not pass them.
    """
    uses = amplifier.compiled.tubes_of(block_id)
    sides = [[use for use in uses if use.side == side] for side in "ab"]
    if all(sides):
        result = [_pair_limit(amplifier, sides[0], sides[1])]
    else:
        result = [_single_limit(amplifier, use) for use in uses]
    reached = [limit for limit in result if limit is not None]
    return min(reached) if reached else None


class _Tube:
    """One section about its idle: its currents at a grid swing and a fall of its anode, arrays."""

    def __init__(self, amplifier: SolvedAmplifier, use: TubeUse) -> None:
        device = amplifier.netlist[use.part].device
        assert isinstance(device, (Triode, Pentode))
        self.device = device
        self.grid = amplifier.over_cathode(use, "grid")
        self.anode = amplifier.over_cathode(use, "anode")
        self.screen, self.follows = screen_of(amplifier, use)
        self.ampere = amplifier.parts[use.part].current

    def _screen(self, fall: Array) -> Array:
        if self.screen is None:
            return np.maximum(self.anode - fall, 0.0)
        return np.maximum(self.screen - self.follows * fall, 0.0)

    def current(self, swing: Array, fall: Array) -> Array:
        """The anode's current, A."""
        return anode_current(self.device, self.grid + swing, self._screen(fall), np.maximum(self.anode - fall, 0.0))

    def grid_current(self, swing: Array, fall: Array) -> Array:
        """The grid's current, A."""
        anode = np.maximum(self.anode - fall, 0.0)
        screen = (self._screen(fall),) if isinstance(self.device, Pentode) else ()
        volts = np.broadcast_arrays(self.grid + swing, *screen, anode)
        current: Array = self.device.currents(np.stack(volts, axis=-1))[0][..., 0]
        return current


def _single_limit(amplifier: SolvedAmplifier, use: TubeUse) -> float | None:
    signal = small_signal(amplifier, use)
    per_volt = abs(signal.anode_ampere)
    if per_volt < 1e-15:
        return None
    tube = _Tube(amplifier, use)
    ohm = driven_load(amplifier, use)
    up = _onset(tube, lambda swing, fall: tube.current(swing, fall) - tube.ampere, ohm)
    return min(up, tube.ampere) / per_volt / 2**0.5


def _pair_limit(amplifier: SolvedAmplifier, side_a: list[TubeUse], side_b: list[TubeUse]) -> float | None:
    signals = [small_signal(amplifier, side[0]) for side in (side_a, side_b)]
    volt = (signals[0].anode_volt - signals[1].anode_volt) / 2
    ampere = signals[0].anode_ampere * len(side_a) - signals[1].anode_ampere * len(side_b)
    if abs(ampere) < 1e-15:
        return None
    a, b = _Tube(amplifier, side_a[0]), _Tube(amplifier, side_b[0])
    idle = a.ampere * len(side_a) - b.ampere * len(side_b)

    def together(swing: Array, fall: Array) -> Array:
        return len(side_a) * a.current(swing, fall) - len(side_b) * b.current(-swing, -fall) - idle

    return _onset(a, together, float((-volt / ampere).real)) / abs(ampere) / 2**0.5


def _onset(tube: _Tube, current, ohm: float) -> float:  # type: ignore[no-untyped-def]
    """How far the current rises above idle, A, until the grid conducts, along a load of ``ohm``."""
    swing = np.linspace(0.0, max(-tube.grid, 0.0) + _FURTHEST, _STEPS)
    low = np.zeros(_STEPS)
    high = np.full(_STEPS, max(tube.anode, 1.0))
    for _ in range(_HALVINGS):  # the fall of the anode at which tube and load agree
        middle = 0.5 * (low + high)
        short = middle < ohm * current(swing, middle)
        low, high = np.where(short, middle, low), np.where(short, high, middle)
    conducting = np.flatnonzero(tube.grid_current(swing, low) >= CONDUCTING)
    at = int(conducting[0]) if len(conducting) else _STEPS - 1
    rise: float = float(current(swing[at : at + 1], low[at : at + 1])[0])
    return max(rise, 0.0)
