"""Power and distortion against level at three frequencies, and intermodulation."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.full_output import DrivenPoint, full_output
from thermionic.amplifier.solved import REFERENCE_HERTZ, drive_as_far
from thermionic.circuit.large_signal import intermodulation, two_tones
from thermionic.errors import NoSteadyState
from thermionic.lazily import remembered

LOW_HERTZ, HIGH_HERTZ = 40.0, 10e3
# The usual pairs: a low tone with one a quarter as large far above it, and two high ones close together.
PAIRS = ((60.0, 7e3, 4.0), (19e3, 20e3, 1.0))
_SHARES = np.array([0.1, 0.3, 0.5, 0.7, 0.9])


@dataclass(frozen=True)
class LevelSweep:
    """Power and distortion from small drive to past clipping at one frequency, Hz, and ``full`` output there.
    ``complete`` is whether a steady state was found at every level."""

    hertz: float
    points: tuple[DrivenPoint, ...]
    full: DrivenPoint
    complete: bool


@dataclass(frozen=True)
class Intermodulation:
    """Two tones together: their frequencies, how many times the second the first is, and for each level the output
    of a lone tone of the same peak (W; V rms at a line load) with the intermodulation as a fraction of the second."""

    first_hertz: float
    second_hertz: float
    ratio: float
    outputs: tuple[float, ...]
    fractions: tuple[float, ...]


def low_hertz(amplifier: SolvedAmplifier) -> float:
    """The low frequency to look at: that down to which the output transformer's core is rated, else 40 Hz."""
    for use in amplifier.compiled.transformers:
        if use.core is not None:
            return float(use.core.hertz)
    return LOW_HERTZ


@remembered
def level_sweeps(amplifier: SolvedAmplifier) -> tuple[LevelSweep, ...]:
    """At a low frequency, where a core counts, at 1 kHz and at 10 kHz. Raises NoSteadyState, BudgetSpent."""
    wanted = amplifier.swept.levels
    result = []
    for hertz in (low_hertz(amplifier), REFERENCE_HERTZ, HIGH_HERTZ):
        if hertz == REFERENCE_HERTZ:
            driven, full = amplifier.drive, amplifier.full_output
        else:
            driven = drive_as_far(amplifier.state.at, hertz, wanted, amplifier.swept)
            full = full_output(amplifier.points(driven), amplifier.load.ohm)
        complete = len(driven.levels) >= len(wanted) and amplifier.unsettled_volt is None
        result.append(LevelSweep(hertz, amplifier.points(driven), full, complete))
    return tuple(result)


@remembered
def intermodulations(amplifier: SolvedAmplifier) -> tuple[Intermodulation, ...]:
    """Both usual pairs of tones, from a tenth to nine tenths of full output's peak. What finds no steady state is
    left out. Raises BudgetSpent."""
    full = amplifier.full_output.source_volt
    to_level = amplifier.drive.levels[0] / amplifier.sweep[0].source_volt
    result = []
    for first, second, ratio in PAIRS:
        try:
            driven = two_tones(amplifier.state.at, first, second, ratio, _SHARES * full * to_level)
        except NoSteadyState:
            continue
        fractions = intermodulation(driven, amplifier.load.node)
        outputs = np.interp(
            _SHARES * full,
            [0.0, *(point.source_volt for point in amplifier.sweep)],
            [0.0, *(point.output_volt for point in amplifier.sweep)],
        )
        measured = outputs**2 / amplifier.load.ohm if amplifier.load.power else outputs
        result.append(Intermodulation(first, second, ratio, tuple(measured.tolist()), tuple(fractions.tolist())))
    return tuple(result)
