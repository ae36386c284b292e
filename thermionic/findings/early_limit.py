"""Which of the last stage and the one before it gives out first, where neither should yet."""

from collections.abc import Iterable
from functools import partial

import numpy as np

from thermionic.amplifier import SolvedAmplifier, grid_onset
from thermionic.blocks.facets import TubeUse
from thermionic.circuit.large_signal import distortion
from thermionic.circuit.netlist import GROUND
from thermionic.findings.base import Cure, Finding, Rule, Severity, preferred_cure, steps_down
from thermionic.values import Series, step

# Full output (5 % distortion) comes too early below these parts of what the last grid could still be driven to; it is
# the driver's doing where the grid itself is given so much distortion. Rules of thumb.
DRIVER_PART, STAGE_PART, BENT = 0.8, 0.5, 0.035


def _last(amplifier: SolvedAmplifier) -> TubeUse | None:
    """The last tube on the signal's way, where a grid drives it; None under feedback, which bends the drive."""
    uses = [use for use in amplifier.compiled.tubes if use.block in amplifier.route and use.grid != GROUND]
    if amplifier.compiled.loops or len({use.block for use in uses}) < 2:
        return None
    return max(uses, key=lambda use: amplifier.route.index(use.block))


def _early(amplifier: SolvedAmplifier, part: float) -> float | None:
    """What the last grid could still be driven to, W (V rms at a line load), where full output comes before that
    ``part`` of it; None where it does not."""
    last = _last(amplifier)
    if last is None:
        return None
    most = grid_onset(amplifier, last.part) or amplifier.output(amplifier.sweep[-1])
    return most if amplifier.output(amplifier.full_output) < part * most else None


def _bent(amplifier: SolvedAmplifier) -> float:
    """Distortion of what the last grid is given at full output, as a fraction."""
    last = _last(amplifier)
    assert last is not None
    levels = [point.source_volt for point in amplifier.sweep]
    of_grid = distortion(amplifier.drive.phasors(last.grid))
    return float(np.interp(amplifier.full_output.source_volt, levels, of_grid))


def _less_resistance(amplifier: SolvedAmplifier, use: TubeUse, rule: Rule) -> Cure | None:
    """A smaller cathode resistor with which the rule is content and the anode within its limit."""
    if not use.knob.endswith("cathode_resistor/ohm"):
        return None
    ohm = amplifier.netlist[amplifier.compiled.designator(use.knob)].device.ohm  # type: ignore[attr-defined]

    def cured(trial: SolvedAmplifier) -> bool:
        cool = trial.parts[use.part].dissipation <= use.limits.anode_w
        return cool and not list(rule.examine(trial))

    return preferred_cure(
        amplifier,
        use.knob,
        steps_down(float(ohm), lambda r: step(r, Series.E12, -1), 1.0, 10),
        cured,
        lambda written: f"Lower the cathode resistor to {written}",
    )


class WeakDriver(Rule):
    """The stage before the last gives out before the last one does."""

    name = "weak-driver"
    fires_on = {"blocks/driver/cathode_resistor/ohm": "4k7"}
    quiet_on = {"blocks/driver/cathode_resistor/ohm": "1k5"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        most = _early(amplifier, DRIVER_PART)
        if most is None or _bent(amplifier) < BENT:
            return
        last = _last(amplifier)
        assert last is not None
        full, written = amplifier.output(amplifier.full_output), amplifier.load.written
        tubes = [use for use in amplifier.compiled.tubes if use.block in amplifier.route and use.block != last.block]
        driver = max(tubes, key=lambda use: amplifier.route.index(use.block))
        yield Finding(
            self.name,
            Severity.POOR,
            driver.path,
            driver.part,
            f"{driver.type.type} cannot drive the {last.type.type}",
            f"At full output, {written(full)}, the grid of {last.part} is given {_bent(amplifier):.1%} distortion; "
            f"that grid could go on to {written(most)}.",
            "The driver has too little current, voltage or load resistance for the swing: more of one of them, or "
            "a tube with more in hand.",
            most,
            full,
            partial(_less_resistance, amplifier, driver, self),
        )


class StageGivesOut(Rule):
    """The last stage bends long before its grid is at its limit: the load, or the idle current, does not suit its
    class."""

    name = "load-and-class"
    fires_on = {"blocks/output/cathode_resistor/ohm": "2k"}
    quiet_on = {"blocks/output/cathode_resistor/ohm": "750"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        most = _early(amplifier, STAGE_PART)
        if most is None or _bent(amplifier) >= BENT:
            return
        last = _last(amplifier)
        assert last is not None
        full, written = amplifier.output(amplifier.full_output), amplifier.load.written
        yield Finding(
            self.name,
            Severity.POOR,
            last.path,
            last.part,
            f"{last.type.type} gives out far below what its grid can be driven to",
            f"Distortion reaches 5 % at {written(full)}; its grid could go on to {written(most)}, and the drive is "
            "clean.",
            "It idles with too little current, or its load is too low, for the class that it works in.",
            most,
            full,
            partial(_less_resistance, amplifier, last, self),
        )
