"""Capacitors of a supply: two in series that do not share alike, and one with more ripple than it lasts with."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import SeriesCapacitors
from thermionic.blocks.fields import Resistor, SmoothingCapacitor
from thermionic.design import find
from thermionic.findings.base import FIT, Cure, Finding, Rule, Severity, next_above
from thermionic.findings.capacitor_voltage import RATINGS
from thermionic.findings.mains import worst
from thermionic.supplies.moments import Moment, at_work, cold
from thermionic.supplies.ratings import CHASSIS, lasting_hours
from thermionic.supplies.stress import ripple_ampere
from thermionic.values import Quantity, Series, display, step

_LEAST_HOURS = 5000.0  # what a hobbyist's evenings take some ten years to use up
_LEAST_OHM = 10e3


def filled(volt: float, one: SmoothingCapacitor, other: SmoothingCapacitor) -> float:
    """The most that ``one`` of two in series may have when they are filled at once, V: charges are equal, and it is
    at the bottom of its tolerance with the other at the top."""
    least, most = one.farad * (1 - one.tolerance), other.farad * (1 + other.tolerance)
    return volt * most / (least + most)


def settled(volt: float, other: SmoothingCapacitor, balance: Resistor | None) -> float:
    """The most that one of two in series may come to have, V: it leaks nothing, and the ``other`` all that it may.
    With a ``balance`` across each, that across this one is at the top of its tolerance."""
    if balance is None:
        return volt
    high, low = balance.ohm * (1 + balance.tolerance), balance.ohm * (1 - balance.tolerance)
    left = (volt / high - other.leaking_ampere) / (1 / high + 1 / low)
    return volt - max(left, 0.0)


class SeriesSharing(Rule):
    """One of two capacitors in series may have more across it than it is made for, by their tolerances and
    leakage."""

    name = "series-sharing"
    fires_on = {"blocks/reservoir/lower": "fit"}
    quiet_on = {"blocks/reservoir/lower": "fit", "blocks/reservoir/balance": "fit"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for use in amplifier.compiled.said(SeriesCapacitors):
            upper, lower = (find(amplifier.design, path).value for path in (use.upper, use.lower))
            fitted = find(amplifier.design, use.balance).value
            for path, one, other in ((use.upper, upper, lower), (use.lower, lower, upper)):

                def most(
                    moment: Moment,
                    balance: Resistor | None = fitted,
                    one: SmoothingCapacitor = one,
                    other: SmoothingCapacitor = other,
                    node: str = use.node,
                ) -> float:
                    volt = moment.highest(node)
                    return max(filled(volt, one, other), settled(volt, other, balance))

                result = worst(
                    amplifier, one.rating_volt, (at_work, cold), most, severity=Severity.POOR, grows=1.1
                )  # fmt: skip
                if result is None:
                    continue
                held = (
                    f"with {display(fitted.ohm, Quantity.RESISTANCE)} across each"
                    if fitted
                    else "with nothing but their leakage to share it out"
                )
                name = amplifier.compiled.designator(path)
                yield Finding(
                    self.name, result.severity, path, name, f"{name} may take more than its share",
                    f"Up to {result.value:.0f} V {result.words}, {held}, where the two differ as much as their "
                    f"tolerances and leakage allow; it is made for {one.rating_volt:g} V.",
                    "The better of two capacitors in series is the one that gets the voltage, until it is no longer.",
                    result.value, one.rating_volt, _cure(amplifier, use, path, most, one.rating_volt, fitted),
                )  # fmt: skip
                break


def _cure(
    amplifier: SolvedAmplifier,
    use: SeriesCapacitors,
    path: str,
    most: Callable[..., float],
    limit: float,
    fitted: Resistor | None,
) -> Cure | None:
    high = [look(amplifier, amplifier.design.brief.mains_volt) for look in (at_work, cold)]

    def least(balance: Resistor) -> float:
        return max(most(moment, balance) for moment in high)

    if fitted is None:
        return Cure(use.balance, FIT, "Put a resistor across each")
    ohm = step(fitted.ohm, Series.E12, -1)
    while ohm >= _LEAST_OHM:
        if least(fitted.model_copy(update={"ohm": ohm})) * 1.1 <= limit:
            written = display(ohm, Quantity.RESISTANCE)
            return Cure(f"{use.balance}/ohm", written, f"Make the balancing resistors {written}")
        ohm = step(ohm, Series.E12, -1)
    enough = next_above(1.1 * least(fitted), RATINGS)
    return Cure(f"{path}/rating_volt", f"{enough:g} V", f"Fit a {enough:g} V capacitor") if enough else None


class RippleCurrent(Rule):
    """A smoothing capacitor has more ripple current than it is made for, or is soon worn out by it."""

    name = "ripple-current"
    fires_on = {"blocks/reservoir/capacitor/ripple_ampere": "100m"}
    quiet_on = {"blocks/reservoir/capacitor/ripple_ampere": "400m"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for path, part in amplifier.compiled.components(SmoothingCapacitor):
            if part.ripple_ampere is None:
                continue
            name = amplifier.compiled.designator(path)

            def flows(moment: Moment, name: str = name) -> float:
                return ripple_ampere(moment.state, name) or 0.0

            result = worst(amplifier, part.ripple_ampere, (at_work,), flows, grows=1.5)
            if result is not None:
                yield Finding(
                    self.name, result.severity, path, name, f"{name} has more ripple than it is made for",
                    f"{display(result.value, Quantity.CURRENT)} rms {result.words}; it is made for "
                    f"{display(part.ripple_ampere, Quantity.CURRENT)}.",
                    "Ripple current heats its core, dries it out, and in the end bursts it.", result.value,
                    part.ripple_ampere,
                )  # fmt: skip
                continue
            usual = at_work(amplifier, amplifier.design.brief.mains_volt)
            hours = lasting_hours(part, flows(usual))
            if hours is not None and hours < _LEAST_HOURS:
                yield Finding(
                    self.name, Severity.NOTE, path, name, f"{name} does not last long",
                    f"{hours:,.0f} hours {usual.words} with {display(flows(usual), Quantity.CURRENT)} rms in it and "
                    f"{CHASSIS:g} °C around it, unsure by a factor of two (rule of ten kelvin).".replace(",", " ", 1),
                    "One made for 105 °C lasts four times as long; so does one 20 K cooler.", _LEAST_HOURS / hours,
                    1.0,
                )  # fmt: skip
