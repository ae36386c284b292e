"""Anode dissipation against the tube's limit."""

from collections.abc import Iterable

from thermionic.blocks import SolvedAmplifier
from thermionic.findings.base import Finding, Rule, Severity, preferred_cure, steps_up
from thermionic.values import Series, step


class AnodeDissipation(Rule):
    """The anode turns more power into heat than the tube's maximum."""

    name = "anode-dissipation"
    fires_on = {"chain/output/cathode_resistor/ohm": "560"}
    quiet_on = {"chain/output/cathode_resistor/ohm": "1k"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for stage in amplifier.design.stages:
            path = f"chain/{stage.id}"
            limits = amplifier.design.tube(stage.tube).limits
            limit = limits.anode_w
            heat = amplifier.part(path).dissipation
            if heat <= limit:
                continue
            resistor = f"{path}/cathode_resistor/ohm"
            # Dissipation falls about as the 3/4 power of a cathode resistor; the ladder begins just short of enough.
            foreseen = stage.cathode_resistor.ohm * (heat / limit) ** 1.25
            cure = preferred_cure(
                amplifier,
                resistor,
                steps_up(foreseen, lambda r: step(r, Series.E24, 1), 6),
                lambda trial, path=path, limit=limit: trial.part(path).dissipation <= limit,  # type: ignore[misc]
                lambda written: f"Raise the cathode resistor to {written}",
            )
            yield Finding(
                self.name,
                Severity.OVER,
                path,
                amplifier.compiled.designator(path),
                f"{stage.tube} anode runs too hot",
                f"{heat:.1f} W at idle; the {limits.called} is {limit:g} W ({heat / limit:.0%}).",
                "Past its limit the anode glows, gives off gas, and the tube's life is short.",
                heat,
                limit,
                cure,
            )
