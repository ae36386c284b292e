"""Every capacitor's voltage against its rating, working and with the tubes pulled."""

from collections.abc import Iterable

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.supply_state import CircuitState
from thermionic.design import Capacitor
from thermionic.findings.base import Cure, Finding, Rule, Severity, next_above

RATINGS = (
    16.0,
    25.0,
    35.0,
    50.0,
    63.0,
    100.0,
    160.0,
    200.0,
    250.0,
    350.0,
    400.0,
    450.0,
    500.0,
    630.0,
    1000.0,
)
MARGIN = 1.1  # for a mains that is 10 % high, the usual limit of public supply


class CapacitorVoltage(Rule):
    """A capacitor has more across it than its rating, in working order or before the tubes conduct.

    With the tubes pulled, or still cold after switching on a silicon rectifier, the whole HT rises to the
    winding's peak, and a coupling capacitor sees all of it.
    """

    name = "capacitor-voltage"
    fires_on = {"blocks/reservoir/capacitor/rating_volt": "350 V"}
    quiet_on = {"blocks/reservoir/capacitor/rating_volt": "500 V"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for path, capacitor in amplifier.compiled.components(Capacitor):
            designator, working, pulled = max(
                (
                    (name, _across(amplifier.state, name), _across(amplifier.without_tubes, name))
                    for name in amplifier.compiled.designators(path)
                ),
                key=lambda found: max(found[1:]),
            )
            worst, when = max((working, "in working order"), (pulled, "with the tubes pulled or cold"))
            limit = capacitor.rating_volt
            if worst * MARGIN <= limit:
                continue
            over = worst > limit
            enough = next_above(worst * MARGIN, RATINGS)
            yield Finding(
                self.name,
                Severity.DANGER if over else Severity.NOTE,
                path,
                designator,
                f"{designator} is over its voltage" if over else f"{designator} has no margin for a high mains",
                f"{worst:.0f} V {when}, in a {limit:g} V capacitor"
                + (f" ({working:.0f} V in working order)." if pulled > working else ".")
                + ("" if over else f" With the mains 10 % high it would be {worst * MARGIN:.0f} V."),
                "An over-volted capacitor leaks, heats and can burst or short the HT.",
                worst if over else worst * MARGIN,
                limit,
                Cure(f"{path}/rating_volt", f"{enough:g} V", f"Fit a {enough:g} V capacitor") if enough else None,
            )


def _across(state: CircuitState, name: str) -> float:
    """Highest steady voltage across a capacitor with its ripple's crest, V."""
    plus, minus = state.netlist[name].nodes
    steady = abs(_volt(state, plus) - _volt(state, minus))
    if state.mains is None:
        return steady
    return steady + float(np.ptp(state.mains.node_waveform(plus) - state.mains.node_waveform(minus))) / 2


def _volt(state: CircuitState, node: str) -> float:
    return 0.0 if node == GROUND else state.at.voltage(node)
