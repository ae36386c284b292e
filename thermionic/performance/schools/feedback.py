"""With and without feedback."""

from __future__ import annotations

import numpy as np

from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.amplifier.loop import loop_gain
from thermionic.amplifier.solved import REFERENCE_HERTZ
from thermionic.blocks import Block
from thermionic.blocks.ports import split
from thermionic.design import Design, changed, dump, signal_inputs, validate
from thermionic.errors import NetlistRefused
from thermionic.performance.schools.working import block_in, first_stage, free_name
from thermionic.values import Series, nearest

_FEEDBACK_DB = 12.0


def may_feed_back(amplifier: SolvedAmplifier) -> bool:
    first = first_stage(amplifier)
    stages = [one for one in amplifier.route if amplifier.compiled.tubes_of(one)]
    return (
        not amplifier.compiled.loops
        and first is not None
        and len(stages) > 1
        and amplifier.load.power
        and bool(amplifier.compiled.transformers)
    )


def make_feedback(amplifier: SolvedAmplifier) -> Design:
    first = first_stage(amplifier)
    assert first is not None
    raw = dump(amplifier.design)
    stage = block_in(raw, first.id)
    stage["cathode_foot"] = stage.get("cathode_foot") or {"ohm": 100.0}
    foot = stage["cathode_foot"]["ohm"]
    name = free_name("feedback", {block["id"] for block in raw["blocks"]})
    (source,) = signal_inputs(amplifier.design.block(amplifier.load.block)).values()
    gain = amplifier.gain(amplifier.load.node) / max(abs(amplifier.phasor(_grid(amplifier, first))), 1e-9)
    # Closed, the gain from that grid comes down by so much: the divider is what is left over one.
    closed = gain / 10 ** (_FEEDBACK_DB / 20)
    ohm = nearest(max(foot * (1.0 / max(1.0 / closed - 1.0 / gain, 1e-9) - 1.0), foot), Series.E12)
    raw["blocks"].append(
        {"id": name, "kind": "feedback", "scope": "channel", "source": source, "into": f"{first.id}.foot",
         "resistor": {"ohm": ohm}}
    )  # fmt: skip
    design = validate(raw)
    after = solve(design, amplifier)
    try:
        loop = next(loop for loop in after.compiled.loops if loop.block == name)
        sense = loop_gain(after, loop, hertz=np.array([REFERENCE_HERTZ])).gain[0].real
    except NetlistRefused:
        return design
    if sense > 0:
        return design
    for iron in reversed(amplifier.compiled.transformers):
        if iron.turned is not None:
            return changed(design, f"blocks/{iron.block}/secondary_reversed", "no" if iron.turned else "yes")
    return design


def _grid(amplifier: SolvedAmplifier, block: Block) -> str:
    return amplifier.compiled.tubes_of(block.id)[0].grid


def may_open(amplifier: SolvedAmplifier) -> bool:
    return bool(amplifier.compiled.loops)


def make_open(amplifier: SolvedAmplifier) -> Design:
    raw = dump(amplifier.design)
    gone = {loop.block for loop in amplifier.compiled.loops}
    raw["blocks"] = [block for block in raw["blocks"] if block["id"] not in gone]
    for loop in amplifier.compiled.loops:
        into = split(amplifier.design.block(loop.block).references.get("into", ""))[0]
        stage = next((block for block in raw["blocks"] if block["id"] == into), None)
        if stage is None or not stage.get("cathode_foot") or not stage.get("cathode_resistor"):
            continue
        # The foot was there for the feedback alone; its ohms go to the resistor above it.
        if not any(str(one).startswith(f"{into}.foot") for block in raw["blocks"] for one in block.values()):
            foot = stage.pop("cathode_foot")
            ohm = stage["cathode_resistor"]["ohm"] + foot["ohm"]
            stage["cathode_resistor"] = {**stage["cathode_resistor"], "ohm": nearest(ohm, Series.E24)}
    return validate(raw)
