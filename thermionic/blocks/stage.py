"""One stage of a solved amplifier: its numbers, and its anode diagram with load lines."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from thermionic.blocks.amplifier import REFERENCE_HERTZ, SolvedAmplifier
from thermionic.circuit.harmonic_balance import waveform
from thermionic.devices import Triode
from thermionic.devices.base import Array


@dataclass(frozen=True)
class StageNumbers:
    """A stage at idle and for a small signal, SI units.

    ``anode_volt`` and ``cathode_volt`` are to earth, ``bias_volt`` grid to cathode. ``gain`` is from the stage's
    input (before its coupling capacitor) to its anode at 1 kHz; ``low_hertz`` and ``high_hertz`` are its -3 dB
    points (None if outside 2 Hz to 500 kHz). ``output_ohm`` is the impedance at its anode, with what follows.
    ``input_for_full_volt`` is the rms level at its grid for the amplifier's full output.
    """

    anode_volt: float
    cathode_volt: float
    bias_volt: float
    anode_ampere: float
    dissipation_watt: float
    dissipation_limit_watt: float
    gain: float
    output_ohm: float
    low_hertz: float | None
    high_hertz: float | None
    input_for_full_volt: float


@dataclass(frozen=True, eq=False)
class AnodeDiagram:
    """What is drawn over anode voltage (anode to cathode, V) and anode current (A).

    ``curves`` are (grid volts, currents at ``volts``). A line is two points, each (V, A). ``swing`` is (samples, 2):
    the path over one period of 1 kHz at the drive of ``swing_watt`` output. ``limit_watt`` is the dissipation limit.
    """

    volts: Array
    curves: tuple[tuple[float, Array], ...]
    dc_line: tuple[tuple[float, float], tuple[float, float]]
    ac_line: tuple[tuple[float, float], tuple[float, float]]
    operating_point: tuple[float, float]
    swing: Array
    swing_watt: float
    limit_watt: float
    limit_volt: float
    most_volt: float
    most_ampere: float


def _tube(amplifier: SolvedAmplifier, stage_id: str) -> tuple[Triode, tuple[str, ...], int]:
    """The stage's triode, its nodes (anode, grid, cathode) and the index of its first port."""
    name = amplifier.compiled.designator(f"chain/{stage_id}")
    part = amplifier.netlist[name]
    assert isinstance(part.device, Triode)
    place = next(place for place in amplifier.state.at.system.placed if place.part.name == name)
    return part.device, part.nodes, place.ports.start


@lru_cache(maxsize=64)  # the amplifier before a change is asked again beside the one after it
def stage_numbers(amplifier: SolvedAmplifier, stage_id: str) -> StageNumbers:
    """The numbers of the stage with that id. Raises KeyError, NoSolution."""
    design = amplifier.design
    stage = next(stage for stage in design.stages if stage.id == stage_id)
    _, (anode, grid, cathode), _ = _tube(amplifier, stage_id)
    before = design.chain[design.chain.index(stage) - 1]
    source = f"{before.id}_anode" if before in design.stages else before.id
    state = amplifier.part(f"chain/{stage_id}")
    response = amplifier.response(anode, source)
    return StageNumbers(
        anode_volt=amplifier.voltage(anode),
        cathode_volt=amplifier.voltage(cathode),
        bias_volt=amplifier.voltage(grid) - amplifier.voltage(cathode),
        anode_ampere=state.current,
        dissipation_watt=state.dissipation,
        dissipation_limit_watt=amplifier.design.tube(stage.tube).limits.anode_w,
        gain=amplifier.gain(anode, source),
        output_ohm=abs(amplifier.small_signal.impedance(anode, REFERENCE_HERTZ)),
        low_hertz=response.corner(REFERENCE_HERTZ, upwards=False),
        high_hertz=response.corner(REFERENCE_HERTZ, upwards=True),
        input_for_full_volt=amplifier.full_output.source_volt * amplifier.gain(grid),
    )


