"""Output pentodes as triodes, ultra-linear or as pentodes."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks import Block
from thermionic.design import Design, dump, fitted, validate
from thermionic.errors import DesignRefused
from thermionic.performance.schools.working import block_in, idling, iron_behind, output_stage, strapping
from thermionic.performance.settling import mean_current

_TAP, _SINGLE_TAP = 0.43, 0.4


def may_strap(wanted: str) -> Callable[[SolvedAmplifier], bool]:
    def applies(amplifier: SolvedAmplifier) -> bool:
        now = strapping(amplifier)
        return bool(now) and now != wanted

    return applies


def make_strapped(wanted: str) -> Callable[[SolvedAmplifier], Design]:
    def make(amplifier: SolvedAmplifier) -> Design:
        block = output_stage(amplifier)
        assert block is not None
        iron = iron_behind(amplifier, block.id)
        assert iron is not None
        current = mean_current(amplifier, block.id)
        raw = dump(amplifier.design)
        stage, transformer = block_in(raw, block.id), block_in(raw, iron.block)
        stage.pop("screen_bypass", None)
        stage["screen_resistor"] = stage.get("screen_resistor") or {"ohm": 100.0, "rating_watt": 1.0}
        if wanted == "triode":
            stage.pop("screen", None)
        elif wanted == "ultra-linear":
            tap = _TAP if transformer.get("push_pull") else _SINGLE_TAP
            transformer["screen_tap"] = transformer.get("screen_tap") or tap
            stage["screen"] = f"{iron.block}.ul"
        else:
            stage["screen"] = _screen_rail(amplifier, block)
        design = validate(raw)
        return idling(design, amplifier, block, current)

    return make


def _screen_rail(amplifier: SolvedAmplifier, block: Block) -> str:
    """The highest rail that the screens stand, of those that a channel's stage hangs on; the lowest where none is."""
    limit = min(use.limits.screen_v or np.inf for use in amplifier.compiled.tubes_of(block.id))
    rails = sorted(
        (rail for rail in amplifier.compiled.rails if not rail.bias),
        key=lambda rail: -amplifier.voltage(rail.node),
    )
    if not rails:
        raise DesignRefused("There is no rail to hang the screens on.")
    fit = next((rail for rail in rails if amplifier.voltage(rail.node) <= limit), rails[-1])
    # Not the reservoir itself, where there is anything behind it: its ripple would go straight in.
    if fit is rails[0] and len(rails) > 1 and not fitted(amplifier.design, f"blocks/{fit.block}/resistor"):
        behind = [rail for rail in rails[1:] if amplifier.voltage(rail.node) > 0.85 * amplifier.voltage(fit.node)]
        fit = behind[0] if behind else fit
    return f"{fit.block}.{fit.port}"
