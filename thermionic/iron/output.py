"""The output transformer of a solved amplifier: what its tubes see, its limits, its losses, its heat."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from thermionic import devices
from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.magnetising import lowest_full_hertz, magnetising_ampere
from thermionic.blocks.facets import TransformerUse
from thermionic.blocks.ports import split
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.operating_point import operating_point
from thermionic.circuit.small_signal import respond
from thermionic.circuit.system import System
from thermionic.design import signal_inputs
from thermionic.devices.base import Array
from thermionic.errors import DesignRefused
from thermionic.lazily import remembered

_SWEPT = np.geomspace(10.0, 100e3, 161)
# A push-pull core stands this part of its limit as steady flux before it tells: a rule of thumb.
_IMBALANCE = 0.1
# V. M. Montsinger, "Loading transformers by temperature", Transactions of the AIEE 49 (1930), p. 776: insulation
# lasts half as long for every so many kelvin more. The rise at the rating is assumed.
HALVES_EVERY, RATED_RISE = 8.0, 45.0


def output_transformer(amplifier: SolvedAmplifier) -> TransformerUse | None:
    """The transformer that drives the load; None where there is none."""
    route = amplifier.route
    result = [use for use in amplifier.compiled.transformers if use.block in route and use.taps]
    return max(result, key=lambda use: route.index(use.block), default=None)


def transformer_of(amplifier: SolvedAmplifier) -> TransformerUse:
    """The transformer that drives the load. Raises DesignRefused where there is none."""
    use = output_transformer(amplifier)
    if use is None:
        raise DesignRefused(f"{amplifier.design.name} has no output transformer.")
    return use


@dataclass(frozen=True, eq=False)
class Reflected:
    """What the whole primary shows, anode to anode for a pair, with the load as it is: Ω over ``hertz``."""

    hertz: Array
    ohm: Array
    phase_degrees: Array

    def at(self, hertz: float) -> float:
        """The size at a frequency, Ω."""
        return float(np.exp(np.interp(np.log(hertz), np.log(self.hertz), np.log(self.ohm))))


@remembered
def reflected(amplifier: SolvedAmplifier) -> Reflected:
    """The load on the tubes against frequency: the transformer and its load alone, with everything else lifted off.

    Raises DesignRefused without an output transformer.
    """
    use, netlist = transformer_of(amplifier), amplifier.netlist
    part, load = netlist[use.part], netlist[amplifier.load.part]
    nodes = {node for node in (*part.nodes, *load.nodes) if node != GROUND}
    kept = [part, load]
    # What is across the secondary or goes with the primary: nothing else that is not a tube's or a rail's.
    anodes = _ends(amplifier, use)
    tying = [node for node in nodes if node not in (*load.nodes, *anodes)]
    leaks = tuple(
        replace(part, name=f"RTIE{place}", device=devices.Resistor(1e9), nodes=(node, GROUND))
        for place, node in enumerate([*tying, *anodes])
    )
    system = System(replace(netlist, parts=(*kept, *leaks)))
    slopes = system.jacobian(operating_point(system).port_slopes) if system.ports else system.G
    push = np.zeros((system.size, 1))
    for node, sign in zip(anodes, (1.0, -1.0), strict=True):
        if node != GROUND and node in system.nodes:
            push[system.node(node), 0] += sign
    moved = respond(system, slopes, _SWEPT, push)[..., 0]
    across = sum(
        sign * moved[:, system.node(node)]
        for node, sign in zip(anodes, (1.0, -1.0), strict=True)
        if node != GROUND and node in system.nodes
    )
    return Reflected(_SWEPT, np.abs(across), np.degrees(np.angle(across)))


def _ends(amplifier: SolvedAmplifier, use: TransformerUse) -> tuple[str, str]:
    """The two ends of the whole primary: both anodes of a pair, or the anode and the rail's end."""
    nodes = amplifier.netlist[use.part].nodes
    a, b = use.halves
    if b:  # side b's windings begin at the anode's end
        return nodes[2 * a[-1] + 1], nodes[2 * b[-1]]
    return nodes[2 * a[-1] + 1], nodes[2 * a[0]]


@dataclass(frozen=True)
class Limits:
    """What the iron sets. ``full`` is the amplifier's full output, W; frequencies Hz, None where what they hang on is
    not known. ``low_hertz`` and ``high_hertz`` are where inductance and leakage take 3 dB with the tubes and the load
    as they are, ``resonance_hertz`` the leakage with the winding's capacitance; ``core_hertz`` that at which full
    output takes the core to its rating, with the steady current in it; ``copper_db`` what the copper costs,
    ``copper_watt`` its heat at full output, signal and idle current together; ``steady_ampere`` the steady primary
    current at idle (a pair's difference), ``allowed_ampere`` what the core allows of it."""

    full: float
    low_hertz: float
    high_hertz: float
    resonance_hertz: float | None
    core_hertz: float | None
    copper_db: float
    copper_watt: float
    idle_copper_watt: float
    steady_ampere: float
    allowed_ampere: float | None
    rated_watt: float | None
    rated_hertz: float | None
    rated_ampere: float | None


