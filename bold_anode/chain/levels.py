"""The gain budget as a picture along the signal's way."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from bold_anode.amps.rooms import Shown
from bold_anode.frame.plots import Line, Scale, decades, px
from bold_anode.frame.requests import Request
from thermionic.amplifier import SolvedAmplifier
from thermionic.performance.levels import GainBudget, Step, gain_budget
from thermionic.values import Quantity, display

_WHOLE, _TOP, _HEIGHT, _LEFT = 846.0, 58.0, 190.0, 118.0
_NARROWEST, _WIDEST = 92.0, 130.0


@dataclass(frozen=True)
class Column:
    """One block on the picture: where it is, its words, and the numbers under it, each None where there is none."""

    x: str
    title: str
    detail: str
    gain: str
    decibels: str
    levels: tuple[str, ...]
    margin: str
    is_first: bool


@dataclass(frozen=True)
class Picture:
    """The levels along the way: lines over columns, a row of numbers for each line."""

    width: float
    height: float
    top: float
    foot: float
    columns: tuple[Column, ...]
    lines: tuple[Line, ...]
    ticks: tuple[tuple[str, str], ...]
    rows: tuple[tuple[str, str, str], ...]


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The tab."""
    amplifier = shown.solved.amplifier
    budget = gain_budget(amplifier)
    return "chain/levels.html", {
        "picture": _picture(amplifier, budget),
        "sentences": _sentences(amplifier, budget),
        "overdriven": budget.overdriven,
    }


def _picture(amplifier: SolvedAmplifier, budget: GainBudget) -> Picture:
    kinds: list[tuple[str, str, Callable[[Step], float]]] = [
        ("third", amplifier.load.written(budget.reference), lambda step: step.at_reference),
        ("ac", f"full, {amplifier.load.written(budget.full)}", lambda step: step.at_full),
    ]
    if not budget.overdriven:
        source = display(budget.source_volt, Quantity.VOLTAGE)
        kinds.append(("second", f"source at {source}", lambda step: step.at_source))
    volts = [level(step) for _, _, level in kinds for step in budget.steps]
    least, most = 10 ** np.floor(np.log10(min(volts))), 10 ** np.ceil(np.log10(max(volts) * 1.05))
    scale = Scale(float(least), float(most), log=True)

    def y(value: float) -> float:
        return _TOP + _HEIGHT * (1 - scale.share(value))

    wide = min(max((_WHOLE - _LEFT) / len(budget.steps), _NARROWEST), _WIDEST)

    def x(place: int) -> float:
        return _LEFT + wide * (place + 0.5)

    lines = tuple(
        Line(kind, " ".join(f"{x(at):.1f},{y(level(step)):.1f}" for at, step in enumerate(budget.steps)))
        for kind, _, level in kinds
    )
    columns = tuple(
        _column(
            amplifier, budget, step, x(place), tuple(display(level(step), Quantity.VOLTAGE) for _, _, level in kinds)
        )
        for place, step in enumerate(budget.steps)
    )
    foot = _TOP + _HEIGHT
    rows = tuple((kind, words, px(foot + 44 + 22 * at)) for at, (kind, words, _) in enumerate(kinds))
    ticks = tuple((px(y(value)), f"{text} V") for value, text in decades(scale.least, scale.most))
    return Picture(
        _LEFT + wide * len(columns), foot + 44 + 22 * len(rows) + 26, _TOP, foot, columns, lines, ticks, rows
    )


def _column(amplifier: SolvedAmplifier, budget: GainBudget, step: Step, x: float, levels: tuple[str, ...]) -> Column:
    uses = amplifier.compiled.tubes_of(step.block)
    is_source = step is budget.steps[0]
    margin = ""
    if step.margin_db is not None:
        margin = "clips first" if step.margin_db == 0.0 else f"{step.margin_db:+.1f} dB"
    return Column(
        px(x),
        amplifier.design.block(step.block).label,
        ", ".join(dict.fromkeys(use.type.type for use in uses)),
        "" if is_source else f"× {step.gain:.3g}",
        "" if is_source else f"{20 * np.log10(max(step.gain, 1e-12)):+.1f} dB",
        levels,
        margin,
        step.block == budget.first,
    )


def _sentences(amplifier: SolvedAmplifier, budget: GainBudget) -> list[str]:
    """What the picture says, in words."""
    written = amplifier.load.written
    volt = Quantity.VOLTAGE
    result = [
        f"Full output, {written(budget.full)}, takes {display(budget.source_at_full, volt)} rms from the source as "
        f"the controls are set; {written(budget.reference)} takes {display(budget.source_at_reference, volt)}."
    ]
    stages = [step for step in budget.steps if step.margin_db is not None]
    if budget.overdriven:
        result.append(
            f"The source's own {display(budget.source_volt, volt)} drives it far past full output: it is turned down "
            f"in use, by {20 * np.log10(budget.source_volt / budget.source_at_full):.0f} dB or more."
        )
    first = next((step for step in stages if step.block == budget.first), None)
    if first is None:
        if budget.first:
            label = amplifier.design.block(budget.first).label
            result.append(f"{label} is at the end of its load line with no signal: it clips at any level.")
        return result
    last = stages[-1]
    name = amplifier.design.block(first.block).label
    if first is last:
        others = [step for step in stages if step is not last]
        if others:
            nearest = min(others, key=lambda step: step.margin_db or 0.0)
            result.append(
                f"{name} clips first, as it should; {amplifier.design.block(nearest.block).label} has "
                f"{nearest.margin_db:.1f} dB more headroom."
            )
    else:
        result.append(
            f"{name} clips first, {-(first.margin_db or 0.0):.1f} dB before the last stage does: that is where "
            "the power is lost."
        )
    return result
