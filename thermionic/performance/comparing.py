"""A design in a row of numbers, beside others; and how two designs differ."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.solved import REFERENCE_HERTZ
from thermionic.blocks import Component
from thermionic.blocks.facets import HeaterUse
from thermionic.blocks.fields import Tap
from thermionic.blocks.ports import block_at
from thermionic.design import Design, field, find, values_within
from thermionic.devices import MainsSource
from thermionic.findings import Finding
from thermionic.lazily import remembered
from thermionic.performance.levels import reference_output, source_for
from thermionic.performance.response import sweep


@dataclass(frozen=True)
class Comparison:
    """What designs are compared by. Outputs are W, or V rms at a line load; distortion a fraction, at the reference
    output and at full output; ``wall_watt`` what the supplies and heaters take, without the mains transformer's own
    losses; ``bottles`` and ``parts`` are counted over all channels. ``findings`` are counted by severity."""

    full: float
    reference: float
    distortion: float
    distortion_full: float
    damping: float
    gain: float
    source_volt: float
    low_hertz: float | None
    high_hertz: float | None
    highest_rail: float
    wall_watt: float
    bottles: int
    parts: int
    findings: dict[str, int]


@remembered
def _numbers(amplifier: SolvedAmplifier) -> Comparison:
    full, reference = amplifier.full_output, reference_output(amplifier)
    levels = [point.source_volt for point in amplifier.sweep]
    at = source_for(amplifier, reference)
    distortion = float(np.interp(at, [0.0, *levels], [0.0, *(point.distortion for point in amplifier.sweep)]))
    response = sweep(amplifier).response
    return Comparison(
        amplifier.output(full), reference, distortion, full.distortion,
        amplifier.load.ohm / amplifier.output_impedance, amplifier.gain(amplifier.load.node), full.source_volt,
        response.corner(REFERENCE_HERTZ, upwards=False), response.corner(REFERENCE_HERTZ, upwards=True),
        amplifier.highest_rail, wall_watt(amplifier), bottles(amplifier.design), _parts(amplifier), {},
    )  # fmt: skip


def compared(amplifier: SolvedAmplifier, findings: list[Finding]) -> Comparison:
    """The design's numbers, with what its findings say. Raises NoSolution."""
    return Comparison(**{**vars(_numbers(amplifier)), "findings": severities(findings)})


def severities(findings: list[Finding]) -> dict[str, int]:
    """How many findings there are of each severity, by its words."""
    return dict(Counter(finding.severity.words for finding in findings))


def wall_watt(amplifier: SolvedAmplifier) -> float:
    """What the mains or, where no transformer is given, its windings deliver, and the heaters, W."""
    mains = amplifier.state.mains
    total = heater_watt(amplifier)
    for part in amplifier.netlist.parts:
        if mains is not None and isinstance(part.device, MainsSource):
            total += mains.delivered(part)
    return total


def heater_watt(amplifier: SolvedAmplifier) -> float:
    """What the heaters take that no supply of the design feeds, over all channels, W."""
    design, total = amplifier.design, 0.0
    fed = {use.envelope for use in amplifier.compiled.said(HeaterUse)}
    for envelope in design.envelopes:
        heater = design.tube_of(envelope.id).heater
        if heater is not None and envelope.id not in fed:
            total += heater.volts * heater.amperes * _copies(design, envelope.id)
    return total


def bottles(design: Design) -> int:
    """The tubes of all channels together."""
    return sum(_copies(design, envelope.id) for envelope in design.envelopes)


def _copies(design: Design, envelope: str) -> int:
    """How many bottles an envelope of the design stands for."""
    return 1 if design.serves_all(envelope) else design.channels


def _parts(amplifier: SolvedAmplifier) -> int:
    """Resistors, capacitors and the like over all channels."""
    total = 0
    for path in amplifier.compiled.by_path:
        at = find(amplifier.design, path)
        if isinstance(at.value, Component):
            block = amplifier.design.block(block_at(path))
            copies = 1 if block.scope == "shared" else amplifier.design.channels
            total += copies * len(amplifier.compiled.designators(path))
    return total


@dataclass(frozen=True)
class Difference:
    """One value that two designs do not share: its path, and what each writes ("" where it has none)."""

    path: str
    first: str
    second: str


def differences(first: Design, second: Design) -> list[Difference]:
    """Every value that differs between two designs, by path; a whole block where only one has it."""
    result = []
    ours, theirs = _values(first), _values(second)
    for path in [*ours, *(path for path in theirs if path not in ours)]:
        a, b = ours.get(path, ""), theirs.get(path, "")
        if a != b:
            result.append(Difference(path, a, b))
    # A block that only one has is said once, by its kind.
    alone = {
        block.id
        for one, other in ((first, second), (second, first))
        for block in one.blocks
        if all(block.id != another.id for another in other.blocks)
    }
    return [
        Difference(one.path.removesuffix("/kind") if block_at(one.path) in alone else one.path, one.first, one.second)
        for one in result
        if block_at(one.path) not in alone or one.path.endswith("/kind")
    ]


def _values(design: Design) -> dict[str, str]:
    """Every value of the blocks and envelopes as it is written, by path."""
    result: dict[str, str] = {}
    for block in design.blocks:
        own = f"blocks/{block.id}"
        for path, value in values_within(design, own):
            result[path] = _members(value) or field(design, path).text
        del result[f"{own}/id"]
        result[f"{own}/kind"] = block.title.lower()
    for envelope in design.envelopes:
        result[f"envelopes/{envelope.id}/type"] = envelope.type
    return result


def _members(value: object) -> str:
    """What a list of a transformer's taps holds, in words; "" of anything else."""
    return ", ".join(one.id for one in value if isinstance(one, Tap)) if isinstance(value, tuple) else ""
