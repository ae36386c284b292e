"""Power tubes that share one setting of their bias."""

from collections.abc import Iterable
from dataclasses import replace

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import Bias, TubeUse
from thermionic.circuit.supply import solve_circuit
from thermionic.findings.base import Finding, Rule, Severity

# The spread of a tube's current in production, and from what anode rating on a tube is one that can burn.
SPREAD, POWER_WATT = 0.15, 5.0


class Sharing(Rule):
    """Of power tubes on one fixed bias the strongest of an unmatched set would run past its limit."""

    name = "sharing"
    example = "saltpan"
    fires_on = {"blocks/output/bias_b": "", "blocks/bias/trim/travel": "0.3"}
    quiet_on = {"blocks/output/bias_b": "", "blocks/bias/trim/travel": "0.6"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        groups: dict[tuple[str, str], list[TubeUse]] = {}
        for use in amplifier.compiled.tubes:
            if use.bias is Bias.FIXED and use.limits.anode_w >= POWER_WATT:
                groups.setdefault((use.block, use.knob), []).append(use)
        for (_, knob), uses in groups.items():
            if len(uses) < 2:
                continue
            use = uses[0]
            limit = use.limits.anode_w
            if amplifier.parts[use.part].dissipation > limit:
                continue  # already said of the tube itself
            heat = self._strongest(amplifier, use)
            if heat <= limit:
                continue
            yield Finding(
                self.name,
                Severity.POOR,
                use.path,
                use.part,
                f"{len(uses)} {use.type.type} on one bias setting cannot share",
                f"A tube {SPREAD:.0%} stronger than the rest would run at {heat:.1f} W; the {use.limits.called} is "
                f"{limit:g} W.",
                f"One setting ({knob.removeprefix('blocks/')}) sets them all: match the tubes, bias them "
                "lower, or give each "
                "a setting of its own.",
                heat,
                limit,
            )

    def _strongest(self, amplifier: SolvedAmplifier, use: TubeUse) -> float:
        device = amplifier.netlist[use.part].device
        stronger = replace(device, scale=1 + SPREAD)  # type: ignore[type-var]
        state = solve_circuit(amplifier.netlist.with_device(use.part, stronger), amplifier.state)
        current = state.at.parts[use.part].current
        name = amplifier.compiled.node
        return current * (
            state.at.voltage(name(use.anode)) - (state.at.voltage(name(use.cathode)) if use.cathode != "0" else 0.0)
        )
