"""What hum is balanced out with: a filament's pot, and the turns of a primary past the HT; each has a null."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np

from bold_anode.amps.studies import Arguments, Study
from bold_anode.frame.plots import HALF, Axes, Ticks, drawn, round_steps
from bold_anode.tasks.kinds import Report
from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.ports import block_at
from thermionic.supplies.filaments import balances, hum_taps
from thermionic.values import Quantity, display

_KINDS = ("ac", "second", "third", "fourth", "fifth")


def _plots(result: Any, title: str, across: str, span: tuple[float, float], ticks: Any, first: int) -> Any:
    """The hum at the load over every setting of each."""
    most = max(max(one["volts"]) for one in result) * 1.1e3
    axes = Axes(span, (0.0, most), "", HALF)
    named = list(zip(_KINDS, result, strict=False))
    lines = [
        axes.curve(kind, one["positions"], 1e3 * np.array(one["volts"]), one["designator"], "mV")
        for kind, one in named
    ]
    plot = axes.plot(
        title,
        (across, "hum, mV rms", ""),
        lines,
        [],
        Ticks(ticks, [(v, f"{v:g}") for v in round_steps(most, 4)]),
        [(kind, one["designator"]) for kind, one in named],
    )
    return drawn([plot], first=first)


def _make_filaments(amplifier: SolvedAmplifier, _: Arguments, report: Report) -> Any:
    report(0.1, "Solving it with the pot at seven positions")
    return [asdict(balance) for balance in balances(amplifier)]


def _show_filaments(amplifier: SolvedAmplifier, result: Any, user: Any) -> dict[str, Any]:
    if not result:
        return {"done": True}
    ticks = [(v, f"{v:g}") for v in (0.3, 0.4, 0.5, 0.6, 0.7)]
    rows = [
        {
            "path": one["path"],
            "name": f"{one['designator']}, {amplifier.design.block(one['path'].split('/')[1]).label}",
            "now": f"{one['now']:.2f}",
            "hum": display(one["hum_volt"], Quantity.VOLTAGE, 2),
            "null": f"{one['null']:.3f}",
            "travel": f"{one['null']:.3f}",
            "balanced": abs(one["now"] - one["null"]) < 0.004,
        }
        for one in result
    ]
    plots = _plots(result, "Hum at the load against the pot's position", "position", (0.3, 0.7), ticks, 80)
    return {"done": True, "plots": plots, "rows": rows}


def _make_taps(amplifier: SolvedAmplifier, _: Arguments, report: Report) -> Any:
    report(0.1, "Solving it with the tap at seven places")
    return [asdict(hum_tap) for hum_tap in hum_taps(amplifier)]


def _show_taps(amplifier: SolvedAmplifier, result: Any, user: Any) -> dict[str, Any]:
    if not result:
        return {"done": True}
    end = result[0]["positions"][-1]
    ticks = [(v, f"{v:.0%}") for v in round_steps(end, 4)]
    rows = [
        {
            "name": amplifier.design.block(block_at(one["path"])).label,
            "block": block_at(one["path"]),
            "now": f"{one['now']:.1%}",
            "hum": display(one["hum_volt"], Quantity.VOLTAGE, 2),
            "null": f"{one['null']:.1%}",
            "share": f"{one['null']:.4f}",
            "there": abs(one["now"] - one["null"]) < 0.002,
        }
        for one in result
    ]
    plots = _plots(
        result, "Hum at the load against the turns past the HT", "of the primary's turns", (0.0, end), ticks, 90
    )
    return {"done": True, "plots": plots, "rows": rows}


STUDIES = (
    Study("filament-null", "rails/filament_null.html", _make_filaments, _show_filaments),
    Study("hum-tap", "rails/hum_tap.html", _make_taps, _show_taps),
)
