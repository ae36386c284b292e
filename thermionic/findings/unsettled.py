"""Drive levels at which the amplifier comes to no steady state."""

from collections.abc import Iterable

from thermionic.amplifier import SolvedAmplifier
from thermionic.findings.base import Finding, Rule, Severity
from thermionic.values import Quantity, display


class Unsettled(Rule):
    """From some level of the source on no periodic steady state was found; the figures are of what is below."""

    name = "no-steady-state"
    example = "hurdle"
    fires_on = {"blocks/transformer/secondary_reversed": "yes"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        volt = amplifier.unsettled_volt
        if volt is None:
            return
        last = amplifier.sweep[-1].source_volt
        yield Finding(
            self.name,
            Severity.POOR,
            f"blocks/{amplifier.load.block}",
            amplifier.load.part,
            "Not computable when driven further",
            f"No steady state at {display(volt, Quantity.VOLTAGE)} rms of input. Power and distortion are given up "
            f"to {display(last, Quantity.VOLTAGE)}.",
            "Usually the feedback oscillates there, or a stage blocks; it may also be the solver. Look at the "
            "feedback first.",
            volt,
            last,
        )
