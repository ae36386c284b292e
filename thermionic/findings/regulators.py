"""Regulators at the ends of their range: a pass transistor's heat, volts and headroom, a gas tube's window."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import GasUse, PassUse
from thermionic.blocks.fields import PassTransistor
from thermionic.circuit.supply import solve_circuit
from thermionic.design import Capacitor, find
from thermionic.devices import GasRegulator
from thermionic.devices.triode import Cathode
from thermionic.errors import NoSolution
from thermionic.findings.base import Cure, Finding, Rule, Severity
from thermionic.lazily import remembered
from thermionic.supplies.moments import Moment, at_work, cold, house_volts
from thermionic.values import Quantity, display

# Inside a power transistor, °C: what it is rated for, and what leaves it some life (a rule of thumb of the trade).
HOTTEST, LASTING = 150.0, 125.0
_SAFELY = 1.02  # beyond the mains' own ratio
# From drain to source at the bottom of the ripple, V: below it the channel is a resistance and passes the ripple.
HEADROOM = 3.0
# The largest capacitor across a gas tube before the two begin to flash by themselves: what makers usually allow.
ACROSS_FARAD = 0.1e-6
# The volts that a chain of gas tubes should have before it strikes, over its striking voltage.
STRIKING = 1.1
_VOLTS = (400.0, 500.0, 600.0, 800.0, 900.0, 1000.0, 1200.0)
_SINKS = (10.0, 8.0, 6.0, 5.0, 4.0, 3.0, 2.5, 2.0, 1.5, 1.0, 0.7, 0.5)


def pass_watt(moment: Moment, use: PassUse) -> float:
    """The mean heat in a pass transistor over the mains cycle, W; its current being steady."""
    at = moment.state.at
    ampere = float(at.terminal_currents[use.part][0])
    return ampere * (at.voltage(use.drain) - at.voltage(use.source))


def _left(moment: Moment, use: PassUse) -> float:
    """What is left across a pass transistor at the bottom of the ripple, V."""
    mains = moment.state.mains
    if mains is None:
        return moment.state.at.voltage(use.drain) - moment.state.at.voltage(use.source)
    return float(np.min(mains.node_waveform(use.drain) - mains.node_waveform(use.source)))


class PassHeat(Rule):
    """A transistor in series with a rail is too hot inside."""

    name = "pass-heat"
    example = "reedbed"
    fires_on = {"blocks/ht1/transistor/sink_kelvin_per_watt": "10"}
    quiet_on = {"blocks/ht1/transistor/sink_kelvin_per_watt": "3"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for use in amplifier.compiled.said(PassUse):
            part = find(amplifier.design, use.path).value

            def celsius(moment: Moment, use: PassUse = use, part: PassTransistor = part) -> float:
                return part.junction_celsius(pass_watt(moment, use))

            _, usual, high = house_volts(amplifier.design)
            # Its heat grows with the third power of the mains at the most: where that is not enough, it is not
            # solved.
            if part.junction_celsius(pass_watt(at_work(amplifier, usual), use) * (high / usual) ** 3) <= LASTING:
                continue
            at = at_work(amplifier, high)
            value = celsius(at)
            if value <= LASTING:
                continue
            over = value > HOTTEST
            watt = pass_watt(at, use)
            enough = next((sink for sink in _SINKS if part.model_copy(update={"sink_kelvin_per_watt": sink})
                           .junction_celsius(watt) <= LASTING), None)  # fmt: skip
            yield Finding(
                self.name,
                Severity.OVER if over else Severity.POOR,
                use.path,
                use.part,
                f"{use.part} is too hot" if over else f"{use.part} runs hot",
                f"{watt:.1f} W {at.words}, on {part.sink_kelvin_per_watt:g} K/W: {value:.0f} °C inside; it is made "
                f"for {HOTTEST:g} °C, and {LASTING:g} °C leave it some life (a rule of thumb).",
                "It fails shorted, and then the whole voltage is on what hangs behind it. A larger heat-sink, or "
                "fewer volts across it.",
                value,
                HOTTEST if over else LASTING,
                Cure(f"{use.path}/sink_kelvin_per_watt", f"{enough:g}", f"Put it on a heat-sink of {enough:g} K/W")
                if enough
                else None,
            )


class PassVoltage(Rule):
    """In the first seconds, before its gate has come up, a pass transistor has the whole rail across it."""

    name = "pass-voltage"
    example = "reedbed"
    fires_on = {"blocks/ht1/transistor/rating_volt": "350 V"}
    quiet_on = {"blocks/ht1/transistor/rating_volt": "400 V"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for use in amplifier.compiled.said(PassUse):
            part = find(amplifier.design, use.path).value
            _, usual, high = house_volts(amplifier.design)
            if cold(amplifier, usual).highest(use.drain) * (high / usual) * _SAFELY <= part.rating_volt:
                continue
            value = cold(amplifier, high).highest(use.drain)
            if value <= part.rating_volt:
                continue
            enough = next((volt for volt in _VOLTS if volt >= 1.1 * value), None)
            yield Finding(
                self.name,
                Severity.OVER,
                use.path,
                use.part,
                f"{use.part} has more across it than it is made for",
                f"{value:.0f} V at {high:.0f} V mains, in the first seconds, tubes cold and its gate not yet up; it "
                f"is made for {part.rating_volt:g} V.",
                "It breaks down the first time that it is switched on, and is a short from then on.",
                value,
                part.rating_volt,
                Cure(f"{use.path}/rating_volt", f"{enough:g} V", f"Fit one for {enough:g} V") if enough else None,
            )


class PassHeadroom(Rule):
    """On a low mains the bottom of the ripple comes through a pass transistor."""

    name = "pass-headroom"
    example = "reedbed"
    fires_on = {"blocks/ht1/lower/ohm": "10M"}
    quiet_on = {"blocks/ht1/lower/ohm": "1M2"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        low, usual, _ = house_volts(amplifier.design)
        for use in amplifier.compiled.said(PassUse):
            if _left(at_work(amplifier, usual), use) * (low / usual) ** 3 >= HEADROOM:
                continue
            moment = at_work(amplifier, low)
            left = _left(moment, use)
            if left >= HEADROOM:
                continue
            yield Finding(
                self.name,
                Severity.POOR,
                use.path,
                use.part,
                f"{use.part} has no headroom",
                f"{left:.1f} V are left across it at the bottom of the ripple {moment.words}; it wants "
                f"{HEADROOM:g} V.",
                "The ripple that it should keep back goes through it. Let its gate hang lower.",
                HEADROOM - left + 1.0,
                1.0,
            )


@remembered
def _gas(amplifier: SolvedAmplifier, volt: float, tubes: bool, lit: bool) -> Moment:
    """With the amplifying tubes in or pulled, and the gas tubes in or not yet lit."""
    on = amplifier.on_mains(volt)
    netlist = on.netlist.without(
        lambda part: (
            (not tubes and isinstance(part.device, Cathode) and not part.device.rectifies)
            or (not lit and isinstance(part.device, GasRegulator))
        )
    )
    when = "working" if tubes else "all other tubes pulled"
    return Moment(volt, when, on.state if tubes and lit else solve_circuit(netlist, on.state))


class GasWindow(Rule):
    """A gas tube does not strike, goes out, or carries too much."""

    name = "gas-window"
    example = "osier"
    fires_on = {"blocks/ht2/resistor/ohm": "7k5"}
    quiet_on = {"blocks/ht2/resistor/ohm": "6k2"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        low, _, high = house_volts(amplifier.design)
        done: set[str] = set()
        for use in amplifier.compiled.said(GasUse):
            limits = use.type.unit("regulator").regulator_limits
            if limits is None or use.block in done:
                continue
            done.add(use.block)
            devices = [amplifier.netlist[name].device for name in use.chain]
            striking = float(sum(device.striking_volt for device in devices if isinstance(device, GasRegulator)))
            top = amplifier.netlist[use.chain[0]].nodes[0]
            dark = _gas(amplifier, low, True, False)
            before = dark.state.at.voltage(top)
            most = _gas(amplifier, high, False, True)
            carried = float(most.state.at.terminal_currents[use.part][0])
            try:
                least = float(_gas(amplifier, low, True, True).state.at.terminal_currents[use.part][0])
            except NoSolution:
                least = 0.0  # it goes on and off for ever
            path = f"blocks/{use.block}"
            if before < STRIKING * striking:
                yield Finding(
                    self.name, Severity.POOR, path, use.part, f"{use.part} may not strike",
                    f"{before:.0f} V {dark.words} before it is lit; {striking:.0f} V strike it when new, and a tenth "
                    "more is wanted.",
                    "Unlit it regulates nothing, and what hangs on it has the whole voltage.",
                    STRIKING * striking / before, 1.0,
                )  # fmt: skip
            elif least < limits.least_a:
                yield Finding(
                    self.name, Severity.POOR, path, use.part, f"{use.part} goes out",
                    f"{display(least, Quantity.CURRENT)} at {low:.0f} V mains, working; it wants "
                    f"{display(limits.least_a, Quantity.CURRENT)} at least.",
                    "Below that the discharge stops, strikes again and stops: it makes noise, not a steady voltage.",
                    limits.least_a / max(least, 1e-6), 1.0,
                )  # fmt: skip
            if carried > limits.most_a:
                yield Finding(
                    self.name, Severity.OVER, path, use.part, f"{use.part} carries too much",
                    f"{display(carried, Quantity.CURRENT)} {most.words}; its {limits.system} is "
                    f"{display(limits.most_a, Quantity.CURRENT)}.",
                    "Its cathode is eaten away. A larger series resistor, or fewer volts before it.", carried,
                    limits.most_a,
                )  # fmt: skip
            if use.capacitor:
                part = find(amplifier.design, use.capacitor).value
                if isinstance(part, Capacitor) and part.farad > ACROSS_FARAD:
                    fitting = display(ACROSS_FARAD, Quantity.CAPACITANCE)
                    yield Finding(
                        self.name, Severity.POOR, use.capacitor, amplifier.compiled.designator(use.capacitor),
                        "The capacitor across the gas tube is too large",
                        f"{display(part.farad, Quantity.CAPACITANCE)}; {fitting} is what is usually allowed (unsure "
                        "for this type).",
                        "The two make a flasher: the tube strikes, empties the capacitor and goes out.", part.farad,
                        ACROSS_FARAD, Cure(f"{use.capacitor}/farad", fitting, f"Fit {fitting}"),
                    )  # fmt: skip
