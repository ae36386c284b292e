"""The output transformer of a solved amplifier: what its tubes see, its limits, its losses, its heat."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from thermionic import devices
from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.amplifier.magnetising import lowest_full_hertz, magnetising_ampere
from thermionic.amplifier.solved import FULL_DISTORTION, REFERENCE_HERTZ, drive_as_far
from thermionic.blocks import Block
from thermionic.blocks.facets import TransformerUse
from thermionic.blocks.ports import split
from thermionic.circuit.harmonic_balance import waveform
from thermionic.circuit.large_signal import drive
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.operating_point import operating_point
from thermionic.circuit.small_signal import respond
from thermionic.circuit.system import System
from thermionic.design import Design, changed
from thermionic.devices.base import Array, ComplexArray
from thermionic.errors import DesignRefused, NoSteadyState, ThermionicError
from thermionic.lazily import remembered

OPEN_OHM = 1e7
_SWEPT = np.geomspace(10.0, 100e3, 161)
_LOW_SWEEP = tuple(np.geomspace(10.0, 200.0, 14).tolist())
# A push-pull core stands this part of its limit as steady flux before it tells: a rule of thumb.
_IMBALANCE = 0.1
# V. M. Montsinger, "Loading transformers by temperature", Transactions of the AIEE 49 (1930), p. 776: insulation
# lasts half as long for every so many kelvin more. The rise at the rating is assumed.
HALVES_EVERY, RATED_RISE = 8.0, 45.0
_LOAD_WATT = 2.0  # a dummy load's rating over full output


def output_transformer(amplifier: SolvedAmplifier) -> TransformerUse | None:
    """The transformer that drives the load; None where there is none."""
    route = amplifier.route
    found = [use for use in amplifier.compiled.transformers if use.block in route and use.taps]
    return max(found, key=lambda use: route.index(use.block), default=None)


def block_of(amplifier: SolvedAmplifier) -> Block:
    """Its block. Raises DesignRefused where there is none."""
    use = output_transformer(amplifier)
    if use is None:
        raise DesignRefused(f"{amplifier.design.name} has no output transformer.")
    return amplifier.design.block(use.block)


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
    use = output_transformer(amplifier)
    if use is None:
        raise DesignRefused(f"{amplifier.design.name} has no output transformer.")
    netlist = amplifier.netlist
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
    block, nodes = amplifier.design.block(use.block), amplifier.netlist[use.part].nodes
    a, b = _anode_windings(amplifier, block)
    if b:  # side b's windings begin at the anode's end
        return nodes[2 * a[-1] + 1], nodes[2 * b[-1]]
    return nodes[2 * a[-1] + 1], nodes[2 * a[0]]


def _anode_windings(amplifier: SolvedAmplifier, block: Block) -> tuple[list[int], list[int]]:
    """The windings from the rail to the anode of each side, by their place; none of a side b that there is not."""
    taken = _taken(amplifier)
    anode = 2 if getattr(block, "screen_tap", None) and f"{block.id}.ul" in taken else 1
    side = anode + (1 if getattr(block, "cathode_share", None) and f"{block.id}.cathode" in taken else 0)
    a = list(range(anode))
    return a, list(range(side, side + anode)) if getattr(block, "push_pull", False) else []


def _taken(amplifier: SolvedAmplifier) -> set[str]:
    return {reference for block in amplifier.design.blocks for reference in block.references.values()}


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
    block, use = block_of(amplifier), output_transformer(amplifier)
    assert use is not None
    henry, leakage = float(block.primary_henry), float(block.leakage_henry)  # type: ignore[attr-defined]
    farad, core = block.primary_farad, block.core  # type: ignore[attr-defined]
    primary, secondary, through = _copper(amplifier, block, use)
    load = through  # the load as the primary sees it, without copper
    source = _source_ohm(amplifier, load + primary + secondary)
    beside = 1.0 / (1.0 / (source + primary) + 1.0 / (load + secondary))
    full = amplifier.full_output.power_watt
    idle, steady = _idle(amplifier, use)
    heat = full * (primary + secondary) / load
    core_hertz = allowed = None
    if core is not None:
        lowest = lowest_full_hertz(amplifier, use)
        core_hertz = lowest if lowest is not None and np.isfinite(lowest) else None
        allowed = float(core.ampere or _IMBALANCE * core.core(henry, use.primary_ohm).knee_weber / henry)
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


def _copper(amplifier: SolvedAmplifier, block: Block, use: TransformerUse) -> tuple[float, float, float]:
    """The primary's copper, the secondary's up to the tap in use, and the load there, all as the whole primary sees
    them, Ω."""
    _, tap_id = split(getattr(amplifier.design.block(amplifier.load.block), "input"))  # noqa: B009
    taps = {tap.id: tap for tap in block.taps}  # type: ignore[attr-defined]
    tap = taps.get(tap_id, next(iter(taps.values())))
    ratio = use.primary_ohm / tap.ohm
    return float(block.primary_copper_ohm), ratio * tap.copper_ohm, ratio * amplifier.load.ohm  # type: ignore[attr-defined]


def _source_ohm(amplifier: SolvedAmplifier, whole: float) -> float:
    """What the tubes show to the whole primary at 1 kHz, Ω: from the impedance at the load, feedback and all."""
    block, use = block_of(amplifier), output_transformer(amplifier)
    assert use is not None
    primary, secondary, load = _copper(amplifier, block, use)
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


def _turns(amplifier: SolvedAmplifier, block: Block, device: devices.Transformer) -> float:
    """The turns of the whole primary, from anode to anode of a pair."""
    a, b = _anode_windings(amplifier, block)
    return sum(float(device.windings[place].turns) for place in (*a, *b))


def _secondaries(amplifier: SolvedAmplifier, block: Block) -> int:
    """How many sections of the secondary there are: as many as taps are used."""
    taken = _taken(amplifier)
    used = [tap for tap in block.taps if f"{block.id}.{tap.id}" in taken]  # type: ignore[attr-defined]
    return max(1, len(used))


@dataclass(frozen=True, eq=False)
class SaturatingCycle:
    """One cycle at the lowest frequency at which the core stands full output: ``share`` of it, 0 to 1, the
    magnetising current and that into the load as the primary sees it, A, all (points,)."""

    hertz: float
    share: Array
    magnetising: Array
    carried: Array
    distortion: float


@remembered
def saturating_cycle(amplifier: SolvedAmplifier) -> SaturatingCycle | None:
    """The cycle at the limit; None where the core has no rating, or no steady state is found there."""
    found = limits(amplifier)
    use = output_transformer(amplifier)
    if found.core_hertz is None or use is None:
        return None
    level = amplifier.drive.levels[0] * amplifier.full_output.source_volt / amplifier.sweep[0].source_volt
    try:
        driven = drive(amplifier.state.at, found.core_hertz, np.array([0.3, 0.7, 1.0]) * level, None, 16)
    except NoSteadyState:
        return None
    device = amplifier.netlist[use.part].device
    assert isinstance(device, devices.Transformer)
    system = amplifier.state.at.system
    block = block_of(amplifier)
    whole = _turns(amplifier, block, device)
    secondary = len(device.windings) - _secondaries(amplifier, block)
    points = 201
    currents = [
        waveform(driven.x[-1, system.branch(use.part, place)][None], points)[0]
        for place in range(len(device.windings))
    ]
    turns = [float(one.turns) for one in device.windings]
    magnetising = sum(current * turn for current, turn in zip(currents, turns, strict=True)) / whole
    carried = (
        -sum(current * turn for current, turn in zip(currents[secondary:], turns[secondary:], strict=True)) / whole
    )
    size = np.abs(driven.phasors(amplifier.load.node)[-1])
    bent = float(np.sqrt(np.sum(size[2:] ** 2)) / max(size[1], 1e-30))
    return SaturatingCycle(
        found.core_hertz, np.arange(points) / points, np.asarray(magnetising), np.asarray(carried), bent
    )


@dataclass(frozen=True)
class OutputAgainstFrequency:
    """The output at which distortion reaches 5 %, W, at each of ``hertz``, and the lowest frequencies at which it is
    still nine tenths and a half of that at 1 kHz; None where it is that at the lowest looked at."""

    hertz: tuple[float, ...]
    watt: tuple[float, ...]
    middle_watt: float
    full_hertz: float | None
    half_hertz: float | None


def output_against_frequency(
    amplifier: SolvedAmplifier, told: Callable[[float], None] = lambda part: None
) -> OutputAgainstFrequency:
    """Solve full output at low frequencies, where inductance and core count. Raises DesignRefused without an output
    transformer, BudgetSpent."""
    block_of(amplifier)
    middle = amplifier.full_output.power_watt
    hertz, watt = [], []
    for place, one in enumerate(_LOW_SWEEP):
        told(place / len(_LOW_SWEEP))
        watt.append(_full_at(amplifier, one))
        hertz.append(one)
    levels = np.array(watt)

    def lowest(share: float) -> float | None:
        short = np.flatnonzero(levels < share * middle)
        if not len(short):
            return None
        at = int(short[-1])
        if at + 1 >= len(hertz):
            return float(hertz[-1])
        logs = np.log(hertz[at : at + 2])
        return float(np.exp(np.interp(share * middle, levels[at : at + 2], logs)))

    return OutputAgainstFrequency(tuple(hertz), tuple(watt), middle, lowest(0.9), lowest(0.5))


def _full_at(amplifier: SolvedAmplifier, hertz: float) -> float:
    """The output at a frequency where distortion first reaches 5 %, W; the most that was solved if it does not."""
    try:
        driven = drive_as_far(amplifier.state.at, hertz, amplifier.drive.levels, amplifier.drive)
    except NoSteadyState:
        return 0.0
    points = amplifier.points(driven)
    bent = np.array([point.distortion for point in points])
    out = np.array([point.power_watt for point in points])
    past = np.flatnonzero(bent >= FULL_DISTORTION)
    if not len(past):
        return float(out.max())
    at = int(past[0])
    if at == 0:
        return float(out[0] * (FULL_DISTORTION / bent[0]) ** 2)  # a second harmonic goes as the root of the output
    share = (np.log(FULL_DISTORTION) - np.log(bent[at - 1])) / (np.log(bent[at]) - np.log(bent[at - 1]))
    return float(np.exp(np.log(out[at - 1]) + share * (np.log(out[at]) - np.log(out[at - 1]))))


@dataclass(frozen=True)
class OnTap:
    """The amplifier with its load on one tap: what the primary then shows, and what comes of it. ``refusal`` says why
    where it could not be solved; the rest are then 0."""

    tap: str
    load: str
    load_ohm: float
    primary_ohm: float
    power_watt: float
    distortion: float
    damping: float
    used: bool
    refusal: str = ""


def on_taps(amplifier: SolvedAmplifier) -> list[OnTap]:
    """One loudspeaker as it is, and two of them, on every tap: each solved with all that hangs on the load's tap.

    ``distortion`` is at 1 W or at full output if that is less. Raises DesignRefused without a transformer.
    """
    block, use = block_of(amplifier), output_transformer(amplifier)
    assert use is not None
    speaker = amplifier.load.block
    now = split(getattr(amplifier.design.block(speaker), "input"))[1]  # noqa: B009
    found = []
    for count, words in ((1, "one loudspeaker"), (2, "two in parallel")):
        for tap in block.taps:  # type: ignore[attr-defined]
            design = _connected(amplifier.design, speaker, f"{block.id}.{tap.id}", count)
            if design is None:
                continue
            alone = design == amplifier.design
            try:
                trial = amplifier if alone else solve(design, amplifier)
                found.append(_on_tap(trial, tap.id, words, use.primary_ohm * trial.load.ohm / tap.ohm,
                                     used=tap.id == now and alone))  # fmt: skip
            except ThermionicError as reason:
                found.append(OnTap(tap.id, words, 0.0, 0.0, 0.0, 0.0, 0.0, False, str(reason)))
    return found


def _connected(design: Design, speaker: str, reference: str, count: int) -> Design | None:
    """The design with so many of its loudspeakers on a tap; None where the load cannot be several."""
    block = design.block(speaker)
    if count > 1:
        if "count" not in type(block).model_fields or getattr(block, "count") != 1:  # noqa: B009
            return None
        design = changed(changed(design, f"blocks/{speaker}/count", "2"), f"blocks/{speaker}/connection", "parallel")
    return changed(design, f"blocks/{speaker}/input", reference)


def _on_tap(trial: SolvedAmplifier, tap: str, words: str, primary: float, used: bool) -> OnTap:
    points = trial.sweep
    full = trial.full_output
    at = min(1.0, full.power_watt)
    bent = float(np.interp(at, [0.0, *(p.power_watt for p in points)], [0.0, *(p.distortion for p in points)]))
    return OnTap(
        tap, words, trial.load.ohm, primary, full.power_watt, bent, trial.load.ohm / trial.output_impedance, used
    )


@dataclass(frozen=True)
class Unused:
    """An end of the transformer that nothing is connected to, and how it is left."""

    name: str
    how: str


_LEFT_ALONE = (
    "insulated and tied away, joined to nothing: between it and another tap there is full signal voltage, and "
    "shorted turns load the whole transformer"
)


def unused(amplifier: SolvedAmplifier) -> list[Unused]:
    """The taps that this amplifier leaves alone."""
    block = block_of(amplifier)
    taken = _taken(amplifier)
    found = [
        Unused(f"secondary {tap.id} Ω", _LEFT_ALONE)
        for tap in block.taps  # type: ignore[attr-defined]
        if f"{block.id}.{tap.id}" not in taken
    ]  # fmt: skip
    if getattr(block, "screen_tap", None) and f"{block.id}.ul" not in taken:
        found.append(
            Unused("screen taps", "each insulated by itself for the full HT and its swing, up to twice the HT; "
                   "never joined to each other")
        )  # fmt: skip
    if getattr(block, "cathode_share", None) and f"{block.id}.cathode" not in taken:
        found.append(Unused("cathode winding", "left open at both ends, insulated"))
    return found


@dataclass(frozen=True)
class Unloaded:
    """What an open load does. ``anode_volt`` is the highest anode-to-earth voltage over a cycle at the drive that
    gives full output with the load on, ``with_load_volt`` the same with it on; ``dummy_ohm`` and ``dummy_watt`` what
    takes the loudspeaker's place. ``found`` is whether the open circuit was solved up to that drive; if not
    ``anode_volt`` is at the highest drive that was."""

    anode_volt: float
    with_load_volt: float
    dummy_ohm: float
    dummy_watt: float
    found: bool


def unloaded(amplifier: SolvedAmplifier) -> Unloaded:
    """The amplifier driven with nothing connected. Raises DesignRefused without an output transformer."""
    use = output_transformer(amplifier)
    if use is None:
        raise DesignRefused(f"{amplifier.design.name} has no output transformer.")
    anodes = [one.anode for one in amplifier.compiled.tubes if one.block in amplifier.route]
    last = [node for node in anodes if amplifier.compiled.node(node) in amplifier.netlist[use.part].nodes]
    level = amplifier.drive.levels[0] * amplifier.full_output.source_volt / amplifier.sweep[0].source_volt
    watt = amplifier.full_output.power_watt
    dummy = _preferred_watt(_LOAD_WATT * watt)
    with_load = _peak(amplifier, drive(amplifier.state.at, REFERENCE_HERTZ, np.array([0.5, 1.0]) * level).x[-1], last)
    at = operating_point(
        System(amplifier.state.at.system.netlist.with_device(amplifier.load.part, devices.Resistor(OPEN_OHM))),
        amplifier.state.at.x if _same_size(amplifier) else None,
    )
    best, reached = 0.0, 0.0
    for share in (0.1, 0.2, 0.35, 0.5, 0.7, 0.85, 1.0):
        try:
            driven = drive(at, REFERENCE_HERTZ, np.array([0.5 * share, share]) * level)
        except NoSteadyState:
            continue
        names = [at.system.node(amplifier.compiled.node(node)) for node in last]
        best, reached = max(best, float(waveform(driven.x[-1, names], 256).max())), share
    return Unloaded(best, with_load, amplifier.load.ohm, dummy, reached == 1.0)


def _same_size(amplifier: SolvedAmplifier) -> bool:
    return isinstance(amplifier.netlist[amplifier.load.part].device, devices.Resistor)


def _peak(amplifier: SolvedAmplifier, x: ComplexArray, nodes: list[str]) -> float:
    system = amplifier.state.at.system
    rows = [system.node(amplifier.compiled.node(node)) for node in nodes]
    return float(waveform(x[rows], 256).max())


def _preferred_watt(watt: float) -> float:
    return next((one for one in (5.0, 10.0, 25.0, 50.0, 100.0, 200.0) if one >= watt), float(round(watt, -2) + 100))


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
    found = limits(amplifier)
    rated = found.rated_ampere or 0.0
    rows = []
    for share in (1.0, 0.9, 0.8, 0.7):
        over_rated = share if not rated else share * found.steady_ampere / rated
        rise = RATED_RISE * over_rated**2
        rows.append(
            Ageing(share, found.idle_copper_watt * share**2, float(2 ** ((RATED_RISE - rise) / HALVES_EVERY)))
        )
    return rows
