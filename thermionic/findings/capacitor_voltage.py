"""Every capacitor's voltage against its rating, working and with the tubes pulled."""

from collections.abc import Iterable

from thermionic.blocks import SolvedAmplifier
from thermionic.circuit.supply import CircuitState
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
    fires_on = {"supply/reservoir/rating_volt": "350 V"}
    quiet_on = {"supply/reservoir/rating_volt": "500 V"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for path, capacitor in amplifier.compiled.components(Capacitor):
            designator = amplifier.compiled.designator(path)
            working = _across(amplifier.state, designator)
            pulled = _across(amplifier.without_tubes, designator)
            worst, when = max((working, "in working order"), (pulled, "with the tubes pulled or cold"))
            if worst <= capacitor.rating_volt:
                continue
            enough = next_above(worst * MARGIN, RATINGS)
            yield Finding(
                self.name,
                Severity.DANGER,
                path,
                designator,
                f"{designator} is over its voltage",
                f"{worst:.0f} V {when}, in a {capacitor.rating_volt:g} V capacitor"
                + (f" ({working:.0f} V in working order)." if pulled > working else "."),
                "An over-volted capacitor leaks, heats and can burst or short the HT.",
                worst,
                capacitor.rating_volt,
                Cure(f"{path}/rating_volt", f"{enough:g} V", f"Fit a {enough:g} V capacitor") if enough else None,
            )


def _across(state: CircuitState, name: str) -> float:
    """Highest steady voltage across a capacitor with its ripple's crest, V."""
    part = state.netlist[name]
    steady = abs(state.at.voltage(part.nodes[0]) - state.at.voltage(part.nodes[1]))
    ripple = state.rectifier.ripple_peak_to_peak(part.nodes[0]) if state.rectifier else 0.0
    return steady + ripple / 2
