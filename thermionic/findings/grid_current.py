"""Grid current before full output."""

from collections.abc import Iterable
from functools import lru_cache
from typing import Any

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import TubeUse
from thermionic.circuit.harmonic_balance import waveform
from thermionic.circuit.netlist import GROUND
from thermionic.devices import Pentode, Triode
from thermionic.devices.base import Array
from thermionic.findings.base import Cure, Finding, Rule, Severity, preferred_cure, steps_up
from thermionic.values import Series, step

CONDUCTING = 20e-6
EARLY = 0.8


class GridCurrent(Rule):
    """A grid is driven into conduction well before full output."""

    name = "grid-current"
    fires_on = {"blocks/driver/cathode_resistor/ohm": "220"}
    quiet_on = {"blocks/driver/cathode_resistor/ohm": "1k8"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        seen: set[str] = set()
        for use in amplifier.compiled.tubes:
            if use.block in seen or use.grid == GROUND or use.block not in amplifier.route:
                continue
            onset, full = self.levels(amplifier, use.part)
            if onset is None or onset >= EARLY * full:
                continue
            seen.add(use.block)
            yield Finding(
                self.name,
                Severity.POOR,
                use.path,
                use.part,
                f"{use.type.type} draws grid current too soon",
                f"Its grid conducts from {onset:.2f} {self._unit(amplifier)} on; full output is {full:.2f} "
                f"{self._unit(amplifier)} ({onset / full:.0%}).",
                "The stage before cannot drive it: the tops are cut, and the coupling capacitor charges and "
                "shifts the bias after every peak. Grid current is estimated for this type, not fitted: take the "
                "level as approximate.",
                full - onset,
                full,
                self._cure(amplifier, use),
            )

    def levels(self, amplifier: SolvedAmplifier, part: str) -> tuple[float | None, float]:
        """Where the grid of ``part`` begins to conduct (None if it does not in the sweep) and full output, both in W,
        or in V rms for a line load."""
        return _onset(amplifier, part), self._full(amplifier)

    def _cure(self, amplifier: SolvedAmplifier, use: TubeUse) -> Cure | None:
        if not use.knob.endswith("cathode_resistor/ohm"):
            return None
        resistor = amplifier.netlist[amplifier.compiled.designator(use.knob)].device
        return preferred_cure(
            amplifier,
            use.knob,
            steps_up(float(resistor.ohm), lambda r: step(r, Series.E12, 1), 10),  # type: ignore[attr-defined]
            lambda trial: (start := _onset(trial, use.part)) is None or start >= EARLY * self._full(trial),
            lambda written: f"Raise the cathode resistor to {written}",
        )

    def _unit(self, amplifier: SolvedAmplifier) -> str:
        return "W" if amplifier.load.power else "V rms"

    def _full(self, amplifier: SolvedAmplifier) -> float:
        """Full output, W (V for a line load): 5 % distortion, or where the last grid itself conducts if that is
        later.

        A stage before that clips early brings the 5 % down with it, and must not set its own measure.
        """
        last = [use for use in amplifier.compiled.tubes if use.block in amplifier.route]
        limit = _onset(amplifier, last[-1].part) or 0.0
        full = amplifier.full_output
        return max(limit, full.power_watt if amplifier.load.power else full.output_volt)


def grid_wave(amplifier: SolvedAmplifier, use: TubeUse) -> Array:
    """A grid's current over a period at each level of the sweep, A, (levels, 64)."""
    device = amplifier.netlist[use.part].device
    assert isinstance(device, (Triode, Pentode))
    cathode = _phasors(amplifier, use.cathode)
    order = ("grid", "anode") if isinstance(device, Triode) else ("grid", "screen", "anode")
    volts = np.stack([waveform(_phasors(amplifier, use.nodes[name]) - cathode, 64) for name in order], axis=-1)
    current: Array = device.currents(volts)[0][..., 0]
    return current


def _phasors(amplifier: SolvedAmplifier, node: str) -> Any:
    drive = amplifier.drive
    return np.zeros(drive.x.shape[::2]) if node == GROUND else drive.phasors(node)


@lru_cache(maxsize=64)
def _onset(amplifier: SolvedAmplifier, part: str) -> float | None:
    """Output at which the grid's peak current reaches CONDUCTING, W (V for a line load); None if not in the sweep."""
    use = next(use for use in amplifier.compiled.tubes if use.part == part)
    peaks = grid_wave(amplifier, use).max(axis=1)
    power = amplifier.load.power
    outputs = [point.power_watt if power else point.output_volt for point in amplifier.sweep]
    above = np.flatnonzero(peaks >= CONDUCTING)
    if not len(above):
        return None
    row = int(above[0])
    if row == 0:
        return outputs[0]
    return float(np.interp(np.log(CONDUCTING), np.log(peaks[row - 1 : row + 1] + 1e-15), outputs[row - 1 : row + 1]))
