"""Anode dissipation while the amplifier plays, and the current of a cathode."""

from collections.abc import Iterable

import numpy as np

from thermionic.amplifier import SolvedAmplifier, driven
from thermionic.blocks.facets import TubeUse
from thermionic.findings.base import Finding, Rule, Severity
from thermionic.findings.tubes import worst_of_each_block


class DrivenHeat(Rule):
    """An anode that is within its limit at idle is over it while the amplifier is driven: the load is too low for the
    class that it works in."""

    name = "driven-heat"
    example = "saltpan"
    fires_on = {
        "blocks/transformer/primary_ohm": "1k2",
        "blocks/bias/trim/travel": "0.38",
        "blocks/bias/trim_b/travel": "0.38",
    }
    quiet_on = {"blocks/transformer/primary_ohm": "8k"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        rows = [
            row for row, point in enumerate(amplifier.sweep) if point.source_volt <= amplifier.full_output.source_volt
        ]
        for use, heat in worst_of_each_block(amplifier, lambda use: self._most(amplifier, use, rows)):
            limit = use.limits.anode_w
            if heat <= limit or amplifier.parts[use.part].dissipation > limit:
                continue
            yield Finding(
                self.name,
                Severity.OVER,
                use.path,
                use.part,
                f"{use.type.type} anode runs too hot when driven",
                f"{heat:.1f} W on the way to full output, {amplifier.parts[use.part].dissipation:.1f} W at idle; the "
                f"{use.limits.called} is {limit:g} W.",
                "The load asks for more current than the tube can turn into output: a higher load, or less HT.",
                heat,
                limit,
            )

    def _most(self, amplifier: SolvedAmplifier, use: TubeUse, rows: list[int]) -> float:
        play = driven(amplifier, use.part)
        power = play.amperes["anode"][rows] * play.volts["anode"][rows]
        return float(np.max(np.mean(power, axis=-1), initial=0.0))


class CathodeCurrent(Rule):
    """A cathode gives more direct current than its maximum."""

    name = "cathode-current"
    fires_on = {"blocks/output/cathode_resistor/ohm": "150", "envelopes/v2/type": "45"}
    quiet_on = {"blocks/output/cathode_resistor/ohm": "1k"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for use, ampere in worst_of_each_block(amplifier, lambda use: _cathode(amplifier, use)):
            limit = use.limits.cathode_a
            if ampere <= limit:
                continue
            unsure = " The limit is not certain for this type." if "cathode_a" in use.limits.unsure else ""
            yield Finding(
                self.name,
                Severity.OVER,
                use.path,
                use.part,
                f"{use.type.type} cathode gives too much current",
                f"{ampere * 1e3:.0f} mA at idle; the {use.limits.called} is {limit * 1e3:.0f} mA.{unsure}",
                "The coating is stripped faster than it renews itself.",
                ampere,
                limit,
            )


def _cathode(amplifier: SolvedAmplifier, use: TubeUse) -> float:
    return -float(amplifier.state.at.terminal_currents[use.part][-1])
