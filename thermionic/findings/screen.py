"""A pentode's screen: its heat, and its voltage."""

from collections.abc import Iterable

from thermionic.amplifier import SolvedAmplifier
from thermionic.findings.base import Finding, Rule, Severity
from thermionic.findings.tubes import worst_of_each_block


class ScreenDissipation(Rule):
    """A screen turns more power into heat than its maximum."""

    name = "screen-dissipation"
    example = "wicket"
    fires_on = {"blocks/output/cathode_resistor/ohm": "27", "blocks/winding/winding_volt": "235 V"}
    quiet_on = {"blocks/output/cathode_resistor/ohm": "180"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for use, heat in worst_of_each_block(amplifier, amplifier.screen_watt):
            limit = use.limits.screen_w
            if limit is None or heat <= limit:
                continue
            yield Finding(
                self.name,
                Severity.OVER,
                use.path,
                use.part,
                f"{use.type.type} screen runs too hot",
                f"{heat:.2f} W at idle; the {use.limits.called} is {limit:g} W ({heat / limit:.0%}).",
                "A screen has no mass to speak of: it glows, gives off electrons of its own, and the tube runs away.",
                heat,
                limit,
            )


# A low-level pentode may well have its anode under its screen.
POWER_WATT = 5.0


class ScreenVoltage(Rule):
    """A screen stands further above the cathode than its maximum, or so far above the anode that it takes its
    current."""

    name = "screen-voltage"
    example = "hurdle"
    fires_on = {"blocks/winding/winding_volt": "265 V"}
    quiet_on = {"blocks/winding/winding_volt": "200 V"}
    # A screen that is this much above the anode at idle takes a good part of the anode's current: a rule of thumb.
    most_over_anode = 1.25

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        def over_cathode(use):  # type: ignore[no-untyped-def]
            return amplifier.voltage(use.nodes.get("screen", use.cathode)) - amplifier.voltage(use.cathode)

        for use, volts in worst_of_each_block(amplifier, over_cathode):
            anode = amplifier.parts[use.part].voltage
            limit = use.limits.screen_v
            if limit is not None and volts > limit and use.nodes.get("screen") != use.anode:
                evidence = f"{volts:.0f} V from screen to cathode; the {use.limits.called} is {limit:g} V."
                severity, value, bound = Severity.OVER, volts, limit
            elif (
                "screen" in use.nodes
                and use.limits.anode_w >= POWER_WATT
                and volts > self.most_over_anode * anode > 0
            ):
                evidence = f"The screen stands at {volts:.0f} V over the cathode and the anode only at {anode:.0f} V."
                severity, value, bound = Severity.POOR, volts, self.most_over_anode * anode
            else:
                continue
            yield Finding(
                self.name,
                severity,
                use.path,
                use.part,
                f"{use.type.type} has too much screen voltage",
                evidence,
                "The screen takes the current that the anode should have, and its heat with it.",
                value,
                bound,
            )
