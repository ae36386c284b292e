"""What comes back through a shared rail: a stage's current moves the rail, and the rail an earlier stage."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.loop import LoopGain, linear
from thermionic.blocks import Block, Flow, split
from thermionic.circuit.netlist import Netlist, Part
from thermionic.devices import Resistor
from thermionic.devices.base import Array
from thermionic.errors import NetlistRefused
from thermionic.lazily import remembered

# The loops are over where the smoothing begins to smooth; below a cycle in 30 s nothing is coupled any more.
HERTZ: Array = np.geomspace(0.03, 100.0, 36)
# Where a first look is taken: a loop that is as weak as this there is followed no further.
_FIRST: Array = np.geomspace(0.05, 40.0, 5)
_WEAK = 0.1
_CUT_OHM = 1e-3


@dataclass(frozen=True, eq=False)
class RailLoop:
    """The loop through the wire by which ``block`` hangs on the rail ``before`` it: its gain T, which adds to itself
    where 1 + T is small."""

    block: str
    before: str
    loop: LoopGain

    @property
    def nearest(self) -> tuple[float, float]:
        """How near it comes to running by itself, |1 + T|, and where, Hz. It does not count where T is next to
        nothing."""
        distance = np.abs(1.0 + self.loop.gain)
        place = int(np.argmin(distance))
        return float(distance[place]), float(self.loop.hertz[place])

    @property
    def strongest(self) -> tuple[float, float]:
        """The greatest |T|, and where, Hz."""
        place = int(np.argmax(np.abs(self.loop.gain)))
        return float(np.abs(self.loop.gain[place])), float(self.loop.hertz[place])

    @property
    def runs(self) -> bool:
        """Whether it runs by itself."""
        return not self.loop.is_stable


@remembered
def rail_loops(amplifier: SolvedAmplifier) -> tuple[RailLoop, ...]:
    """The loop through every rail that hangs on another, in the design's order, with everything else of the
    amplifier as it is, feedback too. Raises NoSolution.

    The wire between the two is cut (Middlebrook's double injection; see SmallSignal.loop_gain), so that what a rail
    does by being loaded is no part of T, and what the amplifier sends back is all of it.
    """
    cuts = [
        (block, reference)
        for block in amplifier.design.blocks
        for name, flows in type(block).reference_fields().items()
        if (reference := block.references.get(name)) and Flow.RAIL in flows and Flow.RAIL in block.ports().values()
    ]
    netlist, wires = amplifier.state.at.system.netlist, {}
    for block, reference in cuts:
        opened = _cut(amplifier, netlist, block, reference)
        if opened is not None:
            netlist, wires[block.id] = opened, split(reference)[0]
    if not wires:
        return ()
    # With all of them cut and joined again by next to nothing, one set of equations serves every loop.
    small = linear(amplifier, netlist)
    result = []
    for block_id, before in wires.items():
        try:
            loop = LoopGain(_FIRST, small.loop_gain(_wire(block_id), _FIRST))
            if np.max(np.abs(loop.gain)) >= _WEAK:
                loop = LoopGain(HERTZ, small.loop_gain(_wire(block_id), HERTZ))
            result.append(RailLoop(block_id, before, loop))
        except NetlistRefused:
            continue  # nothing flows there
    return tuple(result)


def _wire(block_id: str) -> str:
    return f"RCUT_{block_id}"


def _cut(amplifier: SolvedAmplifier, netlist: Netlist, block: Block, reference: str) -> Netlist | None:
    """The circuit with the wire cut by which a block hangs on a rail, and a resistance in it; None where the two are
    one node."""
    producer, port = split(reference)
    compiled = amplifier.compiled
    node = compiled.node(amplifier.design.block(producer).node(port))
    if node == compiled.node(block.node("out")):
        return None
    own, behind = f"blocks/{block.id}", f"{block.id}__cut"

    def moved(part: Part) -> Part:
        mine = part.path == own or part.path.startswith(f"{own}/")
        if not mine or node not in part.nodes:
            return part
        return replace(part, nodes=tuple(behind if at == node else at for at in part.nodes))

    parts = tuple(moved(part) for part in netlist.parts)
    if parts == netlist.parts:
        return None
    return replace(netlist, parts=(*parts, Part(_wire(block.id), Resistor(_CUT_OHM), (node, behind))))
