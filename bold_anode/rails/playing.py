"""While it plays: how the supply sags, what comes back through its rails, what would take most of the hum away."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np
from django.http import HttpResponse
from django.views.decorators.http import require_POST

from bold_anode.amps import studies
from bold_anode.amps.rooms import Shown, after, seen
from bold_anode.amps.studies import Arguments, Study, plain
from bold_anode.frame.plots import HALF, Axes, Plot, Ticks, both_ways, drawn, round_steps
from bold_anode.frame.requests import Request
from bold_anode.rails import operations
from bold_anode.tasks.kinds import Report
from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.ports import block_at
from thermionic.findings.motorboating import NEAR
from thermionic.supplies.motorboating import rail_loops
from thermionic.supplies.ripple import rail_ripples, what_buys_most
from thermionic.supplies.sagging import sag
from thermionic.values import Quantity, display

_KINDS = ("ac", "second", "third", "fourth", "fifth")
_LEAST_LOOP = 1e-3  # of a turn, below which nothing comes back that is worth a row


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The tab."""
    context: dict[str, Any] = {}
    taps = any(use.hum_share for use in shown.solved.amplifier.compiled.transformers)
    for name in ("sag", "buys", *(("hum-tap",) if taps else ())):
        context |= studies.shown(request, shown.project, name)
    return "rails/playing.html", context | {"loops": _loops(shown.solved.amplifier), "taps": taps}


def _loops(amplifier: SolvedAmplifier) -> list[dict[str, Any]]:
    rows = []
    for rail_loop in rail_loops(amplifier):
        (strongest, at), (distance, nearest) = rail_loop.strongest, rail_loop.nearest
        if strongest < _LEAST_LOOP:
            continue
        rows.append({
            "before": rail_loop.before.replace("_", " "), "block": rail_loop.block.replace("_", " "),
            "gain": f"{20 * np.log10(strongest):.0f} dB", "at": display(at, Quantity.FREQUENCY, 2),
            "bad": rail_loop.runs or distance < NEAR,
            "verdict": f"runs by itself, {display(nearest, Quantity.FREQUENCY, 2)}" if rail_loop.runs
            else f"{distance:.2f} from running, {display(nearest, Quantity.FREQUENCY, 2)}",
        })  # fmt: skip
    return rows


def _make_sag(amplifier: SolvedAmplifier, _: Arguments, report: Report) -> Any:
    if not amplifier.rectifiers:
        return None
    return plain(asdict(sag(amplifier, lambda part: report(part, "Following a burst at full output, mains and all"))))


def _show_sag(amplifier: SolvedAmplifier, result: Any, user: Any) -> dict[str, Any]:
    if result is None:
        return {"done": True}
    names = [rail.name for rail in amplifier.compiled.rails]
    rails = sorted(result["rails"], key=lambda rail: names.index(rail["name"]))
    followed = result["seconds"][-1] - result["length"]
    rows = [
        {
            "name": rail["name"].replace("_", " "),
            "before": display(rail["before"], Quantity.VOLTAGE),
            "under": display(rail["under"], Quantity.VOLTAGE),
            "share": f"{100 * (rail['under'] / rail['before'] - 1):+.1f} %" if rail["before"] else "",
            "back": f"not within {followed:.1f} s" if rail["back"] is None
            else "never away" if rail["back"] == 0 else f"{rail['back']:.2f} s",
        }
        for rail in rails
    ]  # fmt: skip
    return {
        "done": True,
        "plots": drawn([_curves(result, rails)], first=95),
        "rows": rows,
        "hertz": f"{result['hertz']:g}",
        "length": f"{result['length']:g}",
        "first": amplifier.load.written(_output(amplifier, result["first_watt"])),
        "last": amplifier.load.written(_output(amplifier, result["last_watt"])),
    }


def _output(amplifier: SolvedAmplifier, watt: float) -> float:
    """As its load wants it: watts, or V rms."""
    return watt if amplifier.load.power else float((watt * amplifier.load.ohm) ** 0.5)


def _curves(result: Any, rails: list[dict[str, Any]]) -> Plot:
    """Every rail in parts of what it is at rest, those that move most."""
    moving = sorted(rails, key=lambda rail: -abs(rail["under"] / (rail["before"] or 1.0) - 1))[: len(_KINDS)]
    seconds = np.array(result["seconds"])
    curves = {one["name"]: 100 * (np.array(one["volts"]) / one["before"] - 1) for one in moving if one["before"]}
    deepest = min(min(float(curve.min()) for curve in curves.values()), -0.5) * 1.15
    highest = max(max(float(curve.max()) for curve in curves.values()), 0.1) * 1.3
    end = float(seconds[-1])
    axes = Axes((0.0, end), (deepest, highest), "s", HALF)
    lines = [axes.line("ideal", ((result["length"], deepest), (result["length"], highest)))]
    key = [("ideal", "the burst ends")]
    for kind, (name, curve) in zip(_KINDS, curves.items(), strict=False):
        words = name.replace("_", " ")
        lines.append(axes.curve(kind, seconds, curve, words, "%"))
        key.append((kind, words))
    steps = [v for v in both_ways(round_steps(max(-deepest, highest), 4)) if deepest <= v <= highest]
    return axes.plot(
        "Every rail under a burst",
        ("from where the burst begins, s", "from rest, %", ""),
        lines,
        [],
        Ticks([(v, f"{v:g}") for v in round_steps(end, 4)], [(v, f"{v:+g}" if v else "0") for v in steps]),
        key,
    )


def _make_buys(amplifier: SolvedAmplifier, _: Arguments, report: Report) -> Any:
    if not amplifier.rectifiers:
        return None
    result = what_buys_most(amplifier, lambda part: report(part, "Each part of the supply twice as large"))
    return {
        "parts": [asdict(one) for one in result],
        "rails": [asdict(rail_ripple) for rail_ripple in rail_ripples(amplifier)],
    }


def _show_buys(amplifier: SolvedAmplifier, result: Any, user: Any) -> dict[str, Any]:
    if result is None:
        return {"done": True}
    parts = [
        {
            "name": part["designator"],
            "place": block_at(part["path"]).replace("_", " "),
            "now": part["now"],
            "then": part["then"],
            "db": _quieter(part["db"]),
            "refusal": part["refusal"],
        }
        for part in result["parts"]
    ]
    rails = [
        {
            "name": rail["name"].replace("_", " "),
            "volt": display(rail["volt"], Quantity.VOLTAGE),
            "ripple": rail["ripple"],
            "lines": [
                f"{display(volt, Quantity.VOLTAGE, 2)} at {hertz:.0f} Hz" for hertz, volt in rail["harmonics"][:3]
            ],
        }
        for rail in result["rails"]
    ]
    return {"done": True, "parts": parts, "rails": rails}


def _quieter(db: float | None) -> str:
    if db is None:
        return ""
    if abs(db) < 0.05:
        return "no change"
    return f"{abs(db):.1f} dB {'quieter' if db > 0 else 'louder'}"


@require_POST
def hum_tap(request: Request, project_id: int) -> HttpResponse:
    """Set a transformer's turns past the HT."""
    block, share = request.POST.get("block", ""), request.POST.get("share", "")
    return after(
        request, project_id, "rails",
        lambda: operations.set_hum_tap(request.user, project_id, block, share, seen(request)), "playing",
    )  # fmt: skip


STUDIES = (
    Study("sag", "rails/sag.html", _make_sag, _show_sag),
    Study("buys", "rails/buys.html", _make_buys, _show_buys),
)
