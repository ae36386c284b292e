"""Every resistor's heat against its rating."""

from collections.abc import Iterable

from thermionic.amplifier import SolvedAmplifier
from thermionic.design import Resistor
from thermionic.findings.base import Cure, Finding, Rule, Severity, next_above
from thermionic.supplies.ratings import COMFORTABLE, RATINGS

HOT = 0.7


class ResistorDissipation(Rule):
    """A resistor turns more power into heat than it is rated for, or so much that it will not last."""

    name = "resistor-dissipation"
    fires_on = {"blocks/output/cathode_resistor/rating_watt": "2 W"}
    quiet_on = {"blocks/output/cathode_resistor/rating_watt": "15 W"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for path, resistor in amplifier.compiled.components(Resistor):
            heat = amplifier.part(path).dissipation
            if heat <= HOT * resistor.rating_watt:
                continue
            share = heat / resistor.rating_watt if resistor.rating_watt else float("inf")
            if share > 2:
                severity, title = Severity.DANGER, "will burn"
            elif share > 1:
                severity, title = Severity.OVER, "is over its rating"
            else:
                severity, title = Severity.POOR, "runs hot"
            enough = next_above(heat / COMFORTABLE, RATINGS)
            designator = max(amplifier.compiled.designators(path), key=lambda name: amplifier.parts[name].dissipation)
            yield Finding(
                self.name,
                severity,
                path,
                designator,
                f"{designator} {title}",
                f"{heat:.2f} W in a {resistor.rating_watt:g} W resistor ({share:.0%}).",
                "Ratings hold in free air at 70 °C; half of that is the usual working limit in a chassis.",
                heat,
                resistor.rating_watt,
                Cure(f"{path}/rating_watt", f"{enough:g} W", f"Fit a {enough:g} W resistor") if enough else None,
            )
