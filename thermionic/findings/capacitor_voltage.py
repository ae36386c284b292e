"""Every capacitor's voltage against its rating, working and with the tubes pulled."""

from collections.abc import Iterable
from functools import partial

from thermionic.amplifier import SolvedAmplifier
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.supply_state import CircuitState
from thermionic.design import Capacitor
from thermionic.findings.base import Cure, Finding, Rule, Severity, next_above
from thermionic.findings.mains import worst
from thermionic.supplies.moments import Moment, at_work, cold

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
MARGIN = 1.1  # for a mains that is 10 % high
_GROWS = 1.1  # the power of the mains that an unloaded supply grows with, and a little


class CapacitorVoltage(Rule):
    """A capacitor has more across it than its rating, in working order or before the tubes conduct.

    With the tubes pulled, or still cold after switching on a silicon rectifier, the whole HT rises to the
    winding's peak, and a coupling capacitor sees all of it. What a choke makes it ring to in the first second is not
    in it; see supplies.switch_on.
    """

    name = "capacitor-voltage"
    fires_on = {"blocks/reservoir/capacitor/rating_volt": "350 V"}
    quiet_on = {"blocks/reservoir/capacitor/rating_volt": "500 V"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for path, capacitor in amplifier.compiled.components(Capacitor):
            limit = capacitor.rating_volt
            names = amplifier.compiled.designators(path)
            result, designator = None, names[0]
            for name in names:
                one = worst(
                    amplifier, limit, (at_work, cold), partial(_across, name), severity=Severity.DANGER,
                    grows=_GROWS,
                )  # fmt: skip
                if one is not None and (result is None or one.value > result.value):
                    result, designator = one, name
            if result is None:
                continue
            over = result.severity is Severity.DANGER
            working = _across(designator, at_work(amplifier, amplifier.design.brief.mains_volt))
            enough = next_above(result.value * (MARGIN if over else 1.0), RATINGS)
            yield Finding(
                self.name,
                result.severity,
                path,
                designator,
                f"{designator} is over its voltage" if over else f"{designator} has no margin for a high mains",
                f"{result.value:.0f} V {result.words}, in a {limit:g} V capacitor ({working:.0f} V as it works).",
                "An over-volted capacitor leaks, heats and can burst or short the HT.",
                result.value,
                limit,
                Cure(f"{path}/rating_volt", f"{enough:g} V", f"Fit a {enough:g} V capacitor") if enough else None,
            )


def _across(name: str, moment: Moment) -> float:
    """Highest steady voltage across a capacitor with its ripple's crest, V; 0 where it is not in the circuit."""
    state = moment.state
    if name not in state.netlist:
        return 0.0
    plus, minus = state.netlist[name].nodes
    steady = abs(_volt(state, plus) - _volt(state, minus))
    if state.mains is None:
        return steady
    return steady + state.mains.swing(plus, minus) / 2


def _volt(state: CircuitState, node: str) -> float:
    return 0.0 if node == GROUND else state.at.voltage(node)
