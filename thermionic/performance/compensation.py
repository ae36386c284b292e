"""What widens thin margins at the upper end: a lead capacitor or a step network, and what each costs."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from thermionic import devices
from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.loop import (
    GAIN_MARGIN,
    HIGHEST_HERTZ,
    PHASE_MARGIN,
    LoopGain,
    Margin,
    gain_of,
    is_backwards,
    linear,
)
from thermionic.amplifier.solved import REFERENCE_HERTZ
from thermionic.blocks import Flow
from thermionic.blocks.facets import Loop, TubeUse
from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.circuit.small_signal import Response
from thermionic.design import Design, changed, dump, find, fit_part, validate
from thermionic.devices.base import Device
from thermionic.lazily import remembered
from thermionic.performance.loop import CAPACITORS, OPEN, loop_of
from thermionic.values import Series, nearest, step

# What the upper end's margins are looked for at while a compensation is sought.
_UPPER_HERTZ = np.geomspace(200.0, HIGHEST_HERTZ, 137)


@dataclass(frozen=True)
class Compensation:
    """A change that widens the margins, with what it costs. ``margin`` and ``before`` are at the upper end with the
    load as designed; ``worst`` is the least phase margin over all loads; the peaks are of the response above 1 kHz,
    dB, the corners its upper -3 dB, and ``feedback_db`` what is left at 10 kHz. A step network goes from ``place``, a
    port, to earth."""

    kind: str
    farad: float
    ohm: float
    margin: Margin
    before: Margin
    worst: float
    worst_before: float
    peak_db: float
    peak_before_db: float
    corner_hertz: float | None
    corner_before_hertz: float | None
    feedback_db: float
    feedback_before_db: float
    enough: bool
    place: str = ""


@remembered
def compensations(amplifier: SolvedAmplifier, block_id: str) -> tuple[Compensation, ...]:
    """A lead capacitor across the feedback resistor and a step network at the first anode in the loop, each where it
    widens thin margins at the upper end; empty where they are not thin. Raises KeyError, NetlistRefused."""
    loop = loop_of(amplifier, block_id)
    own = _uppers(amplifier, amplifier.state.at.system.netlist, loop.parts)
    if _worth(own) >= 1.0:
        return ()
    result = [_lead(amplifier, loop, own), _network(amplifier, loop, own)]
    return tuple(one for one in result if one is not None)


@dataclass(frozen=True)
class _Trial:
    """A circuit with a compensation of so many farads and ohms in it, and the parts that carry its feedback."""

    farad: float
    ohm: float
    netlist: Netlist
    carried: tuple[str, ...]


def _lead(amplifier: SolvedAmplifier, loop: Loop, own: list[LoopGain]) -> Compensation | None:
    if not loop.lead:
        return None
    netlist = amplifier.state.at.system.netlist
    trials = []
    for farad in _series(10e-12, 22e-9):
        capacitor = devices.Capacitor(farad)
        if len(loop.parts) > 1:
            trials.append(_Trial(farad, 0.0, netlist.with_device(loop.parts[1], capacitor), loop.parts))
        else:
            added = netlist.with_parts([Part("CLEAD", capacitor, netlist[loop.part].nodes)])
            trials.append(_Trial(farad, 0.0, added, (*loop.parts, "CLEAD")))
    return _best(amplifier, "lead", own, trials)


def _network(amplifier: SolvedAmplifier, loop: Loop, own: list[LoopGain]) -> Compensation | None:
    first = _first_inside(amplifier, loop)
    if first is None:
        return None
    netlist = amplifier.state.at.system.netlist
    impedance = abs(amplifier.small_signal.impedance(first.anode, REFERENCE_HERTZ))
    trials = []
    for share in (0.1, 0.2, 0.4):
        ohm = nearest(impedance * share, Series.E12)
        for farad in _series(22e-12, 4.7e-9)[::2]:
            parts = (
                Part("RSTEP", devices.Resistor(ohm), (amplifier.compiled.node(first.anode), "step_network")),
                Part("CSTEP", devices.Capacitor(farad), ("step_network", GROUND)),
            )
            trials.append(_Trial(farad, ohm, netlist.with_parts(parts), loop.parts))
    best = _best(amplifier, "step", own, trials)
    place = _place(amplifier, amplifier.compiled.node(first.anode))
    return replace(best, place=place) if best and place else None


def _place(amplifier: SolvedAmplifier, node: str) -> str:
    """The port that names a node, as ``block.port``; "" where none does."""
    for block in amplifier.design.blocks:
        for port, flow in block.ports().items():
            named = flow in (Flow.PLACE, Flow.SIGNAL) and not block.sided(port)
            if named and amplifier.compiled.node(block.node(port)) == node:
                return f"{block.id}.{port}"
    return ""


def _series(least: float, most: float) -> list[float]:
    result = [least]
    while result[-1] < most * 0.999:
        result.append(step(result[-1], Series.E12, 1))
    return result


def _first_inside(amplifier: SolvedAmplifier, loop: Loop) -> TubeUse | None:
    """The first tube on the signal's way that the loop's end acts on: one with its cathode or grid, or what leads
    there, at the far end of the feedback's parts."""
    ends = set(amplifier.state.at.system.netlist[loop.part].nodes)
    uses = [use for use in amplifier.compiled.tubes if use.block in amplifier.route]
    uses.sort(key=lambda use: amplifier.route.index(use.block))
    name = amplifier.compiled.node
    for use in uses:
        if ends & {name(use.cathode), name(use.grid)}:
            return use
    return uses[0] if uses else None


