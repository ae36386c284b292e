"""What the schools work on: the stages of an amplifier, and its document as plain data."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks import Block, Flow
from thermionic.blocks.facets import TransformerUse, TubeUse
from thermionic.blocks.ports import split
from thermionic.design import Design, consumers, fitted, has_field
from thermionic.errors import DesignRefused
from thermionic.performance.settling import settled
from thermionic.values import Series

Raw = dict[str, Any]


def output_stage(amplifier: SolvedAmplifier) -> Block | None:
    """The last stage on the signal's way that drives a transformer."""
    for block_id in reversed(amplifier.route):
        if amplifier.compiled.tubes_of(block_id):
            return amplifier.design.block(block_id) if iron_behind(amplifier, block_id) else None
    return None


def iron_behind(amplifier: SolvedAmplifier, block_id: str) -> TransformerUse | None:
    """The output transformer behind a stage."""
    behind = {other.id for other, _, _ in consumers(amplifier.design, block_id)}
    return next((use for use in amplifier.compiled.transformers if use.taps and use.block in behind), None)


def output_tubes(amplifier: SolvedAmplifier) -> tuple[TubeUse, ...]:
    block = output_stage(amplifier)
    return amplifier.compiled.tubes_of(block.id) if block else ()


def driver_stage(amplifier: SolvedAmplifier) -> Block | None:
    """The stage before the last one, where it is a single tube with a load of its own."""
    stages = [block_id for block_id in amplifier.route if amplifier.compiled.tubes_of(block_id)]
    if len(stages) < 2:
        return None
    block = amplifier.design.block(stages[-2])
    single = len(amplifier.compiled.tubes_of(block.id)) == 1
    return block if single and has_field(amplifier.design, f"blocks/{block.id}/anode_choke") else None


def _is_pentode(amplifier: SolvedAmplifier) -> bool:
    uses = output_tubes(amplifier)
    return bool(uses) and all(use.unit == "pentode" for use in uses)


def strapping(amplifier: SolvedAmplifier) -> str:
    """How the output tubes' screens are: triode, ultra-linear, pentode; "" where they are no pentodes."""
    block = output_stage(amplifier)
    if block is None or not _is_pentode(amplifier):
        return ""
    screen = block.references.get("screen")
    if not screen:
        return "triode"
    producer, port = split(screen)
    flow = amplifier.design.block(producer).ports().get(port)
    return "pentode" if flow is Flow.RAIL else "ultra-linear"


def block_in(raw: Raw, block_id: str) -> Raw:
    result: Raw = next(block for block in raw["blocks"] if block["id"] == block_id)
    return result


def sides_of(amplifier: SolvedAmplifier, block: Block) -> list[list[TubeUse]]:
    """The tubes of each side that has a cathode circuit of its own; all together where one circuit is shared."""
    uses = amplifier.compiled.tubes_of(block.id)
    if fitted(amplifier.design, f"blocks/{block.id}/shared_cathode"):
        return [list(uses)]
    sides = dict.fromkeys(use.side for use in uses)
    return [[use for use in uses if use.side == side] for side in sides]


def idling(design: Design, amplifier: SolvedAmplifier, block: Block, wanted: float) -> Design:
    """The design with the output tubes' bias set so that they idle as they did."""
    use = amplifier.compiled.tubes_of(block.id)[0]
    if not use.knob:
        return design
    try:
        if use.knob.endswith("/ohm"):
            now = amplifier.netlist[amplifier.compiled.designator(use.knob)].device.ohm  # type: ignore[attr-defined]
            return settled(design, use.knob, wanted, block.id, (now / 5, now * 5), amplifier, Series.E24)
        other = next((one.knob for one in amplifier.compiled.tubes_of(block.id) if one.knob != use.knob), "")
        return settled(design, use.knob, wanted, block.id, (0.02, 1.0), amplifier, None, other)
    except DesignRefused:
        return design


def first_stage(amplifier: SolvedAmplifier) -> Block | None:
    """The first stage, where feedback can come in at the foot of its cathode."""
    for block_id in amplifier.route:
        if amplifier.compiled.tubes_of(block_id):
            path, design = f"blocks/{block_id}", amplifier.design
            has = has_field(design, f"{path}/cathode_foot") and fitted(design, f"{path}/cathode_resistor")
            return design.block(block_id) if has else None
    return None


def feed_node(amplifier: SolvedAmplifier, block: Block) -> str:
    """The node of the rail that a stage hangs on."""
    producer, port = split(block.references["feed"])
    return amplifier.compiled.node(amplifier.design.block(producer).node(port))


def free_name(wanted: str, names: set[str]) -> str:
    return next(one for one in _numbered(wanted) if one not in names)


def _numbered(wanted: str) -> Iterator[str]:
    yield wanted
    for number in range(2, 100):
        yield f"{wanted}_{number}"
