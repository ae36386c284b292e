"""An indicator lamp that is too dim, or worked too hard."""

from __future__ import annotations

from collections.abc import Iterable

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import Indicated
from thermionic.design import find
from thermionic.findings.base import Cure, Finding, Rule, Severity
from thermionic.supplies.moments import at_work
from thermionic.values import Quantity, Series, display, nearest

_DIM, _BRIGHT = 0.5, 1.6  # of what it is to light with


class IndicatorCurrent(Rule):
    """The resistor before a lamp gives it far less or more than it is to light with."""

    name = "indicator-current"
    example = "sedge"
    fires_on = {"blocks/pilot/resistor/ohm": "330k"}
    quiet_on = {"blocks/pilot/resistor/ohm": "100k"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        usual = at_work(amplifier, amplifier.design.brief.mains_volt)
        for use in amplifier.compiled.said(Indicated):
            at = usual.state.at
            volts = [at.voltage(amplifier.compiled.node(node)) for node in (use.rail, use.lamp)]
            ohm = find(amplifier.design, use.resistor).value.ohm
            ampere = (volts[0] - volts[1]) / ohm
            share = ampere / use.ampere
            if _DIM <= share <= _BRIGHT or volts[0] <= volts[1]:
                continue
            fitting = display(nearest((volts[0] - volts[1]) / use.ampere, Series.E12), Quantity.RESISTANCE)
            dim = share < _DIM
            yield Finding(
                self.name,
                Severity.NOTE if dim else Severity.OVER,
                f"{use.resistor}/ohm",
                use.part,
                f"{use.part} is dim" if dim else f"{use.part} is worked too hard",
                f"{display(ampere, Quantity.CURRENT)} {usual.words}; it is to light with "
                f"{display(use.ampere, Quantity.CURRENT)}.",
                "A lamp that cannot be seen says that nothing is there." if dim
                else "It fades, and then it says that nothing is there.",
                1 / share if dim else share,
                1 / _DIM if dim else _BRIGHT,
                Cure(f"{use.resistor}/ohm", fitting, f"Fit {fitting}"),
            )  # fmt: skip
