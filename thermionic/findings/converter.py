"""A converter at the ends of its range: its input, and what it can deliver."""

from __future__ import annotations

from collections.abc import Iterable

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import ConverterUse
from thermionic.findings.base import Finding, Rule, Severity
from thermionic.supplies.moments import Moment, at_work, cold, house_volts
from thermionic.values import Quantity, display

_FULL = 0.98  # of its limit, from which it holds its current and not its voltage


def delivered(moment: Moment, use: ConverterUse) -> float:
    """What a converter delivers, A."""
    return -float(moment.state.at.terminal_currents[use.part][1])


class ConverterRange(Rule):
    """A converter has too little or too much at its input, or more is wanted of it than it delivers."""

    name = "converter-range"
    example = "sedge"
    fires_on = {"blocks/converter/ampere": "12m"}
    quiet_on = {"blocks/converter/ampere": "20m"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        uses = amplifier.compiled.said(ConverterUse)
        if not uses:
            return
        low, _, high = house_volts(amplifier.design)
        at_low, at_high = at_work(amplifier, low), cold(amplifier, high)
        for use in uses:
            path = f"blocks/{use.block}"
            node = at_low.state.netlist[use.part].nodes[0]
            ampere, least, most = delivered(at_low, use), at_low.lowest(node), at_high.highest(node)
            if ampere > _FULL * use.ampere:
                volt = at_low.state.at.voltage(at_low.state.netlist[use.part].nodes[1])
                yield Finding(
                    self.name, Severity.POOR, f"{path}/ampere", use.part, f"{use.part} gives all that it can",
                    f"{display(ampere, Quantity.CURRENT)} {at_low.words}, its limit, and {volt:.0f} V are left of "
                    "what it is set to.",
                    "Past its limit a converter holds its current and lets its voltage go, or stops and tries again.",
                    ampere / use.ampere, _FULL,
                )  # fmt: skip
            if least < use.least_volt:
                yield Finding(
                    self.name, Severity.POOR, f"{path}/input", use.part, f"{use.part} is fed too little",
                    f"{least:.1f} V at the bottom of the ripple {at_low.words}; it wants {use.least_volt:g} V.",
                    "It no longer holds its output, and the ripple before it comes through; the lower its input, the "
                    "more it draws.", use.least_volt / max(least, 1e-3), 1.0,
                )  # fmt: skip
            if most > use.most_volt:
                yield Finding(
                    self.name, Severity.OVER, f"{path}/input", use.part, f"{use.part} is fed too much",
                    f"{most:.1f} V {at_high.words}; it is made for {use.most_volt:g} V.",
                    "Its input side fails, and what fails shorted takes the low supply with it.", most, use.most_volt,
                )  # fmt: skip
