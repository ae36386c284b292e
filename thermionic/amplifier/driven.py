"""A tube while the amplifier plays: its electrodes over a period of the test tone, and the class that it works in."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.amplifier.solved import SolvedAmplifier
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.spectrum import waveform
from thermionic.devices import Pentode, Triode
from thermionic.devices.base import Array
from thermionic.errors import NoSolution
from thermionic.lazily import remembered

SAMPLES = 64
# A grid is said to conduct from this current on.
CONDUCTING = 20e-6
# Grid current below this part of full output is meant, or a fault; above it is where clipping begins.
WELL_BEFORE = 0.8
# An anode is said to be cut off while it carries less than this part of its peak.
CUT_OFF = 0.02


@dataclass(frozen=True, eq=False)
class Driven:
    """One tube over a period at each level of the sweep: (levels, samples).

    ``volts`` are its electrodes' to its cathode, ``amperes`` the currents into them, by the electrodes' names. A
    pentode strapped as a triode has its screen as well.
    """

    volts: dict[str, Array]
    amperes: dict[str, Array]


@remembered
def driven(amplifier: SolvedAmplifier, use: str) -> Driven:
    """The tube with that designator as it is driven. Raises KeyError, NoSolution."""
    tube = next((tube for tube in amplifier.compiled.tubes if tube.part == use), None)
    if tube is None:
        raise KeyError(use)
    device = amplifier.netlist[tube.part].device
    assert isinstance(device, (Triode, Pentode))
    names = ("grid", "anode") if isinstance(device, Triode) else ("grid", "screen", "anode")
    wave = {name: _wave(amplifier, node) for name, node in tube.nodes.items()}
    volts = {name: wave[name] - wave["cathode"] for name in names}
    currents = device.currents(np.stack([volts[name] for name in names], axis=-1))[0]
    return Driven(volts, dict(zip(names, np.moveaxis(currents, -1, 0), strict=True)))


def _wave(amplifier: SolvedAmplifier, node: str) -> Array:
    drive = amplifier.drive
    return np.zeros((len(drive.levels), SAMPLES)) if node == GROUND else waveform(drive.phasors(node), SAMPLES)


@dataclass(frozen=True)
class WorkingClass:
    """How the tubes of a block work up to full output. Outputs are W, or V rms at a line load.

    ``conducts`` is the least part of the cycle that an anode conducts for at full output; ``leaves_a`` the output at
    which one is first cut off and ``grid_from`` that at which a grid first conducts, None if it does not up to
    ``full`` output.
    """

    conducts: float
    leaves_a: float | None
    grid_from: float | None
    full: float

    @property
    def letters(self) -> str:
        """By the usual letters, such as AB1: A where every anode conducts for the whole cycle, B where one is cut off
        for half of it from the smallest signals on, AB between; 2 where grids conduct well before full output, else
        1."""
        if self.leaves_a is None:
            letters = "A"
        else:
            letters = "B" if self.leaves_a < 0.05 * self.full and self.conducts < 0.6 else "AB"
        return letters + ("2" if self.grid_from is not None and self.grid_from < WELL_BEFORE * self.full else "1")


def working_class(amplifier: SolvedAmplifier, block_id: str) -> WorkingClass:
    """The class that the tubes of a block work in. Raises KeyError if it has none, NoSolution."""
    uses = amplifier.compiled.tubes_of(block_id)
    if not uses:
        raise KeyError(block_id)
    levels = np.array([point.source_volt for point in amplifier.sweep])
    full = amplifier.full_output.source_volt
    waves = [driven(amplifier, use.part).amperes for use in uses]
    anodes = np.stack([wave["anode"] for wave in waves])
    most = anodes.max(axis=2)
    if not np.all(most > 0):
        raise NoSolution(f"A tube of {amplifier.design.block(block_id).label} carries no current.")
    conducts = np.mean(anodes > CUT_OFF * most[..., None], axis=2).min(axis=0)
    leaves = _crossing(levels, (anodes.min(axis=2) / most).min(axis=0))
    most_output = amplifier.output(amplifier.full_output)
    onsets = [onset for use in uses if (onset := grid_onset(amplifier, use.part)) is not None]
    return WorkingClass(
        float(np.interp(full, levels, conducts)),
        _output_at(amplifier, levels, leaves) if leaves is not None and leaves <= full else None,
        min((onset for onset in onsets if onset <= most_output), default=None),
        most_output,
    )


def grid_onset(amplifier: SolvedAmplifier, use: str) -> float | None:
    """Output at which a grid's peak current reaches CONDUCTING, W (V for a line load); None if not in the sweep.
    Raises KeyError, NoSolution."""
    peaks = driven(amplifier, use).amperes["grid"].max(axis=1)
    outputs = [amplifier.output(point) for point in amplifier.sweep]
    above = np.flatnonzero(peaks >= CONDUCTING)
    if not len(above):
        return None
    row = int(above[0])
    if row == 0:
        return outputs[0]
    return float(np.interp(np.log(CONDUCTING), np.log(peaks[row - 1 : row + 1] + 1e-15), outputs[row - 1 : row + 1]))


def _crossing(levels: Array, least: Array) -> float | None:
    """The drive at which the least current over the peak falls to CUT_OFF; None if it does not."""
    below = np.flatnonzero(least <= CUT_OFF)
    if not len(below):
        return None
    row = int(below[0])
    if row == 0:
        return float(levels[0])
    return float(np.interp(-CUT_OFF, -least[row - 1 : row + 1], levels[row - 1 : row + 1]))


def _output_at(amplifier: SolvedAmplifier, levels: Array, level: float) -> float:
    """The output at a drive between those solved, W (V rms at a line load)."""
    volt = float(np.interp(level, levels, [point.output_volt for point in amplifier.sweep]))
    return volt**2 / amplifier.load.ohm if amplifier.load.power else volt
