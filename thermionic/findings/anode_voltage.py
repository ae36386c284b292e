"""Anode voltage against the tube's limit."""

from collections.abc import Iterable

from thermionic.blocks import SolvedAmplifier
from thermionic.findings.base import Finding, Rule, Severity


class AnodeVoltage(Rule):
    """The anode stands further above the cathode than the tube's maximum."""

    name = "anode-voltage"
    fires_on = {"supply/winding_volt": "330 V"}
    quiet_on = {"supply/winding_volt": "230 V"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for stage in amplifier.design.stages:
            path = f"chain/{stage.id}"
            limits = amplifier.design.tube(stage.tube).limits
            limit = limits.anode_v
            volts = amplifier.part(path).voltage
            if volts > limit:
                yield Finding(
                    self.name,
                    Severity.OVER,
                    path,
                    amplifier.compiled.designator(path),
                    f"{stage.tube} has too much anode voltage",
                    f"{volts:.0f} V from anode to cathode; the {limits.called} is {limit:g} V.",
                    "Insulation and vacuum are rated for that; above it the tube may arc over.",
                    volts,
                    limit,
                )