def _best(amplifier: SolvedAmplifier, kind: str, own: list[LoopGain], trials: list[_Trial]) -> Compensation | None:
    """The first trial that gives margins enough with every load, else that with the widest; None if none helps."""
    best, worth, uppers = None, _worth(own) + 0.02, own
    for trial in trials:
        tried = _uppers(amplifier, trial.netlist, trial.carried)
        if _worth(tried) > worth:
            best, worth, uppers = trial, _worth(tried), tried
        if worth >= 1.0:
            break
    if best is None:
        return None
    was, now = _shape(amplifier, amplifier.state.at.system.netlist), _shape(amplifier, best.netlist)
    return Compensation(
        kind, best.farad, best.ohm, uppers[0].high, own[0].high, _least_phase(uppers), _least_phase(own),
        now[0], was[0], now[1], was[1], uppers[0].feedback_at(10e3), own[0].feedback_at(10e3), worth >= 1.0,
    )  # fmt: skip


def _uppers(amplifier: SolvedAmplifier, netlist: Netlist, carried: tuple[str, ...]) -> list[LoopGain]:
    """The loop as designed, with nothing connected and with a capacitor."""
    loads: list[Device | None] = [None]
    if amplifier.load.power:
        loads += [devices.Resistor(OPEN), devices.Capacitor(CAPACITORS[0])]
    backwards = is_backwards(amplifier, next(loop for loop in amplifier.compiled.loops if loop.part in carried))
    return [gain_of(amplifier, netlist, carried, load, _UPPER_HERTZ, backwards) for load in loads]


def _least_phase(loops: list[LoopGain]) -> float:
    """The least phase margin at the upper end, degrees; below 0 where it oscillates."""
    result = []
    for loop in loops:
        phase = loop.high.phase_degrees
        result.append((180.0 if phase is None else phase) if loop.is_stable else min(phase or 0.0, 0.0))
    return min(result)


def _worth(loops: list[LoopGain]) -> float:
    """1 where the margins with the load as designed are wide enough and every other load leaves it at rest with half
    of that; less in the measure that they are not."""
    shares = []
    for place, one in enumerate(loops):
        wanted = 1.0 if place == 0 else 0.4
        if not one.is_stable:
            shares.append(-1.0)
            continue
        phase, gain = one.high.phase_degrees, one.high.gain_db
        shares.append(1.0 if phase is None else phase / (PHASE_MARGIN * wanted))
        shares.append(1.0 if gain is None else gain / (GAIN_MARGIN * wanted))
    return min(1.0, *shares)


def _shape(amplifier: SolvedAmplifier, netlist: Netlist) -> tuple[float, float | None]:
    """The response's peak above 1 kHz, dB, and its upper corner, Hz."""
    hertz = np.geomspace(1e3, 1e6, 121)
    small = linear(amplifier, netlist)
    system = small.at.system
    gain = small.tone(hertz)[:, system.node(amplifier.load.node)]
    response = Response(hertz, gain)
    return float(response.decibels.max() - response.decibels[0]), response.corner(1e3, upwards=True)


def compensated(design: Design, block_id: str, kind: str, farad: float, ohm: float, place: str) -> Design:
    """The design with a ``lead`` capacitor in a feedback block, or a ``step`` network from a ``place``
    (``block.port``) to earth. Raises DesignRefused."""
    if kind == "lead":
        path = f"blocks/{block_id}/capacitor"
        fitted = design if find(design, path).value else fit_part(design, path, True)
        return changed(fitted, f"{path}/farad", farad)
    raw = dump(design)
    names = {block.id for block in design.blocks}
    raw["blocks"].append(
        {"id": next(name for name in _names() if name not in names), "kind": "extra-part", "scope": "channel",
         "a": place, "resistor": {"ohm": ohm, "rating_watt": 0.5},
         "capacitor": {"farad": farad, "rating_volt": 400.0, "tolerance": 0.1}}
    )  # fmt: skip
    return validate(raw)


def _names() -> Iterator[str]:
    yield "step_network"
    count = 2
    while True:
        yield f"step_network_{count}"
        count += 1
