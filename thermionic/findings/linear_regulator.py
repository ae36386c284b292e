"""A three-terminal regulator at the ends of its range: what it needs across it, its limit, its heat, its input."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import LinearUse
from thermionic.findings.base import Finding, Rule, Severity
from thermionic.supplies.moments import Moment, at_work, cold, house_volts
from thermionic.values import Quantity, display

# Inside, °C: where such types shut themselves down, and what leaves them some life (a rule of thumb of the trade).
HOTTEST, LASTING = 150.0, 110.0
_FULL = 0.98


class LinearRange(Rule):
    """A three-terminal regulator drops out on a low mains, is at its limit, too hot or over its voltage."""

    name = "linear-range"
    example = "sedge"
    fires_on = {"blocks/heater_rail/kelvin_per_watt": "60"}
    quiet_on = {"blocks/heater_rail/kelvin_per_watt": "25"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        uses = amplifier.compiled.said(LinearUse)
        if not uses:
            return
        low, _, high = house_volts(amplifier.design)
        lowest, highest, early = at_work(amplifier, low), at_work(amplifier, high), cold(amplifier, high)
        for use in uses:
            block: Any = amplifier.design.block(use.block)
            path = f"blocks/{use.block}"
            source, out = lowest.state.netlist[use.part].nodes
            left = lowest.lowest(source) - lowest.state.at.voltage(out)
            ampere = -float(lowest.state.at.terminal_currents[use.part][1])
            if ampere > _FULL * block.ampere:
                yield Finding(
                    self.name, Severity.POOR, f"{path}/ampere", use.part, f"{use.part} gives all that it can",
                    f"{display(ampere, Quantity.CURRENT)} {lowest.words}, its limit.",
                    "Cold heaters ask for several times their current: it starts slowly, or not.",
                    ampere / block.ampere, _FULL,
                )  # fmt: skip
            elif left < block.dropout_volt:
                yield Finding(
                    self.name, Severity.POOR, f"{path}/dropout_volt", use.part, f"{use.part} drops out",
                    f"{left:.1f} V are left across it at the bottom of the ripple {lowest.words}; it wants "
                    f"{block.dropout_volt:g} V.",
                    "The ripple before it comes through as it is, and its output falls with the mains.",
                    block.dropout_volt / max(left, 1e-3), 1.0,
                )  # fmt: skip
            watt = _watt(highest, use)
            inside = block.celsius(watt)
            if inside > LASTING:
                over = inside > HOTTEST
                yield Finding(
                    self.name, Severity.OVER if over else Severity.POOR, f"{path}/kelvin_per_watt", use.part,
                    f"{use.part} is too hot" if over else f"{use.part} runs hot",
                    f"{watt:.1f} W {highest.words}: {inside:.0f} °C inside; it shuts down at some {HOTTEST:g} °C, "
                    f"and {LASTING:g} °C leave it some life (a rule of thumb).",
                    "A larger heat-sink, or a resistor before it that takes the heat where it does no harm.",
                    inside, HOTTEST if over else LASTING,
                )  # fmt: skip
            most = early.highest(source)
            if most > block.rating_volt:
                yield Finding(
                    self.name, Severity.OVER, f"{path}/rating_volt", use.part,
                    f"{use.part} has too much at its input",
                    f"{most:.1f} V {early.words}; it is made for {block.rating_volt:g} V.",
                    "It fails shorted, and then its load has all of that.", most, block.rating_volt,
                )  # fmt: skip


def _watt(moment: Moment, use: LinearUse) -> float:
    source, out = moment.state.netlist[use.part].nodes
    at = moment.state.at
    return -float(at.terminal_currents[use.part][1]) * (at.voltage(source) - at.voltage(out))
