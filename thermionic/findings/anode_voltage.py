"""Anode voltage against the tube's limit."""

from collections.abc import Iterable

from thermionic.amplifier import SolvedAmplifier
from thermionic.findings.base import Finding, Rule, Severity
from thermionic.findings.tubes import worst_of_each_block


class AnodeVoltage(Rule):
    """The anode stands further above the cathode than the tube's maximum."""

    name = "anode-voltage"
    fires_on = {"blocks/winding/winding_volt": "330 V"}
    quiet_on = {"blocks/winding/winding_volt": "230 V"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for use, volts in worst_of_each_block(amplifier, lambda use: amplifier.parts[use.part].voltage):
            limit = use.limits.anode_v
            if volts > limit:
                yield Finding(
                    self.name,
                    Severity.OVER,
                    use.path,
                    use.part,
                    f"{use.type.type} has too much anode voltage",
                    f"{volts:.0f} V from anode to cathode; the {use.limits.called} is {limit:g} V.",
                    "Insulation and vacuum are rated for that; above it the tube may arc over.",
                    volts,
                    limit,
                )