def _load(amplifier: SolvedAmplifier, port: int, hertz: float) -> float:
    """What the tube sees between anode and cathode at a frequency, Ω: the real part of the impedance there with
    the tube's own conductances taken out."""
    at = amplifier.state.at
    system = at.system
    own = at.port_slopes.copy()
    own[port : port + 2, :] = 0.0
    matrix = system.jacobian(own) + 2j * np.pi * hertz * system.C
    terminals = system.S[:, port + 1]
    return float((terminals @ np.linalg.solve(matrix, terminals.astype(complex))).real)


def anode_diagram(amplifier: SolvedAmplifier, stage_id: str) -> AnodeDiagram:
    """The anode diagram of the stage with that id. Raises KeyError, NoSolution.

    The DC load line ends on the voltage axis at what the supply gives with no anode current and slopes by the whole
    resistance in the anode's path, cathode resistor and supply included; the AC line by what the tube sees at 1 kHz.
    """
    triode, (anode, grid, cathode), port = _tube(amplifier, stage_id)
    stage = next(stage for stage in amplifier.design.stages if stage.id == stage_id)
    limits = amplifier.design.tube(stage.tube).limits
    volt = amplifier.voltage(anode) - amplifier.voltage(cathode)
    ampere = amplifier.part(f"chain/{stage_id}").current
    dc, ac = (_load(amplifier, port, hertz) for hertz in (0.0, REFERENCE_HERTZ))

    row = _shown_row(amplifier)
    drive = amplifier.drive
    wave = {node: waveform(drive.phasors(node)[row], 64) for node in (anode, grid, cathode)}
    v = np.stack([wave[grid] - wave[cathode], wave[anode] - wave[cathode]], axis=-1)
    swing = np.stack([v[:, 1], triode.currents(v)[0][:, 1]], axis=-1)

    ac_end, dc_end = volt + ac * ampere, volt + dc * ampere
    most_volt = _round_up(1.1 * max(ac_end if ac_end < 3 * volt else 2 * volt, swing[:, 0].max(), volt, 1.0))
    most_ampere = _round_up(1.15 * max(float(swing[:, 1].max()), 2.0 * ampere, 1e-6))
    volts = np.linspace(0.0, most_volt, 49)
    bias = amplifier.voltage(grid) - amplifier.voltage(cathode)
    curves = []
    for grid_volt in _grid_steps(2.2 * min(bias, -0.5)):
        current = triode.currents(np.stack([np.full_like(volts, grid_volt), volts], axis=-1))[0][:, 1]
        curves.append((grid_volt, current))
    return AnodeDiagram(
        volts=volts,
        curves=tuple(curves),
        dc_line=((dc_end, 0.0), (dc_end - dc * most_ampere, most_ampere)),
        ac_line=((ac_end, 0.0), (ac_end - ac * most_ampere, most_ampere)),
        operating_point=(volt, ampere),
        swing=swing,
        swing_watt=amplifier.sweep[row].power_watt,
        limit_watt=limits.anode_w,
        limit_volt=limits.anode_v,
        most_volt=most_volt,
        most_ampere=most_ampere,
    )


def _shown_row(amplifier: SolvedAmplifier) -> int:
    """The row of the sweep whose swing is shown: the source's own level, else the one nearest full output."""
    if amplifier.at_source is not None:
        return amplifier.sweep.index(amplifier.at_source)
    full = amplifier.full_output.power_watt
    return min(range(len(amplifier.sweep)), key=lambda row: abs(amplifier.sweep[row].power_watt - full))


def _round_up(value: float) -> float:
    """The next 'round' number: 1, 1.2, 1.5, 2, 2.5, 3, 4, 5, 6, 8 times a power of ten."""
    decade = 10.0 ** np.floor(np.log10(value))
    rungs = np.array([1, 1.2, 1.5, 2, 2.5, 3, 4, 5, 6, 8, 10]) * decade
    return float(rungs[np.searchsorted(rungs, value * (1 - 1e-9))])


def _grid_steps(lowest: float) -> list[float]:
    """Grid voltages from 0 down to about ``lowest`` in some eight round steps."""
    size = -lowest / 8
    decade = 10.0 ** np.floor(np.log10(size))
    step = next(rung * decade for rung in (1.0, 2.0, 2.5, 5.0, 10.0) if rung * decade >= size * 0.999)
    return [-step * count for count in range(int(np.ceil(-lowest / step)) + 1)]
