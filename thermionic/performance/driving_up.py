"""A starting design brought to the power that is wanted: its idle current, its rail and its load."""

from __future__ import annotations

import numpy as np

from thermionic.amplifier import SolvedAmplifier, grid_onset, solve
from thermionic.amplifier.driven import WELL_BEFORE
from thermionic.blocks.facets import Bias
from thermionic.design import changed, field, find
from thermionic.errors import ThermionicError
from thermionic.performance.wanted import Wanted
from thermionic.values import Series, nearest

# How hot a tube is set to idle, over its limit.
_IDLE = 0.85
_LOADS = (0.75, 1.3)
_RAILS = (1.0, 1.07, 1.14, 1.22, 1.3)


def driven_up(amplifier: SolvedAmplifier, wanted: Wanted) -> SolvedAmplifier:
    """The output tubes idling at their share of the limit, with the rail, where it is free, and the load that give
    the power wanted with the least of it and no grid or rating passed; the most of it where none does."""
    first = idle_set(amplifier)
    rails: tuple[float, ...] = (1.0,) if wanted.winding_volt is not None else _RAILS
    if wanted.winding_volt is None and first.full_output.power_watt > 1.6 * wanted.watt:
        rails = (0.9, 1.0)
    if wanted.highest_volt is not None and wanted.winding_volt is None:
        most = wanted.highest_volt / first.highest_rail
        rails = tuple(factor for factor in rails if factor <= most) or (0.98 * most,)
    best, merit, before = first, -1.0, first
    for factor in rails:
        trial = first if factor == 1.0 else _with_rail(first, factor)
        if trial is None:
            break
        worth = _worth(trial)
        if worth > merit:
            best, merit = trial, worth
        if trial.full_output.power_watt >= wanted.watt or factor == rails[-1]:
            # Near what is wanted: other loads, on this rail and on the one before it.
            for rail in dict.fromkeys((before, trial)):
                for load in _LOADS:
                    if merit >= wanted.watt and is_sound(best):
                        return best
                    loaded = _with_load(rail, load)
                    if loaded is not None and (worth := _worth(loaded)) > merit:
                        best, merit = loaded, worth
        before = trial
    return best


def _worth(amplifier: SolvedAmplifier) -> float:
    """Its power, W, of which what breaks a rule has little."""
    return amplifier.full_output.power_watt * (1.0 if is_sound(amplifier) else 0.3)


def is_sound(amplifier: SolvedAmplifier) -> bool:
    """Whether the last stage's tubes are within their voltages, and their grids do not conduct well before full
    output: what no single change cures."""
    full = amplifier.output(amplifier.full_output)
    for use in amplifier.compiled.tubes:
        if use.block not in amplifier.route:
            continue
        if amplifier.over_cathode(use, "anode") > use.limits.anode_v:
            return False
        screen = use.limits.screen_v
        if "screen" in use.nodes and screen and amplifier.over_cathode(use, "screen") > screen:
            return False
        onset = grid_onset(amplifier, use.part)
        if onset is not None and onset < WELL_BEFORE * full:
            return False
    return True


def _with_rail(amplifier: SolvedAmplifier, factor: float) -> SolvedAmplifier | None:
    path = "blocks/winding/winding_volt"
    now = find(amplifier.design, path).value
    try:
        return idle_set(solve(changed(amplifier.design, path, float(round(now * factor))), amplifier))
    except ThermionicError:
        return None


def _with_load(amplifier: SolvedAmplifier, factor: float) -> SolvedAmplifier | None:
    iron = next(iter(amplifier.compiled.transformers), None)
    if iron is None:
        return None
    ohm = nearest(iron.primary_ohm * factor, Series.E12)
    try:
        return solve(changed(amplifier.design, f"blocks/{iron.block}/primary_ohm", ohm), amplifier)
    except ThermionicError:
        return None


def idle_set(amplifier: SolvedAmplifier) -> SolvedAmplifier:
    """With the bias of the last stage's tubes at the idle heat meant for them, by a few steps of a secant in the
    logarithm; as it was where no value does it."""
    uses = [use for use in amplifier.compiled.tubes if use.block in amplifier.route]
    last = max((use.block for use in uses), key=amplifier.route.index)
    uses = [use for use in uses if use.block == last]
    knobs = list(dict.fromkeys(use.knob for use in uses if use.knob))
    if not knobs:
        return amplifier
    now = amplifier
    for _ in range(5):
        heat = max(now.parts[use.part].dissipation / use.limits.anode_w for use in uses)
        if abs(heat / _IDLE - 1) < 0.04:
            break
        try:
            design = now.design
            for knob in knobs:
                value = _value(now, knob)
                over = heat / _IDLE
                if uses[0].bias is Bias.FIXED:
                    value = float(np.clip(value * over**0.35, 0.02, 1.0))
                    design = changed(design, knob, round(value, 4))
                else:
                    design = changed(design, knob, nearest(value * over**1.3, Series.E24))
            now = solve(design, now)
        except ThermionicError:
            return amplifier
    return now


def _value(amplifier: SolvedAmplifier, path: str) -> float:
    return float(field(amplifier.design, path).value)
