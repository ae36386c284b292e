"""The signal strip: the amplifier as a row of stations with their solved voltage and level, its rails under it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from math import sqrt

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks import Flow
from thermionic.values import Quantity, display


@dataclass(frozen=True)
class Station:
    """One block: what it is, its anode voltage if it has one, the signal level after it, and whether that changed."""

    block_id: str
    title: str
    detail: str
    volts: str
    level: str
    changed: bool = False

    @property
    def figures(self) -> tuple[str, str]:
        """The solved numbers, which are what can be marked as changed."""
        return self.volts, self.level


@dataclass(frozen=True)
class Rail:
    """One HT rail."""

    name: str
    volts: str
    ripple: str
    changed: bool = False


@dataclass(frozen=True)
class Strip:
    """Everything on the strip. ``at`` says at what drive the levels are."""

    stations: tuple[Station, ...]
    rails: tuple[Rail, ...]
    at: str


def strip(amplifier: SolvedAmplifier, before: SolvedAmplifier | None = None) -> Strip:
    """The strip of a solved amplifier, marking what differs from ``before``."""
    old_stations = {s.block_id: s for s in _stations(before)} if before else {}
    old_rails = {r.name: r for r in _rails(before)} if before else {}
    stations = tuple(
        replace(now, changed=(was := old_stations.get(now.block_id)) is not None and was.figures != now.figures)
        for now in _stations(amplifier)
    )
    rails = tuple(
        replace(now, changed=(old := old_rails.get(now.name)) is not None and old.volts != now.volts)
        for now in _rails(amplifier)
    )
    source = amplifier.at_source
    at = f"at {display(source.source_volt, Quantity.VOLTAGE)} in" if source else "small signal"
    return Strip(stations, rails, at)


def _stations(amplifier: SolvedAmplifier) -> Iterator[Station]:
    compiled = amplifier.compiled
    for block_id in amplifier.route:
        block, uses = amplifier.design.block(block_id), compiled.tubes_of(block_id)
        detail = volts = ""
        if uses:
            detail = ", ".join(dict.fromkeys(use.type.type for use in uses))
            volts = display(amplifier.voltage(uses[0].anode), Quantity.VOLTAGE)
        node = _output_node(amplifier, block_id)
        yield Station(block_id, block.label, detail, volts, _level(amplifier, node) if node else "")


def _output_node(amplifier: SolvedAmplifier, block_id: str) -> str:
    """Where a block's signal leaves it: the load's own node, the output of its tubes, or its first output port."""
    compiled = amplifier.compiled
    for load in compiled.loads:
        if load.block == block_id:
            return load.node
    for source in compiled.sources:
        if source.block == block_id:
            return source.node
    uses = compiled.tubes_of(block_id)
    if uses:
        return uses[0].output
    block = amplifier.design.block(block_id)
    for port, flow in block.ports().items():
        if flow in (Flow.SIGNAL, Flow.PAIR):
            node = compiled.node(block.node(port, "a" if flow is Flow.PAIR else ""))
            if node in compiled.netlist.nodes:
                return node
    return ""


def _level(amplifier: SolvedAmplifier, node: str) -> str:
    """The signal at a node, rms, at the source's own level; by small-signal gain where that overdrives."""
    point = amplifier.at_source
    if point is not None:
        phasor = amplifier.drive.phasors(amplifier.compiled.node(node))[amplifier.sweep.index(point), 1]
        rms = float(np.abs(phasor)) / sqrt(2)
    else:
        rms = amplifier.gain(node) * amplifier.compiled.source.volt
    return f"{display(rms, Quantity.VOLTAGE)} ~"


def _rails(amplifier: SolvedAmplifier) -> Iterator[Rail]:
    for rail in amplifier.compiled.rails:
        yield Rail(
            rail.name.replace("_", " "),
            display(amplifier.voltage(rail.node), Quantity.VOLTAGE),
            display(amplifier.ripple(rail.node), Quantity.VOLTAGE, 2),
        )
