"""The studies of Iron: every tap solved, full output against frequency, and the load left off."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np

from bold_anode.amps.studies import Arguments, Study
from bold_anode.frame.figures import Figure
from bold_anode.frame.plots import HALF, Axes, Scale, Ticks, drawn, round_steps
from bold_anode.tasks.kinds import Report
from thermionic.amplifier import SolvedAmplifier
from thermionic.iron.output import output_transformer
from thermionic.iron.saturating import output_against_frequency
from thermionic.iron.taps import on_taps, unloaded
from thermionic.values import Quantity, display

_TICKS = ((10.0, "10"), (20.0, "20"), (50.0, "50"), (100.0, "100"), (200.0, "200"))


def _make_taps(amplifier: SolvedAmplifier, _: Arguments, report: Report) -> Any:
    if output_transformer(amplifier) is None:
        return []
    report(0.1, "Solving the amplifier on every tap")
    return [asdict(on_tap) for on_tap in on_taps(amplifier)]


def _show_taps(amplifier: SolvedAmplifier, result: Any, user: Any) -> dict[str, Any]:
    best = max((one["power_watt"] for one in result), default=0.0)
    return {
        "done": True,
        "rows": [
            {
                "tap": one["tap"],
                "load": one["load"],
                "load_ohm": display(one["load_ohm"], Quantity.RESISTANCE) if one["load_ohm"] else "",
                "primary": display(one["primary_ohm"], Quantity.RESISTANCE) if one["primary_ohm"] else "",
                "power": display(one["power_watt"], Quantity.POWER),
                "most": one["power_watt"] == best,
                "distortion": f"{one['distortion']:.2%}",
                "damping": f"{one['damping']:.3g}",
                "used": one["used"],
                "refusal": one["refusal"],
            }
            for one in result
        ],
    }


def _make_lows(amplifier: SolvedAmplifier, _: Arguments, report: Report) -> Any:
    if output_transformer(amplifier) is None:
        return None
    return asdict(
        output_against_frequency(amplifier, lambda part: report(part, "Driving it to full output at low frequencies"))
    )


def _show_lows(amplifier: SolvedAmplifier, result: Any, user: Any) -> dict[str, Any]:
    if result is None:
        return {"done": True}
    watts = np.array(result["watt"])
    most = max(float(watts.max()), result["middle_watt"]) * 1.1
    axes = Axes(Scale(10.0, 200.0, log=True), (0.0, most), "Hz", HALF)
    steps = round_steps(most, 4)
    plot = axes.plot(
        "Full output against frequency",
        ("frequency, Hz", "output at 5 % distortion, W", ""),
        [
            axes.line("ideal", ((10.0, result["middle_watt"]), (200.0, result["middle_watt"]))),
            axes.curve("ac", result["hertz"], watts, "full output", "W"),
        ],
        [],
        Ticks(_TICKS, [(v, f"{v:g}") for v in steps]),
        [("ac", "full output"), ("ideal", "that at 1 kHz")],
    )
    return {
        "done": True,
        "plots": drawn([plot], first=40),
        "figures": [
            Figure("Nine tenths of full output down to", _down_to(result["full_hertz"], result["hertz"])),
            Figure("Half of it down to", _down_to(result["half_hertz"], result["hertz"])),
        ],
    }


def _down_to(hertz: float | None, looked: list[float]) -> str:
    if hertz is None:
        return f"below {looked[0]:g} Hz"
    if hertz >= looked[-1] * 0.999:
        return f"not even {looked[-1]:g} Hz"
    return display(hertz, Quantity.FREQUENCY, 2)


def _make_unloaded(amplifier: SolvedAmplifier, _: Arguments, report: Report) -> Any:
    if output_transformer(amplifier) is None:
        return None
    report(0.1, "Driving it with nothing connected")
    return asdict(unloaded(amplifier))


def _show_unloaded(amplifier: SolvedAmplifier, result: Any, user: Any) -> dict[str, Any]:
    if result is None:
        return {"done": True}
    return {
        "done": True,
        "anode": display(result["anode_volt"], Quantity.VOLTAGE),
        "with_load": display(result["with_load_volt"], Quantity.VOLTAGE),
        "ohm": display(result["dummy_ohm"], Quantity.RESISTANCE),
        "watt": f"{result['dummy_watt']:g} W",
        "found": result["found"],
    }


STUDIES = (
    Study("taps", "iron/taps.html", _make_taps, _show_taps),
    Study("lows", "iron/lows.html", _make_lows, _show_lows),
    Study("unloaded", "iron/unloaded.html", _make_unloaded, _show_unloaded),
)
