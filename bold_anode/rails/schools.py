"""What each school of supplies would do here."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from bold_anode.amps import studies
from bold_anode.amps.rooms import Shown
from bold_anode.amps.studies import Arguments, Study
from bold_anode.frame.requests import Request
from bold_anode.tasks.kinds import Report
from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.blocks.facets import Load
from thermionic.errors import BudgetSpent, ThermionicError
from thermionic.findings import examine
from thermionic.performance.schools import made, supply_schools
from thermionic.performance.supplied import Supplied, supplied
from thermionic.values import Quantity, display

_HEADS = ("HT", "Tubes cold", "Sag", "Hum", "Rectifier, peak", "First peak", "Full output", "From wall", "Findings")


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The tab."""
    return "rails/schools.html", studies.shown(request, shown.project, "supply-schools")


def _make(amplifier: SolvedAmplifier, _: Arguments, report: Report) -> Any:
    wanted = supply_schools(amplifier)
    report(0.02, "As it is")
    now = supplied(amplifier, examine(amplifier))
    if now is None:
        return None
    rows = []
    for place, school in enumerate(wanted, start=1):
        report(place / (len(wanted) + 1), f"{school.title}: changing the supply and solving it")
        row: dict[str, Any] = {"slug": school.slug, "title": school.title, "why": school.why, "numbers": None}
        try:
            after = solve(made(amplifier, school.slug)[0], amplifier)
            numbers = supplied(after, examine(after))
            row["numbers"] = asdict(numbers) if numbers else None
        except BudgetSpent:
            raise
        except ThermionicError as refusal:
            row["refusal"] = str(refusal)
        rows.append(row)
    return {"now": asdict(now), "rows": rows}


def _show(amplifier: SolvedAmplifier, result: Any, user: Any) -> dict[str, Any]:
    if result is None:
        return {"done": True}
    now = Supplied(**result["now"])
    rows: list[dict[str, Any]] = [{"title": "As it is", "cells": _cells(amplifier.load, now, now), "now": True}]
    for one in result["rows"]:
        row = {**one, "now": False}
        if one["numbers"]:
            row["cells"] = _cells(amplifier.load, Supplied(**one["numbers"]), now)
        rows.append(row)
    return {"done": True, "rows": rows, "heads": _HEADS}


def _cells(load: Load, one: Supplied, now: Supplied) -> list[dict[str, str]]:
    """The row, each number marked where it is better or worse than ``now`` by a twentieth, or hum by 3 dB."""
    result = ", ".join(f"{count} {name}" for name, count in one.findings.items()) or "none"
    texts = (
        display(one.rail_volt, Quantity.VOLTAGE), display(one.cold_volt, Quantity.VOLTAGE),
        f"{100 * one.sag:+.1f} %", f"{one.hum_db:.0f} dB", display(one.peak_ampere, Quantity.CURRENT),
        display(one.surge_ampere, Quantity.CURRENT) if one.surge_ampere > 1e-3 else "nothing yet",
        load.written(one.full), display(one.wall_watt, Quantity.POWER), result,
    )  # fmt: skip
    against = (
        "", _less(one.cold_volt, now.cold_volt), _less(abs(one.sag) + 0.002, abs(now.sag) + 0.002),
        "better" if one.hum_db < now.hum_db - 3 else "worse" if one.hum_db > now.hum_db + 3 else "",
        _less(one.peak_ampere, now.peak_ampere), _less(one.surge_ampere + 0.1, now.surge_ampere + 0.1),
        _less(now.full, one.full), _less(one.wall_watt, now.wall_watt), "",
    )  # fmt: skip
    return [
        {"head": head, "text": text, "against": how} for head, text, how in zip(_HEADS, texts, against, strict=True)
    ]


def _less(one: float, other: float) -> str:
    return "better" if one < other / 1.05 else "worse" if one > other * 1.05 else ""


STUDY = Study("supply-schools", "rails/supply_schools.html", _make, _show, at_once=False)
