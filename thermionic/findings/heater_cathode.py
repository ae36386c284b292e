"""The voltage between a cathode and its heater."""

from collections.abc import Iterable

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import TubeUse
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.supply_state import CircuitState
from thermionic.findings.base import Finding, Rule, Severity
from thermionic.findings.tubes import worst_of_each_block
from thermionic.supplies.heating import held
from thermionic.supplies.moments import cold, house_volts


class HeaterCathode(Rule):
    """A cathode stands further from its heater than the insulation between them is rated for, at work or before the
    tubes conduct. Heaters that no supply of the design feeds are taken to be at earth."""

    name = "heater-cathode"
    example = "sluice"
    fires_on = {"blocks/winding/winding_volt": "400 V", "blocks/heaters/lower/ohm": "820"}
    quiet_on = {"blocks/winding/winding_volt": "400 V"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        nodes = held(amplifier.compiled)
        for use, volts in worst_of_each_block(amplifier, lambda use: _working(amplifier, use, nodes)):
            at = nodes.get(use.envelope, GROUND)
            limit = use.limits.heater_cathode_v
            if use.type.heater is None or use.type.heater.filament or not limit:
                continue
            lifted = _volt(amplifier.state, amplifier.compiled.node(at))
            when = f"at {amplifier.design.brief.mains_volt:.0f} V mains, working"
            if at != GROUND:
                early = cold(amplifier, house_volts(amplifier.design)[2])
                before = abs(_volt(early.state, amplifier.compiled.node(at)))
                if before > max(volts, limit):
                    volts, when = before, early.words
            if volts <= limit:
                continue
            unsure = " The limit is not certain for this type." if "heater_cathode_v" in use.limits.unsure else ""
            where = f"a heater at {lifted:.0f} V" if at != GROUND else "an earthed heater"
            yield Finding(
                self.name,
                Severity.OVER,
                use.path,
                use.part,
                f"{use.type.type} cathode is too far from its heater",
                f"{volts:.0f} V from cathode to {where} {when}; the {use.limits.called} is {limit:g} V.{unsure}",
                "The insulation leaks, hums and in the end breaks down. Lift the heaters to about half of "
                "that voltage, or give this tube a winding of its own.",
                volts,
                limit,
            )


def _working(amplifier: SolvedAmplifier, use: TubeUse, nodes: dict[str, str]) -> float:
    heater = _volt(amplifier.state, amplifier.compiled.node(nodes.get(use.envelope, GROUND)))
    return abs(amplifier.voltage(use.cathode) - heater)


def _volt(state: CircuitState, node: str) -> float:
    return 0.0 if node == GROUND or node not in state.at.system.nodes else state.at.voltage(node)
