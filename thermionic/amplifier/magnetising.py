"""The steady current that magnetises a transformer's core."""

from __future__ import annotations

from thermionic.amplifier.solved import SolvedAmplifier
from thermionic.devices import Transformer


def magnetising_ampere(amplifier: SolvedAmplifier, part: str) -> float:
    """The steady current that, through the whole primary, would magnetise the core of ``part`` as all its windings
    together do at idle, A; their turns are given as shares of the whole primary's. The halves of a pair cancel."""
    device = amplifier.netlist[part].device
    assert isinstance(device, Transformer)
    system, x = amplifier.state.at.system, amplifier.state.at.x
    turns = [float(winding.turns) for winding in device.windings]
    return abs(sum(float(x[system.branch(part, place)]) * turn for place, turn in enumerate(turns)))
