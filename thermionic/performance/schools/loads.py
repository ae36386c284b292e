"""One output tube or several; a choke or a resistor in the driver's anode."""

from __future__ import annotations

from collections.abc import Callable

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import Bias
from thermionic.design import Design, dump, fitted, validate
from thermionic.design import sections as sections_of
from thermionic.performance.schools.working import (
    block_in,
    driver_stage,
    feed_node,
    idling,
    iron_behind,
    output_stage,
    output_tubes,
)
from thermionic.performance.settling import mean_current
from thermionic.values import Series, nearest

_CHOKE_HENRY, _CHOKE_OHM = 100.0, 1500.0


def may_double(amplifier: SolvedAmplifier) -> bool:
    uses = output_tubes(amplifier)
    sides = max(1, len({use.side for use in uses}))
    return bool(uses) and len(uses) // sides == 1


def may_halve(amplifier: SolvedAmplifier) -> bool:
    uses = output_tubes(amplifier)
    sides = max(1, len({use.side for use in uses}))
    return bool(uses) and len(uses) // sides > 1


def make_parallel(several: bool) -> Callable[[SolvedAmplifier], Design]:
    """Two output tubes in place of one, or one in place of several, with what goes with them."""

    def make(amplifier: SolvedAmplifier) -> Design:
        block = output_stage(amplifier)
        assert block is not None
        iron = iron_behind(amplifier, block.id)
        assert iron is not None
        raw = dump(amplifier.design)
        stage, transformer = block_in(raw, block.id), block_in(raw, iron.block)
        factor = 2.0
        for name in type(block).section_fields():
            now = list(stage[name])
            if several:
                types = [amplifier.design.envelope(one.partition(".")[0]).type for one in now]
                stage[name] = now + sections_of.allot(amplifier.design, raw, types)
            else:
                factor = float(len(now))
                stage[name] = now[:1]
        share = 1 / factor if several else factor
        if stage.get("cathode_resistor") and output_tubes(amplifier)[0].bias is Bias.CATHODE:
            old = stage["cathode_resistor"]
            stage["cathode_resistor"] = {
                **old,
                "ohm": nearest(old["ohm"] * share, Series.E24),
                "rating_watt": old.get("rating_watt", 0.5) / share,
            }
            if stage.get("cathode_bypass"):
                farad = nearest(stage["cathode_bypass"]["farad"] / share, Series.E12)
                stage["cathode_bypass"] = {**stage["cathode_bypass"], "farad": farad}
        for name in ("primary_ohm", "primary_henry", "primary_copper_ohm", "leakage_henry"):
            transformer[name] *= share
        sections_of.drop_unused(raw)
        # The rails stand lower with more tubes on them, and higher with fewer.
        return idling(validate(raw), amplifier, block, mean_current(amplifier, block.id))

    return make


def may_choke(amplifier: SolvedAmplifier) -> bool:
    block = driver_stage(amplifier)
    return block is not None and fitted(amplifier.design, f"blocks/{block.id}/anode_load")


def make_choke(amplifier: SolvedAmplifier) -> Design:
    block = driver_stage(amplifier)
    assert block is not None
    (use,) = amplifier.compiled.tubes_of(block.id)
    raw = dump(amplifier.design)
    stage = block_in(raw, block.id)
    stage.pop("anode_load")
    current = mean_current(amplifier, block.id)
    stage["anode_choke"] = {
        "henry": _CHOKE_HENRY, "copper_ohm": _CHOKE_OHM, "rating_ampere": float(f"{2 * current:.2g}")
    }  # fmt: skip
    design = validate(raw)
    # The anode now stands at the rail: what it may draw there is what it drew, or 0.8 of its limit.
    rail = amplifier.voltage(feed_node(amplifier, block))
    wanted = min(current, 0.8 * use.limits.anode_w / max(rail, 1.0))
    return idling(design, amplifier, block, wanted)


def may_resistor(amplifier: SolvedAmplifier) -> bool:
    block = driver_stage(amplifier)
    return block is not None and fitted(amplifier.design, f"blocks/{block.id}/anode_choke")


def make_resistor(amplifier: SolvedAmplifier) -> Design:
    block = driver_stage(amplifier)
    assert block is not None
    raw = dump(amplifier.design)
    stage = block_in(raw, block.id)
    stage.pop("anode_choke")
    # Two fifths of the rail across the resistor at the current it has, or less if that is small.
    rail = amplifier.voltage(feed_node(amplifier, block))
    current = mean_current(amplifier, block.id)
    ohm = nearest(0.4 * rail / current, Series.E12)
    heat = ohm * current**2
    watt = next((one for one in (0.5, 1.0, 2.0, 3.0, 5.0) if one > 2 * heat), 10.0)
    stage["anode_load"] = {"ohm": ohm, "rating_watt": watt}
    return idling(validate(raw), amplifier, block, current)
