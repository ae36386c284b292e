"""The signal strip: the amplifier as a row of stations with their solved voltage and level, its rails under it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from math import sqrt

import numpy as np

from thermionic.blocks import SolvedAmplifier
from thermionic.design import Input, Loudspeaker, OutputTransformer, VolumeControl
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
        replace(now, changed=(was := old_rails.get(now.name)) is not None and was.volts != now.volts)
        for now in _rails(amplifier)
    )
    source = amplifier.at_source
    at = f"at {display(source.source_volt, Quantity.VOLTAGE)} in" if source else "small signal"
    return Strip(stations, rails, at)


def _stations(amplifier: SolvedAmplifier) -> Iterator[Station]:
    design = amplifier.design
    stages = {stage.id for stage in design.stages}
    for block in design.chain:
        detail, volts = "", ""
        node = block.id
        if isinstance(block, Input):
            title = "Source"
            node = "source"
        elif isinstance(block, VolumeControl):
            title, detail = "Volume", f"{block.travel:.0%}"
        elif block.id in stages:
            title = block.id.replace("_", " ").capitalize()
            detail = block.tube
            node = f"{block.id}_anode"
            volts = display(amplifier.voltage(node), Quantity.VOLTAGE)
        elif isinstance(block, OutputTransformer):
            title, detail = "Transformer", f"{display(block.primary_ohm, Quantity.RESISTANCE)} : {block.tap_ohm:g} Ω"
            node = ""
        else:
            assert isinstance(block, Loudspeaker)
            title, detail = "Loudspeaker", f"{block.ohm:g} Ω"
        yield Station(block.id, title, detail, volts, _level(amplifier, node) if node else "")


def _level(amplifier: SolvedAmplifier, node: str) -> str:
    """The signal at a node, rms, at the source's own level; by small-signal gain where that overdrives."""
    point = amplifier.at_source
    if point is not None:
        phasor = amplifier.drive.phasors(node)[amplifier.sweep.index(point), 1]
        rms = float(np.abs(phasor)) / sqrt(2)
    else:
        rms = amplifier.gain(node) * amplifier.design.source.source_volt
    return f"{display(rms, Quantity.VOLTAGE)} ~"


def _rails(amplifier: SolvedAmplifier) -> Iterator[Rail]:
    for name in ("reservoir", *(section.id for section in amplifier.design.supply.sections)):
        yield Rail(
            name,
            display(amplifier.voltage(name), Quantity.VOLTAGE),
            display(amplifier.ripple(name), Quantity.VOLTAGE, 2),
        )
