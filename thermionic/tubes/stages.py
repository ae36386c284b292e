"""A published resistance-coupled stage, solved on its load lines: what a fit can be held to beside points.

The cathode resistor is taken as perfectly bypassed and the coupling capacitor as large, as the tables say; the shift
of the mean current under drive is left out, being second order at the levels published.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.devices import Triode

_SAMPLES = 64


@dataclass(frozen=True)
class PublishedStage:
    """A stage as a table gives it, SI units: ``gain``, and ``thd`` (a fraction, or None) at ``output_vrms``."""

    supply_v: float
    anode_load_ohm: float
    cathode_ohm: float
    next_grid_leak_ohm: float
    anode_a: float
    gain: float
    output_vrms: float
    thd: float | None = None
    source: str = ""


@dataclass(frozen=True)
class StageResult:
    """What the model makes of the stage: anode current A, voltage gain, total harmonic distortion as a fraction."""

    anode_a: float
    gain: float
    thd: float


def solve_stage(triode: Triode, stage: PublishedStage) -> StageResult:
    """Idle current, gain and distortion of ``triode`` in a published stage."""
    from scipy.optimize import brentq  # see fitting

    series = stage.anode_load_ohm + stage.cathode_ohm

    def excess(ampere: float) -> float:
        v = np.array([-ampere * stage.cathode_ohm, stage.supply_v - ampere * series])
        return float(triode.currents(v)[0][1]) - ampere

    idle = brentq(excess, 0.0, stage.supply_v / series)
    grid, anode = -idle * stage.cathode_ohm, stage.supply_v - idle * series
    load = 1.0 / (1.0 / stage.anode_load_ohm + 1.0 / stage.next_grid_leak_ohm)
    _, g = triode.currents(np.array([grid, anode]))
    gain = float(g[1, 0] / (g[1, 1] + 1.0 / load))

    swing = stage.output_vrms * 2**0.5 / gain * np.cos(2 * np.pi * np.arange(_SAMPLES) / _SAMPLES)
    va = anode - gain * swing
    for _ in range(12):
        i, g = triode.currents(np.stack([grid + swing, va], axis=-1))
        va = va - (i[:, 1] - idle + (va - anode) / load) / (g[:, 1, 1] + 1.0 / load)
    size = np.abs(np.fft.rfft(va))
    return StageResult(idle, gain, float(np.sqrt(np.sum(size[2:] ** 2)) / size[1]))
