"""Feedback: how much, how near to oscillating with every load, and what would help."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_POST, require_safe

from bold_anode.amps import operations
from bold_anode.amps.rooms import Shown, after, owned, seen
from bold_anode.amps.solved import solved
from bold_anode.frame.figures import Figure
from bold_anode.frame.plots import HALF, Axes, Plot, Scale, Ticks, both_ways, decades, drawn
from bold_anode.frame.refusing import refuse
from bold_anode.frame.requests import Request
from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.loop import Margin
from thermionic.design import Design
from thermionic.errors import NetlistRefused, ThermionicError, ValueRefused
from thermionic.performance import loop as loops
from thermionic.performance.compensation import Compensation, compensated, compensations
from thermionic.performance.loop import LoadCase, WithAndWithout
from thermionic.values import Quantity, display, parse, written

_FREQUENCIES = Scale(0.1, 1e7, log=True)
_SWEPT = Scale(1.0, 1e6, log=True)
_FLOOR, _CEILING = -40.0, 60.0


@dataclass(frozen=True)
class Row:
    """The loop with one load."""

    name: str
    assumed: bool
    stable: bool
    feedback: str
    low: str
    high: str
    thin: bool


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The tab."""
    amplifier = shown.solved.amplifier
    result = [_of_loop(amplifier, loop.block, 10 * number) for number, loop in enumerate(amplifier.compiled.loops)]
    return "chain/feedback.html", {"loops": result}


def _of_loop(amplifier: SolvedAmplifier, block_id: str, number: int) -> dict[str, Any]:
    block = amplifier.design.block(block_id)
    try:
        cases = loops.load_cases(amplifier, block_id)
    except NetlistRefused as reason:
        return {"block": block, "refusal": str(reason)}
    both = loops.with_and_without(amplifier, block_id)
    plots = [_loop_plot(cases[0]), _gain_plot(both), _impedance_plot(both)]
    return {
        "block": block,
        "plots": drawn(plots, first=number + 1),
        "rows": [_row(case) for case in cases],
        "figures": _figures(cases[0], both),
        "thin": any(not case.loop.is_stable or case.loop.high.is_thin for case in cases),
        "low_thin": cases[0].loop.low.is_thin,
    }


def _row(case: LoadCase) -> Row:
    loop = case.loop
    return Row(
        case.name, case.assumed, loop.is_stable, f"{loop.feedback_at(1e3):.1f} dB", _margin(loop.low),
        _margin(loop.high), loop.low.is_thin or loop.high.is_thin,
    )  # fmt: skip


def _margin(margin: Margin) -> str:
    words = []
    if margin.phase_degrees is not None and margin.crossing_hertz is not None:
        words.append(f"{margin.phase_degrees:.0f}° at {display(margin.crossing_hertz, Quantity.FREQUENCY, 2)}")
    if margin.gain_db is not None and margin.turning_hertz is not None:
        words.append(f"{margin.gain_db:.1f} dB at {display(margin.turning_hertz, Quantity.FREQUENCY, 2)}")
    return ", ".join(words) or "never near"


def _loop_plot(case: LoadCase) -> Plot:
    loop = case.loop
    level = Axes(_FREQUENCIES, (_FLOOR, _CEILING), "Hz", HALF)
    phase = Axes(_FREQUENCIES, (-270.0, 270.0), "Hz", HALF)
    kept = (loop.hertz >= _FREQUENCIES.least) & (loop.hertz <= _FREQUENCIES.most)
    size = 20 * np.log10(np.maximum(np.abs(loop.gain), 1e-9))
    return level.plot(
        "Loop gain and phase against frequency",
        ("frequency, Hz", "loop gain, dB", "phase, degrees"),
        [
            phase.curve("second", loop.hertz[kept], loop.degrees[kept], "phase", "°"),
            level.curve("ac", loop.hertz[kept], size[kept], "loop gain", "dB"),
            level.line("limit", ((_FREQUENCIES.least, 0.0), (_FREQUENCIES.most, 0.0))),
            phase.line("ideal", ((_FREQUENCIES.least, 180.0), (_FREQUENCIES.most, 180.0))),
            phase.line("ideal", ((_FREQUENCIES.least, -180.0), (_FREQUENCIES.most, -180.0))),
        ],
        [],
        Ticks(
            decades(_FREQUENCIES.least, _FREQUENCIES.most),
            [(float(v), f"{v:+g}" if v else "0") for v in np.arange(_FLOOR, _CEILING + 1, 20.0)],
            phase.ticks_right((v, f"{v:+g}" if v else "0") for v in both_ways([0.0, 90.0, 180.0, 270.0])),
        ),
        [("ac", "loop gain"), ("second", "phase"), ("limit", "a loop gain of 1"), ("ideal", "turned round")],
    )


def _gain_plot(both: WithAndWithout) -> Plot:
    closed, opened = both.closed.decibels, both.opened.decibels
    most = float(np.ceil(max(closed.max(), opened.max()) / 10.0 + 0.1) * 10.0)
    axes = Axes(_SWEPT, (most - 60.0, most), "Hz", HALF)
    return axes.plot(
        "Gain with and without the feedback",
        ("frequency, Hz", "gain from the source, dB", ""),
        [
            axes.curve("second", both.hertz, opened, "without", "dB"),
            axes.curve("ac", both.hertz, closed, "with feedback", "dB"),
        ],
        [],
        Ticks(
            decades(_SWEPT.least, _SWEPT.most),
            [(float(v), f"{v:+g}" if v else "0") for v in np.arange(most - 60.0, most + 1, 10.0)],
        ),
        [("ac", "with"), ("second", "without")],
    )


