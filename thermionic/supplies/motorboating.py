"""What comes back through a shared rail: a stage's current moves the rail, and the rail an earlier stage."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.loop import LoopGain, gain_of
from thermionic.blocks import Block, Flow, split
from thermionic.circuit.netlist import Part
from thermionic.devices import Resistor
from thermionic.devices.base import Array
from thermionic.errors import NetlistRefused
from thermionic.lazily import remembered

# The loops are over where the smoothing begins to smooth; below a cycle in 30 s nothing is coupled any more.
HERTZ: Array = np.geomspace(0.03, 100.0, 57)
_CUT_OHM = 1e-3


@dataclass(frozen=True, eq=False)
class RailLoop:
    """The loop through the wire by which ``block`` hangs on the rail ``before`` it: its gain T at ``HERTZ``, which
    adds to itself where 1 + T is small."""

    block: str
    before: str
    loop: LoopGain

    @property
    def nearest(self) -> tuple[float, float]:
        """How near it comes to running by itself, |1 + T|, and where, Hz. It does not count where T is next to
        nothing."""
        distance = np.abs(1.0 + self.loop.gain)
        place = int(np.argmin(distance))
        return float(distance[place]), float(HERTZ[place])

    @property
    def strongest(self) -> tuple[float, float]:
        """The greatest |T|, and where, Hz."""
        place = int(np.argmax(np.abs(self.loop.gain)))
        return float(np.abs(self.loop.gain[place])), float(HERTZ[place])

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
    found = []
    for block in amplifier.design.blocks:
        for name, flows in type(block).reference_fields().items():
            reference = block.references.get(name)
            if reference and Flow.RAIL in flows and Flow.RAIL in block.ports().values():
                loop = _through(amplifier, block, reference)
                if loop is not None:
                    found.append(RailLoop(block.id, split(reference)[0], loop))
    return tuple(found)


def _through(amplifier: SolvedAmplifier, block: Block, reference: str) -> LoopGain | None:
    """The loop through all parts of a block on the rail that it takes; None where they are one with it."""
    producer, port = split(reference)
    compiled, netlist = amplifier.compiled, amplifier.state.at.system.netlist
    node = compiled.node(amplifier.design.block(producer).node(port))
    own = f"blocks/{block.id}"
    behind, cut = f"{block.id}__cut", False
    parts = []
    for part in netlist.parts:
        if (part.path == own or part.path.startswith(f"{own}/")) and node in part.nodes:
            cut = True
            parts.append(replace(part, nodes=tuple(behind if at == node else at for at in part.nodes)))
        else:
            parts.append(part)
    if not cut or node == compiled.node(block.node("out")):
        return None
    wire = Part("RCUT", Resistor(_CUT_OHM), (node, behind))
    try:
        return gain_of(amplifier, replace(netlist, parts=(*parts, wire)), (wire.name,), hertz=HERTZ)
    except NetlistRefused:
        return None  # nothing flows there
