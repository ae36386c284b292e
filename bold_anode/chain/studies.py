"""The studies of the Chain: two tones, a burst, what the schools would do, a thousand builds."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np

from bold_anode.amps.models import Project
from bold_anode.amps.studies import Arguments, Study, plain
from bold_anode.chain.comparison import HEADS, cells
from bold_anode.frame.figures import Figure
from bold_anode.frame.parsing import whole_number
from bold_anode.frame.plots import HALF, Axes, Scale, Ticks, both_ways, decades, drawn, round_steps
from bold_anode.frame.requests import Request
from bold_anode.tasks.kinds import Report
from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.errors import BudgetSpent, ThermionicError, ValueRefused
from thermionic.findings import examine
from thermionic.performance.burst import burst
from thermionic.performance.comparing import Comparison, compared
from thermionic.performance.power import intermodulations
from thermionic.performance.schools import made, schools
from thermionic.performance.tolerances import MOST_BUILDS, tolerances
from thermionic.values import Quantity, display

_KINDS = ("ac", "second", "third", "fourth", "fifth")


def _make_two_tones(amplifier: SolvedAmplifier, _: Arguments, report: Report) -> Any:
    report(0.1, "Balancing two tones together")
    return [asdict(intermodulation) for intermodulation in intermodulations(amplifier)]


def _make_burst(amplifier: SolvedAmplifier, _: Arguments, report: Report) -> Any:
    report(0.1, "Following a burst in time")
    return plain(asdict(burst(amplifier)))


def _make_tolerances(amplifier: SolvedAmplifier, arguments: Arguments, report: Report) -> Any:
    builds = int(arguments["builds"])
    return asdict(
        tolerances(
            amplifier,
            builds,
            matched=bool(arguments["matched"]),
            told=lambda part: report(part, f"Building it {builds} times"),
        )
    )


def _make_schools(amplifier: SolvedAmplifier, _: Arguments, report: Report) -> Any:
    result = []
    wanted = schools(amplifier)
    for place, school in enumerate(wanted):
        report(place / len(wanted), f"{school.title}: changing the design and solving it")
        row: dict[str, Any] = {"slug": school.slug, "title": school.title, "why": school.why}
        try:
            design, _school = made(amplifier, school.slug)
            after = solve(design, amplifier)
            row["numbers"] = asdict(compared(after, examine(after)))
        except BudgetSpent:
            raise
        except ThermionicError as refusal:
            row["refusal"] = str(refusal)
        result.append(row)
    return result


def _read_builds(request: Request, project: Project) -> Arguments:
    """How many builds, and whether pairs are matched. Raises ValueRefused."""
    builds = whole_number(request.POST.get("builds", "").strip())
    if builds is None or not 20 <= builds <= MOST_BUILDS:
        raise ValueRefused(f"How many builds: a whole number from 20 to {MOST_BUILDS}.")
    return {"builds": builds, "matched": request.POST.get("matched") == "yes"}


def _show_two_tones(amplifier: SolvedAmplifier, result: Any, user: Any) -> dict[str, Any]:
    pairs = [one for one in result if len(one["outputs"]) > 1]
    if not pairs:
        return {"plots": [], "figures": []}
    least = 10 ** np.floor(np.log10(min(pair["outputs"][0] for pair in pairs)))
    most = 10 ** np.ceil(np.log10(max(pair["outputs"][-1] for pair in pairs)))
    unit = "W" if amplifier.load.power else "V"
    axes = Axes(Scale(float(least), float(most), log=True), Scale(0.01, 100.0, log=True), unit, HALF)
    lines, key = [], []
    for kind, one in zip(_KINDS, pairs, strict=False):
        words = _pair(one)
        name = words.partition(",")[0]
        lines.append(axes.curve(kind, one["outputs"], 100 * np.array(one["fractions"]), name, "%"))
        key.append((kind, words))
    plot = axes.plot(
        "Intermodulation against output",
        (f"output of a lone tone of the same peak, {unit}{'' if unit == 'W' else ' rms'}", "intermodulation, %", ""),
        lines,
        [],
        Ticks(decades(float(least), float(most)), decades(0.01, 100.0)),
        key,
    )
    figures = [
        Figure(f"{_pair(pair)}, at {amplifier.load.written(pair['outputs'][-2])}", f"{pair['fractions'][-2]:.2%}")
        for pair in pairs
    ]
    return {"plots": drawn([plot], first=20), "figures": figures}


def _pair(one: dict[str, Any]) -> str:
    first, second = (display(one[name], Quantity.FREQUENCY) for name in ("first_hertz", "second_hertz"))
    return f"{first} and {second}" + (f", {one['ratio']:g} to 1" if one["ratio"] != 1 else "")


def _show_burst(amplifier: SolvedAmplifier, result: Any, user: Any) -> dict[str, Any]:
    recoveries = result["recoveries"]
    slowest = recoveries[:5]
    ends = [one["seconds"] for one in slowest if one["seconds"] is not None]
    length = min(max([2.0 * max(ends, default=0.05), 0.05]), result["followed"])
    most = max(max(abs(point[1]) for point in one["curve"]) for one in slowest) or 1.0
    axes = Axes((0.0, length), (-most * 1.1, most * 1.1), "s", HALF)
    lines, key = [], []
    for kind, one in zip(_KINDS, slowest, strict=False):
        curve = np.array(one["curve"])
        inside = curve[:, 0] <= length * 1.0001
        lines.append(axes.curve(kind, curve[inside, 0], curve[inside, 1], one["part"], "V"))
        key.append((kind, one["part"]))
    plot = axes.plot(
        "Bias of every tube after a burst",
        ("after the burst, ms", "bias from idle, V", ""),
        lines,
        [],
        Ticks(
            [(v / 1e3, f"{v:g}") for v in round_steps(1e3 * length, 5)],
            [(v, f"{v:+g}" if v else "0") for v in both_ways(round_steps(most * 1.1, 3))],
        ),
        key,
    )
    rows = [
        {
            "part": recovery["part"],
            "block": amplifier.design.block(recovery["block"]).label,
            "idle": display(recovery["idle_volt"], Quantity.VOLTAGE),
            "worst": f"{recovery['worst_volt']:+.3g} V",
            "back": _back(recovery["seconds"], result["followed"]),
        }
        for recovery in recoveries
    ]
    return {"plots": drawn([plot], first=30), "rows": rows, "burst": result}


def _back(seconds: float | None, followed: float) -> str:
    if seconds is None:
        return f"not within {followed:.1f} s"
    return "never away" if seconds == 0 else f"{seconds * 1e3:.0f} ms" if seconds < 10 else f"{seconds:.1f} s"


def _show_tolerances(amplifier: SolvedAmplifier, result: Any, user: Any) -> dict[str, Any]:
    return {
        "result": result,
        "quantities": [_spread(one, number) for number, one in enumerate(result["quantities"])],
    }


def _spread(one: dict[str, Any], number: int) -> dict[str, Any]:
    """One figure's spread: its numbers in words, its histogram, and what matters."""
    unit = one["unit"]
    return {
        "name": one["name"],
        "designed": _written(one["designed"], unit),
        "low": _written(one["low"], unit),
        "high": _written(one["high"], unit),
        "least": _written(one["least"], unit),
        "most": _written(one["most"], unit),
        "causes": one["causes"],
        "explained": one["explained"],
        "bars": _bars(one),
        "at": _at(one, one["designed"]),
        "from": _at(one, one["low"]),
        "width": _at(one, one["high"]) - _at(one, one["low"]),
    }


