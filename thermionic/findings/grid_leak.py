"""DC resistance from grid to earth against the tube's limit."""

from collections.abc import Iterable

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import Bias
from thermionic.circuit.netlist import GROUND
from thermionic.design import field
from thermionic.findings.base import Cure, Finding, Rule, Severity
from thermionic.findings.tubes import worst_of_each_block
from thermionic.values import Quantity, Series, display, nearest, step, written

# A grid that is biased through a grid leak of megohms means to have one; its tube is small, and carries a
# milliampere.
_MEGOHMS = 20e6
_NO_PATH = 100e6
# The stopper and a resistor's tolerance on top of a leak that is just at the limit are no fault.
_PASSES = 1.05


class GridLeak(Rule):
    """The grid sees more resistance at DC than the tube's limit for the way it is biased."""

    name = "grid-leak"
    fires_on = {"blocks/output/grid_leak/ohm": "1M"}
    quiet_on = {"blocks/output/grid_leak/ohm": "470k"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for use, ohm in worst_of_each_block(amplifier, lambda use: grid_resistance(amplifier, use.grid)):
            fixed = use.bias is Bias.FIXED
            name = "grid_leak_fixed_bias_ohm" if fixed else "grid_leak_cathode_bias_ohm"
            limit = getattr(use.limits, name)
            if use.bias is Bias.LEAK:
                limit = _MEGOHMS
            if ohm <= _PASSES * limit or ohm > _NO_PATH:
                continue
            unsure = " The limit is not certain for this type." if name in use.limits.unsure else ""
            cure = None
            leak = field(amplifier.design, f"{use.leak}/ohm").value if use.leak else 0.0
            # What is in its way besides, a bias supply's own resistance, stays.
            room = limit - max(ohm - leak, 0.0)
            if leak > room > 0:
                value = nearest(room, Series.E12)
                value = value if value <= room else step(value, Series.E12, -1)
                typed = written(value, Quantity.RESISTANCE)
                cure = Cure(f"{use.leak}/ohm", typed, f"Fit a grid leak of {typed}")
            yield Finding(
                self.name,
                Severity.OVER,
                use.leak or use.path,
                use.part,
                f"{use.type.type} has too much grid leak",
                f"{display(ohm, Quantity.RESISTANCE)} from grid to earth; with {use.bias.value} the limit is "
                f"{display(limit, Quantity.RESISTANCE)}.{unsure}",
                "The grid's own small leakage lifts it through this resistance, more as the tube heats: "
                "the current can run away.",
                ohm,
                limit,
                cure,
            )


def grid_resistance(amplifier: SolvedAmplifier, grid: str) -> float:
    """DC resistance from a grid to earth with the tubes out of the way, Ω."""
    if grid == GROUND:
        return 0.0
    system = amplifier.state.at.system
    push = np.zeros(system.size)
    at = system.node(amplifier.compiled.node(grid))
    push[at] = 1.0
    return float(system.solve(system.G, push)[at])
