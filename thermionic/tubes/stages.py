"""Published stages, solved on their load lines: what a fit can be held to beside points.

In a resistance-coupled stage the cathode resistor is taken as perfectly bypassed and the coupling capacitor as
large, as the tables say; the shift of the mean current under drive is left out, being second order at the levels
published. In an output stage the transformer is ideal and the bias fixed.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.devices import Pentode, Triode

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


@dataclass(frozen=True)
class OutputStage:
    """A single-ended output stage as a data sheet gives it, SI units; ``screen_v`` is None for a triode.

    ``anode_max_a`` and ``screen_max_a`` are the mean currents at full drive. What is not given is None.
    """

    anode_v: float
    grid_v: float
    load_ohm: float
    drive_peak_v: float
    power_w: float
    thd: float
    screen_v: float | None = None
    anode_max_a: float | None = None
    screen_max_a: float | None = None
    source: str = ""
    unsure: bool = False


@dataclass(frozen=True)
class OutputResult:
    """What the model makes of it: power W, distortion as a fraction, idle and driven mean currents A."""

    power_w: float
    thd: float
    anode_a: float
    screen_a: float
    anode_max_a: float
    screen_max_a: float


def solve_output(tube: Triode | Pentode, stage: OutputStage) -> OutputResult:
    """Power and distortion of a tube in a published output stage."""
    pentode = isinstance(tube, Pentode)
    anode_port, screen_port = (2, 1) if pentode else (1, 1)

    def currents(grid: np.ndarray, va: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        volts = [grid, np.full_like(va, stage.screen_v), va] if pentode else [grid, va]
        return tube.currents(np.stack(volts, axis=-1))

    phase = 2 * np.pi * np.arange(_SAMPLES) / _SAMPLES
    grid = stage.grid_v + stage.drive_peak_v * np.cos(phase)
    idle, _ = currents(np.array([stage.grid_v]), np.array([stage.anode_v]))
    mean = float(idle[0, anode_port])
    va = np.full(_SAMPLES, stage.anode_v)
    i = np.zeros((_SAMPLES, len(tube.ports)))
    for _ in range(60):
        # The transformer passes the mean and loads the rest; by Newton at every sample, its step held back.
        i, g = currents(grid, va)
        residual = i[:, anode_port] - mean + (va - stage.anode_v) / stage.load_ohm
        step = -residual / (g[:, anode_port, anode_port] + 1.0 / stage.load_ohm)
        va = np.maximum(va + np.clip(step, -60.0, 60.0), 0.02 * va)
        mean += 0.5 * (float(np.mean(i[:, anode_port])) - mean)
    size = np.abs(np.fft.rfft(va)) * 2 / _SAMPLES
    return OutputResult(
        power_w=float(size[1] ** 2 / (2 * stage.load_ohm)),
        thd=float(np.sqrt(np.sum(size[2:] ** 2)) / max(size[1], 1e-12)),
        anode_a=float(idle[0, anode_port]),
        screen_a=float(idle[0, screen_port]) if pentode else 0.0,
        anode_max_a=float(np.mean(i[:, anode_port])),
        screen_max_a=float(np.mean(i[:, screen_port])) if pentode else 0.0,
    )
