"""DC resistance from grid to earth against the tube's limit."""

from collections.abc import Iterable

import numpy as np

from thermionic.blocks import SolvedAmplifier
from thermionic.findings.base import Cure, Finding, Rule, Severity
from thermionic.values import Quantity, Series, display, nearest, step, written


class GridLeak(Rule):
    """The grid sees more resistance at DC than the tube's limit for cathode bias."""

    name = "grid-leak"
    fires_on = {"chain/output/grid_leak/ohm": "1M"}
    quiet_on = {"chain/output/grid_leak/ohm": "470k"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        system = amplifier.state.at.system
        for stage in amplifier.design.stages:
            path = f"chain/{stage.id}"
            designator = amplifier.compiled.designator(path)
            limits = amplifier.design.tube(stage.tube).limits
            limit = limits.grid_leak_cathode_bias_ohm
            push = np.zeros(system.size)
            grid = system.node(amplifier.netlist[designator].nodes[1])
            push[grid] = 1.0
            ohm = float(system.solve(system.G, push)[grid])
            if ohm <= limit:
                continue
            unsure = (
                " The limit is not certain for this type." if "grid_leak_cathode_bias_ohm" in limits.unsure else ""
            )
            cure = None
            if stage.grid_leak and stage.grid_leak.ohm > limit:
                value = nearest(limit, Series.E12)
                value = value if value < limit else step(value, Series.E12, -1)
                typed = written(value, Quantity.RESISTANCE)
                cure = Cure(f"{path}/grid_leak/ohm", typed, f"Fit a grid leak of {typed}")
            yield Finding(
                self.name,
                Severity.OVER,
                f"{path}/grid_leak" if stage.grid_leak else path,
                designator,
                f"{stage.tube} has too much grid leak",
                f"{display(ohm, Quantity.RESISTANCE)} from grid to earth; with cathode bias the limit is "
                f"{display(limit, Quantity.RESISTANCE)}.{unsure}",
                "The grid's own small leakage lifts it through this resistance, more as the tube heats: "
                "the current can run away.",
                ohm,
                limit,
                cure,
            )
