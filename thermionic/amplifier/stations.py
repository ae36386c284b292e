"""Where the signal leaves each block on its way to the load, and how much of it there is."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np

from thermionic.amplifier.solved import SolvedAmplifier
from thermionic.blocks.ports import split
from thermionic.circuit.netlist import GROUND
from thermionic.design import signal_inputs
from thermionic.devices.base import Array
from thermionic.lazily import remembered


@dataclass(frozen=True)
class Station:
    """A place on the signal's way: the block that it leaves there, the node, and side b's of a balanced pair, whose
    signal is between the two; earth otherwise."""

    block: str
    node: str
    other: str = GROUND


@remembered
def stations(amplifier: SolvedAmplifier) -> tuple[Station, ...]:
    """Every block on the way from the source to the load. The source's is its own voltage, before its resistance."""
    compiled, design = amplifier.compiled, amplifier.design
    way = [design.block(block_id) for block_id in amplifier.route]
    result = [Station(way[0].id, compiled.source.node)]
    for block, taker in pairwise(way[1:]):
        _, port = split(next(iter(signal_inputs(taker).values())))
        if block.sided(port):
            result.append(
                Station(block.id, compiled.node(block.node(port, "a")), compiled.node(block.node(port, "b")))
            )
        else:
            result.append(Station(block.id, compiled.node(block.node(port))))
    return (*result, Station(way[-1].id, amplifier.load.node))


def phasor(amplifier: SolvedAmplifier, station: Station) -> complex:
    """The signal there at 1 kHz for a volt of the source, by its small signal."""
    return amplifier.phasor(station.node) - amplifier.phasor(station.other)


def level(amplifier: SolvedAmplifier, station: Station, source_volt: float) -> float:
    """The fundamental there, V rms, at a drive of ``source_volt`` (V rms) within the sweep; by its small signal
    past the sweep's top."""
    from scipy.interpolate import (
        PchipInterpolator,  # takes a while to import, which nothing before the first page needs
    )

    levels = np.array([0.0, *(point.source_volt for point in amplifier.sweep)])
    if source_volt > levels[-1]:
        return abs(phasor(amplifier, station)) * source_volt
    size = np.abs(_fundamentals(amplifier, station.node) - _fundamentals(amplifier, station.other)) / np.sqrt(2)
    return float(PchipInterpolator(levels, np.array([0.0, *size]))(source_volt))


def _fundamentals(amplifier: SolvedAmplifier, node: str) -> Array:
    drive = amplifier.drive
    zero: Array = np.zeros(len(drive.levels))
    return zero if node == GROUND else drive.phasors(node)[:, 1]  # type: ignore[return-value]
