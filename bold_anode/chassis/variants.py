"""The layouts of a project beside each other."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from django.views.decorators.http import require_POST

from bold_anode.amps.models import Project
from bold_anode.amps.rooms import Shown, after, owned
from bold_anode.chassis import laying, operations
from bold_anode.chassis.figures import against_of
from bold_anode.chassis.models import ChassisLayout
from bold_anode.frame.requests import Request
from thermionic.chassis.fitting_in import misfits
from thermionic.chassis.laid import Laid
from thermionic.chassis.proposing import longest_grid
from thermionic.chassis.warmth import warmth
from thermionic.chassis.weighing import symmetry
from thermionic.errors import ThermionicError

_CAUSES = 6
_EVEN = 0.5  # dB, or a hundredth: less is no difference


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The view: a column a layout, a row a figure, what differs from the chosen one marked."""
    rows = list(ChassisLayout.objects.filter(project=shown.project).select_related("current"))
    columns = [_column(shown.project, row) for row in rows] or [_column(shown.project, None)]
    chosen = next((column for column in columns if column["chosen"]), columns[0])
    names = list(dict.fromkeys(name for column in columns for name in column["causes"]))
    loudest = sorted(names, key=lambda name: min(column["causes"].get(name, 999.0) for column in columns))[:_CAUSES]
    against = against_of(laying.laid(shown.project, laying.standing(shown.project).layout))
    figures = [(name, "dB", 1) for name in loudest]
    table = [_row(f"All hum, dB below {against}", [column["all"] for column in columns], chosen["all"], 1, 0)]
    table += [
        _row(name, [column["causes"].get(name) for column in columns], chosen["causes"].get(name), 1, 0)
        for name, _, _ in figures
    ]
    table.append(_row("Longest wire to a grid, mm", [column["grid"] for column in columns], chosen["grid"], -1, 0))
    table.append(
        _row("Hottest capacitor's surroundings, °C", [column["hot"] for column in columns], chosen["hot"], -1, 0)
    )
    table.append(_row("Wire in all, m", [column["wire"] for column in columns], chosen["wire"], -1, 1))
    table.append(_row("Symmetry, %", [column["even"] for column in columns], chosen["even"], 1, 0))
    table.append(_row("Does not fit", [column["wrong"] for column in columns], chosen["wrong"], -1, 0))
    return "chassis/variants.html", {"against": against, "columns": columns, "table": table, "stored": bool(rows),
                                     "standing": laying.standing(shown.project)}  # fmt: skip


def _column(project: Project, row: ChassisLayout | None) -> dict[str, Any]:
    try:
        now = laying.laid(project, laying.of_row(project, row))
    except ThermionicError as reason:
        return {"name": row.name if row else "First layout", "pk": row.pk if row else 0, "refusal": str(reason),
                "chosen": bool(row and row.chosen), "all": None, "causes": {}, "grid": None, "hot": None,
                "wire": None, "even": None, "wrong": None}  # fmt: skip
    return {"name": row.name if row else now.layout.name, "pk": row.pk if row else 0, "refusal": "",
            "chosen": row is None or row.chosen, **_figures(now)}  # fmt: skip


def _figures(now: Laid) -> dict[str, Any]:
    hum = now.hum
    causes: dict[str, float] = {}
    for cause in hum.causes:
        way = {"magnetic": "field", "capacitive": "capacitance"}.get(cause.way, "")
        name = f"{cause.source}, {way}" if way else cause.source
        causes[name] = min(causes.get(name, 999.0), hum.below(cause.volt))
    capacitors = warmth(now).capacitors
    wires = sum(wire.length for wire in now.wiring.wires) + 2 * sum(pair.length for pair in now.wiring.pairs)
    wires += sum(link.wire.length for link in now.earth.links if link.wire)
    return {
        "all": hum.below(hum.volt), "causes": causes, "grid": longest_grid(now) * 1e3,
        "hot": capacitors[0].celsius if capacitors else None, "wire": wires, "even": symmetry(now) * 100,
        "wrong": float(sum(misfit.impossible for misfit in misfits(now.bodies, now.layout))),
    }  # fmt: skip


def _row(name: str, values: list[float | None], chosen: float | None, better: int, digits: int) -> dict[str, Any]:
    cells = []
    for value in values:
        kind = ""
        if value is not None and chosen is not None and abs(value - chosen) > max(_EVEN, 0.01 * abs(chosen)):
            kind = "better" if (value - chosen) * better > 0 else "worse"
        cells.append(("none" if value is None else f"{value:.{digits}f}", kind))
    return {"name": name, "cells": cells}


@require_POST
def keep(request: Request, project_id: int) -> HttpResponse:
    """Keep the layout as it is, and go on with a copy."""
    owned(request, project_id)
    name = request.POST.get("name", "")
    return after(
        request, project_id, "chassis", lambda: operations.keep_variant(request.user, project_id, name),
        "variants",
    )  # fmt: skip


@require_POST
def choose(request: Request, project_id: int, layout_id: int) -> HttpResponse:
    """Work on another layout."""
    owned(request, project_id)
    return after(
        request, project_id, "chassis", lambda: operations.choose_variant(request.user, project_id, layout_id),
        "variants",
    )  # fmt: skip


@require_POST
def drop(request: Request, project_id: int, layout_id: int) -> HttpResponse:
    """Take a layout out."""
    owned(request, project_id)
    return after(
        request, project_id, "chassis", lambda: operations.drop_variant(request.user, project_id, layout_id),
        "variants",
    )  # fmt: skip
