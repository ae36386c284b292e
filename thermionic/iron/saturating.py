"""Low notes: full output against frequency, and the cycle in which the core comes to its rating."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from thermionic import devices
from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.full_output import full_output
from thermionic.amplifier.solved import drive_as_far
from thermionic.circuit.large_signal import drive
from thermionic.circuit.spectrum import waveform
from thermionic.devices.base import Array
from thermionic.errors import NoSteadyState
from thermionic.iron.output import limits, output_transformer, primary_turns, sections_used, transformer_of
from thermionic.lazily import remembered

_LOW_SWEEP = tuple(np.geomspace(10.0, 200.0, 14).tolist())


@dataclass(frozen=True, eq=False)
class SaturatingCycle:
    """One cycle at the lowest frequency at which the core stands full output: ``share`` of it, 0 to 1, the
    magnetising current and that into the load as the primary sees it, A, all (points,)."""

    hertz: float
    share: Array
    magnetising: Array
    carried: Array
    distortion: float


@remembered
def saturating_cycle(amplifier: SolvedAmplifier) -> SaturatingCycle | None:
    """The cycle at the limit; None where the core has no rating, or no steady state is found there."""
    result = limits(amplifier)
    use = output_transformer(amplifier)
    if result.core_hertz is None or use is None:
        return None
    level = amplifier.drive.levels[0] * amplifier.full_output.source_volt / amplifier.sweep[0].source_volt
    try:
        driven = drive(amplifier.state.at, result.core_hertz, np.array([0.3, 0.7, 1.0]) * level, None, 16)
    except NoSteadyState:
        return None
    device = amplifier.netlist[use.part].device
    assert isinstance(device, devices.Transformer)
    system = amplifier.state.at.system
    whole = primary_turns(use, device)
    secondary = len(device.windings) - sections_used(use)
    points = 201
    currents = [
        waveform(driven.x[-1, system.branch(use.part, place)][None], points)[0]
        for place in range(len(device.windings))
    ]
    turns = [float(winding.turns) for winding in device.windings]
    magnetising = sum(current * turn for current, turn in zip(currents, turns, strict=True)) / whole
    carried = (
        -sum(current * turn for current, turn in zip(currents[secondary:], turns[secondary:], strict=True)) / whole
    )
    size = np.abs(driven.phasors(amplifier.load.node)[-1])
    bent = float(np.sqrt(np.sum(size[2:] ** 2)) / max(size[1], 1e-30))
    return SaturatingCycle(
        result.core_hertz, np.arange(points) / points, np.asarray(magnetising), np.asarray(carried), bent
    )


@dataclass(frozen=True)
class OutputAgainstFrequency:
    """The output at which distortion reaches 5 %, W, at each of ``hertz``, and the lowest frequencies at which it is
    still nine tenths and a half of that at 1 kHz; None where it is that at the lowest looked at."""

    hertz: tuple[float, ...]
    watt: tuple[float, ...]
    middle_watt: float
    full_hertz: float | None
    half_hertz: float | None


def output_against_frequency(
    amplifier: SolvedAmplifier, told: Callable[[float], None] = lambda part: None
) -> OutputAgainstFrequency:
    """Solve full output at low frequencies, where inductance and core count. Raises DesignRefused without an output
    transformer, BudgetSpent."""
    transformer_of(amplifier)
    middle = amplifier.full_output.power_watt
    hertz, watt = [], []
    for place, one in enumerate(_LOW_SWEEP):
        told(place / len(_LOW_SWEEP))
        watt.append(_full_at(amplifier, one))
        hertz.append(one)
    levels = np.array(watt)

    def lowest(share: float) -> float | None:
        short = np.flatnonzero(levels < share * middle)
        if not len(short):
            return None
        at = int(short[-1])
        if at + 1 >= len(hertz):
            return float(hertz[-1])
        logs = np.log(hertz[at : at + 2])
        return float(np.exp(np.interp(share * middle, levels[at : at + 2], logs)))

    return OutputAgainstFrequency(tuple(hertz), tuple(watt), middle, lowest(0.9), lowest(0.5))


def _full_at(amplifier: SolvedAmplifier, hertz: float) -> float:
    """The output at a frequency where distortion first reaches 5 %, W; the most that was solved if it does not."""
    try:
        driven = drive_as_far(amplifier.state.at, hertz, amplifier.swept.levels, amplifier.swept)
    except NoSteadyState:
        return 0.0
    return full_output(amplifier.points(driven), amplifier.load.ohm).power_watt
