"""What magnetises a transformer's core: its steady current, and how low full output may go with that."""

from __future__ import annotations

from math import inf, pi

from thermionic.amplifier.solved import SolvedAmplifier
from thermionic.blocks.facets import TransformerUse
from thermionic.devices import Transformer


def magnetising_ampere(amplifier: SolvedAmplifier, part: str) -> float:
    """The steady current that, through the whole primary, would magnetise the core of ``part`` as all its windings
    together do at idle, A; their turns are given as shares of the whole primary's. The halves of a pair cancel."""
    device = amplifier.netlist[part].device
    assert isinstance(device, Transformer)
    system, x = amplifier.state.at.system, amplifier.state.at.x
    turns = [float(winding.turns) for winding in device.windings]
    return abs(sum(float(x[system.branch(part, place)]) * turn for place, turn in enumerate(turns)))


def lowest_full_hertz(amplifier: SolvedAmplifier, use: TransformerUse) -> float | None:
    """The frequency, Hz, at which full output takes an output transformer's core to its rating, with the steady
    current that it carries; infinite where that current alone does, None where the core has no rating."""
    core = use.made_for
    if core is None or core.knee_weber is None:
        return None
    load = use.primary_ohm * amplifier.load.ohm / (amplifier.load.tap_ohm or amplifier.load.ohm)
    room = core.knee_weber - use.henry * magnetising_ampere(amplifier, use.part)
    swing = (2.0 * amplifier.full_output.power_watt * load) ** 0.5 / (2.0 * pi)
    return float(swing / room) if room > 0 else inf
