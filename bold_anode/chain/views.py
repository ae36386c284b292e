"""The Chain: the circuit with its solved voltages, edited in place; a stage's load lines beside its numbers."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from bold_anode.amps.rooms import Shown, owned
from bold_anode.amps.solved import solved
from bold_anode.amps.views import refusal
from bold_anode.chain.diagram import plot
from bold_anode.chain.drawing import amplifier_drawing, supply_drawing
from bold_anode.chain.figures import amplifier_figures, stage_figures
from bold_anode.chain.labels import LABELS, OPTIONAL
from bold_anode.tubes.models import OwnTube
from thermionic import design as documents
from thermionic import tubes
from thermionic.blocks import anode_diagram
from thermionic.design import Design
from thermionic.errors import ThermionicError
from thermionic.findings import Finding


def draw(request: HttpRequest, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The room: drawing, supply, and the selected stage."""
    amplifier = shown.solved.amplifier
    before = shown.before.amplifier if shown.before else None
    severities = _severities(shown.solved.findings)
    stage_id = _selected(amplifier.design, request.POST.get("stage") or request.GET.get("stage") or "")
    return "chain/chain.html", {
        "drawing": amplifier_drawing(amplifier, before, severities),
        "supply": supply_drawing(amplifier, before, severities),
        "stage": next(stage for stage in amplifier.design.stages if stage.id == stage_id),
        "figures": stage_figures(amplifier, before, stage_id),
        "whole": amplifier_figures(amplifier, before),
        "plot": plot(anode_diagram(amplifier, stage_id)),
    }


def _severities(findings: list[Finding]) -> dict[str, str]:
    """The severity of the worst finding about each path; findings come worst first."""
    severities: dict[str, str] = {}
    for finding in findings:
        severities.setdefault(finding.path, finding.severity.name.lower())
    return severities


def _selected(design: Design, wanted: str) -> str:
    """The stage to show: the one asked for, else the output stage."""
    ids = {stage.id for stage in design.stages}
    return wanted if wanted in ids else design.output_stage.id


@require_GET
def part(request: HttpRequest, project_id: int) -> HttpResponse:
    """The editor of one part, to be placed beside it on the drawing."""
    project = owned(request, project_id)
    path = request.GET.get("path", "")
    try:
        amplifier = solved(project.current).amplifier
        design = amplifier.design
        fields = documents.fields_at(design, path)
        if path == "supply":
            fields.append(documents.field(design, "brief/mains_volt"))
    except ThermionicError as reason:
        return refusal(request, reason)
    try:
        state = amplifier.part(path)
        designator = amplifier.compiled.designator(path)
    except KeyError:
        state, designator = None, ""
    rows = [
        {"path": f.path, "label": _label(f), "text": f.text, "choices": _choices(request.user, design, f.path)}
        for f in fields
    ]  # fmt: skip
    optional = documents.optional_parts(design)
    switches = [
        {"path": option, "name": OPTIONAL[option.rsplit("/", 1)[1]], "fitted": fitted}
        for option, fitted in optional.items()
        if option.rsplit("/", 1)[0] == path
    ]
    return render(
        request,
        "chain/editor.html",
        {"project": project, "path": path, "rows": rows, "state": state, "designator": designator,
         "switches": switches, "removable": path in optional, "stage": request.GET.get("stage", "")},
    )  # fmt: skip


def _label(field: documents.Field) -> str:
    """What a value is called, with its unit where the value is written without."""
    name = LABELS.get(field.path.rsplit("/", 1)[1], field.path)
    return f"{name}, {field.quantity.unit}" if field.quantity and field.quantity.value.infix else name


def _choices(user: Any, design: Design, path: str) -> tuple[str, ...]:
    if path.endswith("/tube"):
        own = [one.name for one in design.own_tubes] + [tube.name for tube in OwnTube.objects.triodes_of(user)]
        return (*dict.fromkeys(own), *tubes.types_with("triode"))
    return documents.choices(design, path)
