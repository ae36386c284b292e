"""An output tube that shorts from anode to cathode: what flows then, what burns, and whether the fuse goes."""

from __future__ import annotations

from dataclasses import dataclass

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import Rectified, TubeUse
from thermionic.blocks.fields import FusePart
from thermionic.blocks.ports import block_at
from thermionic.circuit.netlist import Netlist, Part
from thermionic.circuit.supply import solve_circuit
from thermionic.circuit.supply_state import CircuitState
from thermionic.design import Resistor
from thermionic.devices import CurrentSource, Feed, Transformer
from thermionic.devices import Resistor as ResistorDevice
from thermionic.lazily import remembered
from thermionic.supplies.rectifying import rectifying

_SHORT_OHM = 1.0
_BURNS = 2.0  # times its rating, from which a resistor does not last
_WARM = 3.0  # W, from which a signal transformer's copper is worth a word
_SHOWN = 3


@dataclass(frozen=True)
class Burning:
    """A part with the tube shorted: its designator, what it is, its heat, W, and what it is made for (None where that
    is not known)."""

    designator: str
    what: str
    watt: float
    rating_watt: float | None


@dataclass(frozen=True)
class Shorted:
    """One output tube shorted, steadily, on the usual mains: its part; the current through it, A; the fuse's, A rms,
    and what it is rated for (None without one); the HT rectifier's mean current and what it is made to give, A (None
    where that is not known); and what burns, the worst first."""

    part: str
    ampere: float
    fuse_ampere: float | None
    fuse_rating: float | None
    rectifier_ampere: float | None
    rectifier_rating: float | None
    burning: tuple[Burning, ...]


@remembered
def output_shorts(amplifier: SolvedAmplifier) -> tuple[Shorted, ...]:
    """The first tube of every side of the last stage, each shorted by itself, in one channel. Raises NoSolution."""
    stages = [block for block in amplifier.route if amplifier.compiled.tubes_of(block)]
    firsts: dict[str, TubeUse] = {}
    for use in amplifier.compiled.tubes_of(stages[-1]) if stages else ():
        firsts.setdefault(use.side, use)
    return tuple(_shorted(amplifier, use) for use in firsts.values())


def _shorted(amplifier: SolvedAmplifier, use: TubeUse) -> Shorted:
    node = amplifier.compiled.node
    short = Part("RSHORT", ResistorDevice(_SHORT_OHM), (node(use.anode), node(use.cathode)))
    state = solve_circuit(_one_channel(amplifier).with_parts([short]), amplifier.state)
    at = state.at
    ampere = (at.voltage(short.nodes[0]) - at.voltage(short.nodes[1])) / _SHORT_OHM
    fuse, rating = None, None
    for path, part in amplifier.compiled.components(FusePart):
        fuse, rating = state.rms_ampere(amplifier.compiled.designator(path)), part.ampere
    mean, made_for, most = None, None, 0.0
    for rectified in amplifier.compiled.said(Rectified):
        now, rest = (rectifying(one, rectified).mean_ampere for one in (state, amplifier.state))
        if now / max(rest, 1e-9) > most:  # the one that the short is on
            mean, most = now, now / max(rest, 1e-9)
            tube = amplifier.design.tube_of(rectified.tube).unit("rectifier") if rectified.tube else None
            made_for = tube.rectifier_limits.output_a if tube and tube.rectifier_limits else None
    return Shorted(use.part, ampere, fuse, rating, mean, made_for, _burning(amplifier, state))


def _one_channel(amplifier: SolvedAmplifier) -> Netlist:
    """The circuit with the other channels drawing from what they share what they draw at rest."""
    netlist, at = amplifier.netlist, amplifier.state.at
    for part in netlist.parts:
        if isinstance(part.device, Feed):
            others = float(at.terminal_currents[part.name][0]) * (1.0 - 1.0 / part.device.channels)
            rest = Part(f"I{part.name}REST", CurrentSource(others), (part.nodes[0], part.nodes[2]))
            netlist = netlist.with_device(part.name, Feed(1)).with_parts([rest])
    return netlist


def _burning(amplifier: SolvedAmplifier, state: CircuitState) -> tuple[Burning, ...]:
    burning_parts = []
    for path, resistor in amplifier.compiled.components(Resistor):
        for name in amplifier.compiled.designators(path):
            watt = state.rms_ampere(name) ** 2 * resistor.ohm
            if watt > _BURNS * resistor.rating_watt:
                burning_parts.append(Burning(name, block_at(path).replace("_", " "), watt, resistor.rating_watt))
    for use in amplifier.compiled.transformers:
        device = state.netlist[use.part].device
        if isinstance(device, Transformer):
            currents = [float(state.at.x[state.at.system.branch(use.part, k)]) for k in range(len(device.windings))]
            heat = sum(i**2 * float(one.ohm) for i, one in zip(currents, device.windings, strict=True))
            if heat > _WARM:
                burning_parts.append(Burning(use.part, "its copper", heat, None))
    burning_parts.sort(key=lambda one: -(one.watt / one.rating_watt if one.rating_watt else one.watt))
    return tuple(burning_parts[:_SHOWN])
