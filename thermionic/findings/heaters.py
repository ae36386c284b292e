"""Heaters that get too much or too little."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial

from thermionic.amplifier import SolvedAmplifier
from thermionic.design import Resistor, find
from thermionic.findings.base import Cure, Finding, Rule, Severity, preferred_cure
from thermionic.supplies.heating import Heated, StringState, heating
from thermionic.supplies.moments import house_volts
from thermionic.values import Quantity, Series, display, nearest

# How far a heater's voltage may be off: makers allow 10 %, and 5 % is what life is quoted for. Far off it is a fault.
GOOD, ALLOWED, FAR = 0.05, 0.10, 0.20


class HeaterVoltage(Rule):
    """A heater is fed with another voltage than it is made for."""

    name = "heater-voltage"
    example = "sluice"
    fires_on = {"blocks/heaters/dropping/ohm": "10"}
    quiet_on = {"blocks/heaters/dropping/ohm": "56"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        _, usual, _ = house_volts(amplifier.design)
        for string in heating(amplifier.compiled, amplifier.state):
            worst = max(string.heated, key=lambda heated: abs(heated.share - 1))
            off = abs(worst.share - 1)
            if off <= GOOD:
                continue
            much = worst.share > 1
            severity = Severity.OVER if off > FAR else Severity.POOR if off > ALLOWED else Severity.NOTE
            use = worst.use
            name = use.envelope.upper()
            yield Finding(
                self.name,
                severity,
                f"blocks/{use.block}",
                use.part,
                f"{name}'s heater has too {'much' if much else 'little'}",
                f"{display(worst.volt, Quantity.VOLTAGE)} at {usual:.0f} V mains, working; it is made for "
                f"{use.volt:g} V ({worst.share - 1:+.0%}).{_unequal(string, worst)}",
                "Too hot a cathode lives short and gives its coating to the grid; too cold a one is poisoned, and "
                "its emission gives out.",
                1 + off,
                1 + GOOD,
                partial(_drop, amplifier, string) if string.feed.dropping else None,
            )


def _unequal(string: StringState, worst: Heated) -> str:
    """What would cure a tube that takes less current than its neighbours in series."""
    chain = [one for one in string.heated if one.use.chain == worst.use.chain]
    most = max(one.use.ampere for one in chain)
    if most <= 1.06 * worst.use.ampere or worst.use.shunt_ohm:
        return ""
    shunt = worst.use.volt / (most - worst.use.ampere)
    return (
        f" Its neighbours in series take {display(most, Quantity.CURRENT)}, it takes "
        f"{display(worst.use.ampere, Quantity.CURRENT)}: {display(shunt, Quantity.RESISTANCE)} across its heater "
        f"({worst.use.envelope}|{shunt:.0f}) makes them one current."
    )


def _drop(amplifier: SolvedAmplifier, string: StringState) -> Cure | None:
    resistor = find(amplifier.design, string.feed.dropping).value
    if not isinstance(resistor, Resistor):
        return None

    def cured(trial: SolvedAmplifier) -> bool:
        after = next(one for one in heating(trial.compiled, trial.state) if one.feed.block == string.feed.block)
        return all(abs(one.share - 1) <= GOOD for one in after.heated)

    # Too much is as wrong as too little: what the first chain has too much, at the current that there is.
    chain = [one for one in string.heated if one.use.chain == 0]
    excess = sum(one.volt - one.use.volt for one in chain)
    wanted = max(resistor.ohm + excess / max(string.ampere, 1e-6), 0.01)
    return preferred_cure(
        amplifier,
        f"{string.feed.dropping}/ohm",
        [nearest(wanted, Series.E24)],
        cured,
        lambda written: f"Make the dropping resistor {written}",
    )