def _impedance_plot(both: WithAndWithout) -> Plot:
    least = 10 ** np.floor(np.log10(min(both.closed_ohm.min(), both.opened_ohm.min())))
    most = 10 ** np.ceil(np.log10(max(both.closed_ohm.max(), both.opened_ohm.max())))
    axes = Axes(_SWEPT, Scale(float(least), float(most), log=True), "Hz", HALF)
    return axes.plot(
        "Output impedance with and without the feedback",
        ("frequency, Hz", "output impedance, Ω", ""),
        [
            axes.curve("second", both.hertz, both.opened_ohm, "without", "Ω"),
            axes.curve("ac", both.hertz, both.closed_ohm, "with feedback", "Ω"),
        ],
        [],
        Ticks(decades(_SWEPT.least, _SWEPT.most), decades(float(least), float(most))),
        [("ac", "with"), ("second", "without")],
    )


def _figures(case: LoadCase, both: WithAndWithout) -> list[Figure]:
    def middle(values: Any) -> float:
        return float(np.interp(np.log(1e3), np.log(both.hertz), values))

    return [
        *(Figure(f"Feedback at {words}", f"{case.loop.feedback_at(hertz):.1f} dB")
          for words, hertz in (("20 Hz", 20.0), ("1 kHz", 1e3), ("20 kHz", 20e3))),
        Figure(
            "Gain at 1 kHz",
            f"{middle(both.closed.decibels):+.1f} dB, {middle(both.opened.decibels):+.1f} dB without",
        ),
        Figure(
            "Output impedance at 1 kHz",
            f"{display(middle(both.closed_ohm), Quantity.RESISTANCE)}, "
            f"{display(middle(both.opened_ohm), Quantity.RESISTANCE)} without",
        ),
    ]  # fmt: skip


@dataclass(frozen=True)
class Offer:
    """A compensation as it is offered: what it is, what it does, what it costs, and what the form sends."""

    compensation: Compensation
    title: str
    does: str
    costs: str
    farad: str
    ohm: str


@require_safe
def compensation(request: Request, project_id: int, block_id: str) -> HttpResponse:
    """What would widen the margins of a feedback path: looked for once the page is there."""
    project = owned(request, project_id)
    try:
        amplifier = solved(project.at).amplifier
        offers = [_offer(one) for one in compensations(amplifier, block_id)]
    except KeyError:
        return refuse(request, "There is no such feedback in this design any more.")
    except ThermionicError as reason:
        return refuse(request, str(reason))
    return render(request, "chain/compensation.html", {"project": project, "block_id": block_id, "offers": offers})


def _offer(one: Compensation) -> Offer:
    farad = display(one.farad, Quantity.CAPACITANCE)
    if one.kind == "lead":
        title = f"{farad} across the feedback resistor"
    else:
        title = f"{farad} and {display(one.ohm, Quantity.RESISTANCE)} in series from {one.place} to earth"
    worst = "oscillates" if one.worst_before <= 0 else f"has {one.worst_before:.0f}°"
    does = (
        f"Upper margins {_margin(one.before)} become {_margin(one.margin)}; with the worst load it {worst} now and "
        f"would have {one.worst:.0f}°."
    )
    corners = [
        display(corner, Quantity.FREQUENCY, 2) if corner else "over 1 MHz"
        for corner in (one.corner_before_hertz, one.corner_hertz)
    ]
    costs = (
        f"-3 dB from {corners[0]} to {corners[1]}, peak {one.peak_before_db:.1f} to {one.peak_db:.1f} dB, feedback "
        f"at 10 kHz {one.feedback_before_db:.1f} to {one.feedback_db:.1f} dB."
    )
    if not one.enough:
        does += " That is not enough by itself."
    return Offer(
        one,
        title,
        does,
        costs,
        written(one.farad, Quantity.CAPACITANCE),
        written(one.ohm or 1.0, Quantity.RESISTANCE),
    )


@require_POST
def compensate(request: Request, project_id: int, block_id: str) -> HttpResponse:
    """Put a compensation in, as one change of the design."""

    def change(design: Design) -> tuple[Design, str]:
        farad = parse(request.POST.get("farad", ""), Quantity.CAPACITANCE)
        kind = request.POST.get("kind", "")
        if kind not in ("lead", "step"):
            raise ValueRefused("A lead capacitor or a step network can be put in.")
        ohm = parse(request.POST.get("ohm", ""), Quantity.RESISTANCE)
        if all(block.id != block_id for block in design.blocks):
            raise ValueRefused(f"There is no block {block_id[:40]} in {design.name} any more.")
        after = compensated(design, block_id, kind, farad, ohm, request.POST.get("place", "")[:80])
        return after, f"{block_id.replace('_', ' ')}: {'lead capacitor' if kind == 'lead' else 'step network'}"

    return after(
        request,
        project_id,
        "chain",
        lambda: operations.change_design(request.user, project_id, change, seen(request)),
    )
