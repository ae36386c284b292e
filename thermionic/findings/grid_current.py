"""Grid current before full output."""

import math
from collections.abc import Iterable
from functools import partial

from thermionic.amplifier import SolvedAmplifier, grid_onset
from thermionic.blocks.facets import TubeUse
from thermionic.findings.base import Cure, Finding, Rule, Severity, preferred_cure, steps_up
from thermionic.values import Series, step

EARLY = 0.8
DRIVEN = (
    0.1  # of its voltage to the cathode: a grid that moves less than this stands still, and its cathode is driven
)


def _sureness(use: TubeUse) -> str:
    unit = use.type.unit(use.unit)
    by = "taken from a published figure" if unit.grid_currents else "estimated from its perveance and its mu"
    return f"The grid current of this type is {by}, and may be {unit.grid_current_factor:g} times more or less."


def _is_driven(amplifier: SolvedAmplifier, use: TubeUse) -> bool:
    grid = amplifier.phasor(use.grid)
    return abs(grid) >= DRIVEN * abs(grid - amplifier.phasor(use.cathode))


class GridCurrent(Rule):
    """A grid is driven into conduction well before full output. A grid at earth for signal, whose cathode is driven,
    has no stage before it and is left to it."""

    name = "grid-current"
    fires_on = {"blocks/driver/cathode_resistor/ohm": "220"}
    quiet_on = {"blocks/driver/cathode_resistor/ohm": "1k8"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        seen: set[str] = set()
        for use in amplifier.compiled.tubes:
            if use.block in seen or use.block not in amplifier.route or not _is_driven(amplifier, use):
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
                f"Its grid conducts from {amplifier.load.written(onset)} on; full output is "
                f"{amplifier.load.written(full)} ({onset / full:.0%}).",
                "The stage before cannot drive it: the tops are cut, and the coupling capacitor charges and "
                f"shifts the bias after every peak. {_sureness(use)}",
                full - onset,
                full,
                partial(self._cure, amplifier, use),
            )

    def levels(self, amplifier: SolvedAmplifier, part: str) -> tuple[float | None, float]:
        """Where the grid of ``part`` begins to conduct (None if it does not in the sweep) and full output, both in W,
        or in V rms for a line load."""
        return grid_onset(amplifier, part), self._full(amplifier)

    def _cure(self, amplifier: SolvedAmplifier, use: TubeUse) -> Cure | None:
        if not use.knob.endswith("cathode_resistor/ohm"):
            return None
        resistor = amplifier.netlist[amplifier.compiled.designator(use.knob)].device
        return preferred_cure(
            amplifier,
            use.knob,
            steps_up(float(resistor.ohm), lambda r: step(r, Series.E12, 1), 10),  # type: ignore[attr-defined]
            lambda trial: self._share(trial, use.part),
            lambda written: f"Raise the cathode resistor to {written}",
        )

    def _share(self, amplifier: SolvedAmplifier, part: str) -> float:
        """Where its grid begins to conduct, as a part of where it may."""
        start, full = self.levels(amplifier, part)
        return math.inf if start is None else start / max(EARLY * full, 1e-12)

    def _full(self, amplifier: SolvedAmplifier) -> float:
        """Full output, W (V for a line load): 5 % distortion, or where the last grid itself conducts if that is
        later.

        A stage before that clips early brings the 5 % down with it, and must not set its own measure.
        """
        last = [use for use in amplifier.compiled.tubes if use.block in amplifier.route]
        limit = grid_onset(amplifier, last[-1].part) or 0.0
        return max(limit, amplifier.output(amplifier.full_output))
