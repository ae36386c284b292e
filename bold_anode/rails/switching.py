"""From the switch to discharged: the first two minutes, the first cycles, and how long it stays dangerous."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from django.views.decorators.http import require_POST

from bold_anode.amps import studies
from bold_anode.amps.rooms import Shown, after, seen
from bold_anode.frame.requests import Request
from bold_anode.rails import operations
from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import Standby
from thermionic.blocks.ports import block_at
from thermionic.design import Resistor
from thermionic.supplies.bleeding import can_bleed
from thermionic.supplies.discharging import Discharge, discharge
from thermionic.supplies.moments import house_volts
from thermionic.values import Quantity, display


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The tab."""
    amplifier = shown.solved.amplifier
    context: dict[str, Any] = {}
    for name in ("switch-on", "bleeders"):
        context |= studies.shown(request, shown.project, name)
    return "rails/switching.html", context | {"discharges": _discharges(amplifier)}


def _discharges(amplifier: SolvedAmplifier) -> dict[str, Any]:
    """Seconds until every capacitor is harmless, as fitted and with each bleeder open; the tubes pulled or cold."""
    compiled = amplifier.compiled
    _, _, high = house_volts(amplifier.design)
    state = amplifier.on_mains(high).without_tubes
    cases: list[tuple[str, tuple[Discharge, ...]]] = [("as fitted", discharge(compiled, state))]
    for path, _ in compiled.components(Resistor):
        if can_bleed(amplifier.design, path):
            name = compiled.designator(path)
            cases.append((f"{name} open", discharge(compiled, state, opened=compiled.designators(path))))
    for use in compiled.said(Standby):
        words = f"{use.block.replace('_', ' ')} open"
        cases.append((words, discharge(compiled, state, opened=(use.part,))))
    names = list(dict.fromkeys(one.designator for _, result in cases for one in result))
    rows = []
    for name in names:
        cells, volt = [], 0.0
        for _, result in cases:
            one = next((one for one in result if one.designator == name), None)
            volt = max(volt, one.volt if one else 0.0)
            cells.append("" if one is None else _seconds(one))
        path = next(one.path for _, result in cases for one in result if one.designator == name)
        rows.append({"name": name, "place": block_at(path).replace("_", " "),
                     "volt": display(volt, Quantity.VOLTAGE), "cells": cells})  # fmt: skip
    return {"heads": [words for words, _ in cases], "rows": rows, "volt": f"{high:.0f}"}


def _seconds(found: Discharge) -> str:
    if found.unsolved:
        return "not known: take it for charged"
    second = found.second
    if second is None:
        return "over an hour"
    return f"{second:.0f} s" if second < 120 else f"{second / 60:.0f} min"


@require_POST
def bleed(request: Request, project_id: int) -> HttpResponse:
    """Fit a bleeder."""
    path, ohm, watt = (request.POST.get(name, "") for name in ("path", "ohm", "watt"))
    return after(
        request,
        project_id,
        "rails",
        lambda: operations.fit_bleeder(request.user, project_id, path, ohm, watt, seen(request)),
        "switch",
    )
