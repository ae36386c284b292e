"""Power and distortion against level; two tones at once; a burst past full output."""

from __future__ import annotations

from typing import Any

import numpy as np

from bold_anode.amps.rooms import Shown
from bold_anode.amps.studies import shown as study_shown
from bold_anode.frame.figures import Figure
from bold_anode.frame.plots import THIRD, Axes, Plot, Scale, Ticks, decades, drawn
from bold_anode.frame.requests import Request
from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.full_output import FULL_DISTORTION
from thermionic.performance.power import LevelSweep, level_sweeps
from thermionic.values import Quantity, display

_KINDS = ("second", "third", "fourth", "fifth")
_LEAST = 0.01  # %


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The tab."""
    amplifier = shown.solved.amplifier
    sweeps = level_sweeps(amplifier)
    return "chain/power.html", {
        "plots": drawn(_plot(amplifier, sweep) for sweep in sweeps),
        "figures": [Figure(f"5 % at {_hertz(sweep.hertz)}", _full(amplifier, sweep)) for sweep in sweeps],
        "core": any(use.core for use in amplifier.compiled.transformers),
        "transformer": bool(amplifier.compiled.transformers),
        "incomplete": any(not sweep.complete for sweep in sweeps),
        **study_shown(request, shown.project, "two-tones"),
        **study_shown(request, shown.project, "burst"),
    }


def _plot(amplifier: SolvedAmplifier, sweep: LevelSweep) -> Plot:
    outputs = np.array([amplifier.output(point) for point in sweep.points])
    rising = np.concatenate([[True], np.diff(np.maximum.accumulate(outputs)) > 0])
    points = [point for point, kept in zip(sweep.points, rising.tolist(), strict=True) if kept]
    outputs = outputs[rising]
    least, most = 10 ** np.floor(np.log10(outputs[0])), 10 ** np.ceil(np.log10(outputs[-1]))
    unit = "W" if amplifier.load.power else "V"
    axes = Axes(Scale(float(least), float(most), log=True), Scale(_LEAST, 100.0, log=True), unit, THIRD)
    total = np.array([100 * point.distortion for point in points])
    lines = [axes.curve("ac", outputs, total, "all", "%")]
    key = [("ac", "all harmonics")]
    for at, kind in enumerate(_KINDS):
        size = np.array([100 * point.harmonics[at] for point in points])
        if size.max() < _LEAST:
            continue
        lines.append(axes.curve(kind, outputs, size, _ORDERS[at], "%"))
        key.append((kind, _ORDERS[at]))
    return axes.plot(
        f"Distortion against output at {_hertz(sweep.hertz)}",
        (f"output at {_hertz(sweep.hertz)}, {unit}{'' if unit == 'W' else ' rms'}", "distortion, %", ""),
        lines,
        [],
        Ticks(decades(float(least), float(most)), decades(_LEAST, 100.0)),
        key,
    )


_ORDERS = ("2nd", "3rd", "4th", "5th")


def _full(amplifier: SolvedAmplifier, sweep: LevelSweep) -> str:
    """The output at which distortion reaches 5 %, in words."""
    written = amplifier.load.written(amplifier.output(sweep.full))
    return written if sweep.full.distortion >= FULL_DISTORTION else f"over {written}"


def _hertz(value: float) -> str:
    return display(value, Quantity.FREQUENCY)
