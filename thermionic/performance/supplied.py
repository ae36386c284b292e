"""What supplies are compared by."""

from __future__ import annotations

from dataclasses import dataclass

from thermionic.amplifier import SolvedAmplifier
from thermionic.findings import Finding
from thermionic.performance.comparing import severities, wall_watt
from thermionic.performance.quiet import quiet
from thermionic.performance.schools.supplying import ht_rectifier, main_rail
from thermionic.supplies.moments import house_volts
from thermionic.supplies.rectifying import rectifying
from thermionic.supplies.sagging import sag
from thermionic.supplies.starting import surge


@dataclass(frozen=True)
class Supplied:
    """An amplifier by its HT: the main rail's volts at work and, on the highest mains, with the tubes cold or pulled;
    its sag under a burst at full output, of those volts; hum against the reference output, dB; the rectifier's peak
    at work and the first one after the switch with everything cold, A; full output (W; V rms at a line load), what
    the mains gives, W, and the findings counted by severity."""

    rail_volt: float
    cold_volt: float
    sag: float
    hum_db: float
    peak_ampere: float
    surge_ampere: float
    full: float
    wall_watt: float
    findings: dict[str, int]


def supplied(amplifier: SolvedAmplifier, findings: list[Finding]) -> Supplied | None:
    """Its numbers; None where no HT is rectified. Raises NoSolution, NetlistRefused, BudgetSpent."""
    rail, use = main_rail(amplifier), ht_rectifier(amplifier)
    if rail is None or use is None:
        return None
    node, high = amplifier.compiled.node(rail.node), house_volts(amplifier.design)[2]
    heard, sagged = quiet(amplifier), next(one for one in sag(amplifier, after=0.02).rails if one.name == rail.name)
    return Supplied(
        amplifier.voltage(node),
        amplifier.on_mains(high).without_tubes.at.voltage(node),
        sagged.under / sagged.before - 1,
        heard.below(heard.hum_volt),
        rectifying(amplifier.state, use).peak_ampere,
        surge(amplifier, high).rectifiers[use.block].value,
        amplifier.output(amplifier.full_output),
        wall_watt(amplifier),
        severities(findings),
    )
