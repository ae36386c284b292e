"""Grid current before full output."""

from collections.abc import Iterable
from functools import lru_cache

import numpy as np

from thermionic.blocks import SolvedAmplifier
from thermionic.circuit.harmonic_balance import waveform
from thermionic.devices import Triode
from thermionic.findings.base import Finding, Rule, Severity, preferred_cure, steps_up
from thermionic.values import Series, step

CONDUCTING = 20e-6
EARLY = 0.8


class GridCurrent(Rule):
    """A grid is driven into conduction well before full output."""

    name = "grid-current"
    fires_on = {"chain/driver/cathode_resistor/ohm": "220"}
    quiet_on = {"chain/driver/cathode_resistor/ohm": "1k8"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for stage in amplifier.design.stages:
            onset, full = _onset(amplifier, stage.id), self._full(amplifier)
            if onset is None or onset >= EARLY * full:
                continue
            path = f"chain/{stage.id}"
            yield Finding(
                self.name,
                Severity.POOR,
                path,
                amplifier.compiled.designator(path),
                f"{stage.tube} draws grid current too soon",
                f"Its grid conducts from {onset:.2f} W on; full output is {full:.2f} W ({onset / full:.0%}).",
                "The stage before cannot drive it: the tops are cut, and the coupling capacitor charges and "
                "shifts the bias after every peak. Grid current is estimated for this type, not fitted: take the "
                "level as approximate.",
                full - onset,
                full,
                preferred_cure(
                    amplifier,
                    f"{path}/cathode_resistor/ohm",
                    steps_up(stage.cathode_resistor.ohm, lambda r: step(r, Series.E12, 1), 10),
                    lambda trial, name=stage.id: (  # type: ignore[misc]
                        (start := _onset(trial, name)) is None or start >= EARLY * self._full(trial)
                    ),
                    lambda written: f"Raise the cathode resistor to {written}",
                ),
            )

    def _full(self, amplifier: SolvedAmplifier) -> float:
        """Full output, W: 5 % distortion, or where the output grid itself conducts if that is later.

        A stage before that clips early brings the 5 % down with it, and must not set its own measure.
        """
        limit = _onset(amplifier, amplifier.design.output_stage.id) or 0.0
        return max(limit, amplifier.full_output.power_watt)


@lru_cache(maxsize=32)
def _onset(amplifier: SolvedAmplifier, stage_id: str) -> float | None:
    """Output at which the grid's peak current reaches CONDUCTING, W; None if it does not in the sweep."""
    part = amplifier.netlist[amplifier.compiled.designator(f"chain/{stage_id}")]
    assert isinstance(part.device, Triode)
    anode, grid, cathode = (amplifier.drive.phasors(node) for node in part.nodes)
    volts = np.stack([waveform(grid - cathode, 64), waveform(anode - cathode, 64)], axis=-1)
    peaks = part.device.currents(volts)[0][..., 0].max(axis=1)
    powers = [point.power_watt for point in amplifier.sweep]
    above = np.flatnonzero(peaks >= CONDUCTING)
    if not len(above):
        return None
    row = int(above[0])
    if row == 0:
        return powers[0]
    return float(np.interp(np.log(CONDUCTING), np.log(peaks[row - 1 : row + 1] + 1e-15), powers[row - 1 : row + 1]))