@remembered
def limits(amplifier: SolvedAmplifier) -> Limits:
    """The transformer's limits in this amplifier. Raises DesignRefused without one, NoSolution."""
    use = transformer_of(amplifier)
    henry, leakage, farad, core = use.henry, use.leakage_henry, use.farad, use.core
    primary, secondary, through = _copper(amplifier, use)
    load = through  # the load as the primary sees it, without copper
    source = _source_ohm(amplifier, load + primary + secondary)
    beside = 1.0 / (1.0 / (source + primary) + 1.0 / (load + secondary))
    full = amplifier.full_output.power_watt
    idle, steady = _idle(amplifier, use)
    heat = full * (primary + secondary) / load
    core_hertz = allowed = None
    if core is not None and use.made_for is not None:
        lowest = lowest_full_hertz(amplifier, use)
        core_hertz = lowest if lowest is not None and np.isfinite(lowest) else None
        allowed = float(core.ampere or _IMBALANCE * (use.made_for.knee_weber or 0.0) / henry)
    return Limits(
        full=full,
        low_hertz=float(beside / (2 * np.pi * henry)),
        high_hertz=float((source + primary + secondary + load) / (2 * np.pi * leakage)) if leakage > 0 else np.inf,
        resonance_hertz=float(1 / (2 * np.pi * (leakage * farad) ** 0.5)) if farad and leakage > 0 else None,
        core_hertz=core_hertz,
        copper_db=float(10 * np.log10(1 + (primary + secondary) / load)),
        copper_watt=float(heat + idle),
        idle_copper_watt=float(idle),
        steady_ampere=float(steady),
        allowed_ampere=allowed,
        rated_watt=core.watt if core else None,
        rated_hertz=core.hertz if core else None,
        rated_ampere=core.ampere if core else None,
    )


def _copper(amplifier: SolvedAmplifier, use: TransformerUse) -> tuple[float, float, float]:
    """The primary's copper, the secondary's up to the tap in use, and the load there, all as the whole primary sees
    them, Ω."""
    tap = tap_of(amplifier)
    tap = tap if tap in use.taps else next(iter(use.taps))
    ratio = use.primary_ohm / use.taps[tap]
    return use.copper_ohm, ratio * (use.tap_copper_ohm or {}).get(tap, 0.0), ratio * amplifier.load.ohm


def tap_of(amplifier: SolvedAmplifier) -> str:
    """The port that the load takes from: of an output transformer the tap that it is on."""
    (reference,) = signal_inputs(amplifier.design.block(amplifier.load.block)).values()
    return split(reference)[1]


def _source_ohm(amplifier: SolvedAmplifier, whole: float) -> float:
    """What the tubes show to the whole primary at 1 kHz, Ω: from the impedance at the load, feedback and all."""
    primary, secondary, load = _copper(amplifier, transformer_of(amplifier))
    behind = amplifier.output_impedance * load / amplifier.load.ohm - primary - secondary
    return max(behind, 0.0)


def _idle(amplifier: SolvedAmplifier, use: TransformerUse) -> tuple[float, float]:
    """The copper's heat from idle currents, W, and the steady current that magnetises the whole primary, A."""
    device = amplifier.netlist[use.part].device
    assert isinstance(device, devices.Transformer)
    system = amplifier.state.at.system
    currents = [float(amplifier.state.at.x[system.branch(use.part, place)]) for place in range(len(device.windings))]
    heat = sum(current**2 * float(one.ohm) for current, one in zip(currents, device.windings, strict=True))
    return heat, magnetising_ampere(amplifier, use.part)


def primary_turns(use: TransformerUse, device: devices.Transformer) -> float:
    """The turns of the whole primary, from anode to anode of a pair."""
    a, b = use.halves
    return sum(float(device.windings[place].turns) for place in (*a, *b))


def sections_used(use: TransformerUse) -> int:
    """How many sections of the secondary there are: as many as taps are used."""
    return max(1, len([tap for tap in use.taps if tap not in use.unused]))


@dataclass(frozen=True)
class Ageing:
    """What the idle current does to old iron: the copper's idle heat over that at the rated current, and how many
    times as long insulation lasts than at the rating, by a rule of thumb; with ``share`` of the current, the same."""

    share: float
    heat_watt: float
    life: float


def ageing(amplifier: SolvedAmplifier) -> list[Ageing]:
    """Idle heat as it is, and with 90, 80 and 70 % of the current. The rise at the rated current is assumed to be
    45 K, and that at another to go by its square; without a rated current, what is drawn now is taken for it."""
    result = limits(amplifier)
    rated = result.rated_ampere or 0.0
    rows = []
    for share in (1.0, 0.9, 0.8, 0.7):
        over_rated = share if not rated else share * result.steady_ampere / rated
        rise = RATED_RISE * over_rated**2
        rows.append(
            Ageing(share, result.idle_copper_watt * share**2, float(2 ** ((RATED_RISE - rise) / HALVES_EVERY)))
        )
    return rows
