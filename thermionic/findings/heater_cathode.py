"""The voltage between a cathode and its heater."""

from collections.abc import Iterable

from thermionic.amplifier import SolvedAmplifier
from thermionic.findings.base import Finding, Rule, Severity
from thermionic.findings.tubes import worst_of_each_block


class HeaterCathode(Rule):
    """A cathode stands further from earth, where the heaters are taken to be, than its insulation is rated for."""

    name = "heater-cathode"
    example = "sluice"
    fires_on = {"blocks/winding/winding_volt": "400 V"}
    quiet_on = {"blocks/winding/winding_volt": "240 V"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for use, volts in worst_of_each_block(amplifier, lambda use: abs(amplifier.voltage(use.cathode))):
            limit = use.limits.heater_cathode_v
            if use.type.heater is None or use.type.heater.filament or not limit or volts <= limit:
                continue
            unsure = " The limit is not certain for this type." if "heater_cathode_v" in use.limits.unsure else ""
            yield Finding(
                self.name,
                Severity.OVER,
                use.path,
                use.part,
                f"{use.type.type} cathode is too far from its heater",
                f"{volts:.0f} V from cathode to an earthed heater; the {use.limits.called} is {limit:g} V.{unsure}",
                "The insulation leaks, hums and in the end breaks down. Lift the heaters to about half of "
                "that voltage, or "
                "give this tube a winding of its own.",
                volts,
                limit,
            )
