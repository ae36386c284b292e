"""Feedback with and without, and what its margins become with other loads."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic import devices
from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.loop import LoopGain, linear, loop_gain
from thermionic.blocks.facets import Loop
from thermionic.circuit.small_signal import Response
from thermionic.devices.base import Array, Device
from thermionic.lazily import remembered

OPEN = 1e9  # Ω
CAPACITORS = (100e-9, 1e-6)


@dataclass(frozen=True)
class LoadCase:
    """What a loop is with one load: its name, whether the values in it are assumed, and the loop gain."""

    name: str
    assumed: bool
    loop: LoopGain


@remembered
def load_cases(amplifier: SolvedAmplifier, block_id: str) -> tuple[LoadCase, ...]:
    """A feedback path with the load as designed, a loudspeaker's own curve, none, and capacitors. Raises KeyError
    for a block that is no loop, NetlistRefused."""
    loop = loop_of(amplifier, block_id)
    own = amplifier.netlist[amplifier.load.part].device
    ohm = amplifier.load.ohm
    cases: list[tuple[str, bool, Device | None]] = [("as designed", False, None)]
    if amplifier.load.power:
        if isinstance(own, devices.Resistor):
            cases.append(("a usual loudspeaker's curve", True, usual_loudspeaker(ohm)))
        else:
            cases.append((f"a resistance of {ohm:g} Ω", False, devices.Resistor(ohm)))
        cases += [(f"{_written(farad)} alone", False, devices.Capacitor(farad)) for farad in CAPACITORS]
    cases.append(("nothing connected", False, devices.Resistor(OPEN)))
    return tuple(LoadCase(name, assumed, loop_gain(amplifier, loop, load)) for name, assumed, load in cases)


def usual_loudspeaker(ohm: float) -> devices.Driver:
    """A moving-coil driver of a nominal impedance with figures in the middle of the usual: assumed, where nothing
    was measured."""
    return devices.Driver(0.8 * ohm, 50e-6 * ohm, 55.0, 4.0, 0.5)


def _written(farad: float) -> str:
    return f"{farad * 1e9:g} nF" if farad < 1e-6 else f"{farad * 1e6:g} µF"


def loop_of(amplifier: SolvedAmplifier, block_id: str) -> Loop:
    """The feedback path of that block. Raises KeyError."""
    for loop in amplifier.compiled.loops:
        if loop.block == block_id:
            return loop
    raise KeyError(block_id)


@dataclass(frozen=True, eq=False)
class WithAndWithout:
    """The amplifier with a feedback path and with its parts lifted: the response from the source to the load, and
    the impedance at the load's terminals without the load, Ω, (frequencies,)."""

    hertz: Array
    closed: Response
    opened: Response
    closed_ohm: Array
    opened_ohm: Array


@remembered
def with_and_without(amplifier: SolvedAmplifier, block_id: str) -> WithAndWithout:
    """See WithAndWithout; the operating point is kept as it is. Raises KeyError."""
    loop = loop_of(amplifier, block_id)
    netlist = amplifier.state.at.system.netlist
    for part in loop.parts:
        netlist = netlist.with_device(part, devices.Resistor(OPEN))
    hertz = np.geomspace(1.0, 1e6, 241)
    result = []
    for small in (amplifier.small_signal, linear(amplifier, netlist)):
        system = small.at.system
        node = system.node(amplifier.load.node)
        columns = np.hstack([system.tone[:, None], small.push(amplifier.load.node)])
        solved = small.respond(hertz, columns)[:, node]
        source = amplifier.netlist[amplifier.compiled.source.part].device.excitation().tone[2]
        result.append((Response(hertz, solved[:, 0] / source), np.abs(amplifier.without_load(hertz, solved[:, 1]))))
    return WithAndWithout(hertz, result[0][0], result[1][0], result[0][1], result[1][1])
