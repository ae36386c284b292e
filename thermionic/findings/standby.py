"""A standby switch: what its contacts break, and what it does to a warm rectifier."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from thermionic.amplifier import Compiled, SolvedAmplifier
from thermionic.blocks.facets import Rectified, Standby
from thermionic.circuit.supply import solve_circuit
from thermionic.design import Capacitor
from thermionic.findings.base import Cure, Finding, Rule, Severity, next_above
from thermionic.findings.mains import worst
from thermionic.lazily import remembered
from thermionic.supplies.moments import Moment, house_volts
from thermionic.supplies.starting import surge
from thermionic.values import Quantity, display

_HIGH = 1.1  # for a mains that is a tenth high
_BREAKS = (100.0, 250.0, 400.0, 500.0, 600.0, 800.0, 1000.0)


@remembered
def _open(amplifier: SolvedAmplifier, volt: float) -> Moment:
    """With every standby switch open and the rectifiers warm."""
    on = amplifier.on_mains(volt)
    netlist = on.netlist
    for use in amplifier.compiled.said(Standby):
        contact: Any = netlist[use.part].device
        netlist = netlist.with_device(use.part, contact.at_time(-1.0))
    return Moment(volt, "standby switch open", solve_circuit(netlist, on.state))


def _has_capacitor(compiled: Compiled, node: str) -> bool:
    """Whether a smoothing capacitor, or the upper one of two, is on a node."""
    return any(
        node in compiled.netlist[name].nodes
        for path, _ in compiled.components(Capacitor)
        for name in compiled.designators(path)
    )


class StandbySwitch(Rule):
    """A standby switch has more volts across its open contacts than it can break, or it fills the first capacitor of
    a vacuum rectifier that is warm."""

    name = "standby-switch"
    example = "weir"
    fires_on = {"blocks/standby/breaks_volt": "250"}
    quiet_on = {"blocks/standby/breaks_volt": "600"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        compiled = amplifier.compiled
        for use in compiled.said(Standby):
            path, before = f"blocks/{use.block}", compiled.node(use.before)

            def across(moment: Moment, node: str = before) -> float:
                return moment.highest(node)

            result = worst(amplifier, use.breaks_volt, (_open,), across, severity=Severity.POOR, grows=1.1)
            if result is not None:
                enough = next_above(result.value * (_HIGH if result.severity is Severity.POOR else 1.0), _BREAKS)
                yield Finding(
                    self.name, result.severity, f"{path}/breaks_volt", use.part,
                    f"{use.part} cannot break what it has across it",
                    f"{result.value:.0f} V of DC {result.words}; it can break {use.breaks_volt:g} V. What is written "
                    "on a switch is usually for AC.",
                    "DC has no zero to put out the arc: contacts burn, and weld or go on arcing.", result.value,
                    use.breaks_volt,
                    Cure(f"{path}/breaks_volt", f"{enough:g} V", f"Fit one that breaks {enough:g} V of DC")
                    if enough else None,
                )  # fmt: skip
            if _has_capacitor(compiled, before):
                continue
            for rectified in compiled.said(Rectified):
                if not rectified.tube or compiled.node(rectified.plus) != before:
                    continue
                limits = amplifier.design.tube_of(rectified.tube).unit("rectifier").rectifier_limits
                high = house_volts(amplifier.design)[2]
                peak = surge(amplifier, high, hot=True).rectifiers[rectified.block]
                if limits is None or peak.value <= limits.peak_a:
                    continue
                yield Finding(
                    self.name, Severity.POOR, path, use.part, f"{use.part} fills its capacitor from a warm rectifier",
                    f"{display(peak.value, Quantity.CURRENT)} at {high:.0f} V mains, closed at the crest with "
                    f"{rectified.tube.upper()} warm, in its first cycle; in use it is made for peaks of "
                    f"{display(limits.peak_a, Quantity.CURRENT)}.",
                    "Every start is a hot start: its cathode sparks, and one day it arcs over. Put the switch behind "
                    "the first capacitor, where the tube can fill it as it warms.", peak.value, limits.peak_a,
                )  # fmt: skip