_QUANTITIES = {"A": Quantity.CURRENT, "V": Quantity.VOLTAGE, "W": Quantity.POWER}


def _written(value: float, unit: str) -> str:
    if unit == "dB":
        return f"{value:+.2f} dB"
    if unit == "%":
        return f"{value:.3g} %"
    return display(value, _QUANTITIES[unit])


def _at(one: dict[str, Any], value: float) -> float:
    """Where a value is along the histogram, 0 to 240."""
    first, last = one["edges"][0], one["edges"][-1]
    return 240.0 * min(max((value - first) / (last - first), 0.0), 1.0) if last > first else 120.0


def _bars(one: dict[str, Any]) -> str:
    """The histogram as a path, 240 by 48."""
    most = max(one["counts"]) or 1
    width = 240.0 / len(one["counts"])
    return "".join(
        f"M{place * width + 0.5:.1f} 48v{-46.0 * count / most:.1f}h{width - 1:.1f}V48Z"
        for place, count in enumerate(one["counts"])
        if count
    )


def _show_schools(amplifier: SolvedAmplifier, result: Any, user: Any) -> dict[str, Any]:
    now = compared(amplifier, [])
    rows = []
    for one in result:
        row = {"slug": one["slug"], "title": one["title"], "why": one["why"], "refusal": one.get("refusal", "")}
        if "numbers" in one:
            row["cells"] = cells(amplifier.load, Comparison(**one["numbers"]), now)
        rows.append(row)
    return {"rows": rows, "heads": HEADS}


STUDIES = (
    Study("two-tones", "chain/two_tones.html", _make_two_tones, _show_two_tones),
    Study("burst", "chain/burst.html", _make_burst, _show_burst),
    Study("schools", "chain/schools.html", _make_schools, _show_schools),
    Study("tolerances", "chain/spread.html", _make_tolerances, _show_tolerances, _read_builds, at_once=False),
)
