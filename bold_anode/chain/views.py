"""The Chain: the circuit with its solved voltages, edited in place; a stage's load lines beside its numbers."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from django.shortcuts import render
from django.template import loader
from django.utils.safestring import SafeString, mark_safe
from django.views.decorators.http import require_safe

from bold_anode.amps.rooms import Shown, owned
from bold_anode.amps.solved import solved
from bold_anode.chain.diagram import plots
from bold_anode.chain.drawing import drawing
from bold_anode.chain.editor import rows
from bold_anode.chain.figures import amplifier_figures, stage_figures
from bold_anode.frame.refusing import refuse
from bold_anode.frame.requests import Request
from thermionic import design as documents
from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks import KINDS, Flow, Group
from thermionic.design import Design
from thermionic.errors import ThermionicError
from thermionic.findings import Finding
from thermionic.schematic import Sheet, signal_sheet, supply_sheet


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The room: drawing, supply, and the selected stage."""
    amplifier = shown.solved.amplifier
    before = shown.before.amplifier if shown.before else None
    severities = _severities(shown.solved.findings)
    block_id = _selected(amplifier, request.POST.get("stage") or request.GET.get("stage") or "")
    uses = amplifier.compiled.tubes_of(block_id)

    def drawn(sheet: Sheet, title: str) -> SafeString:
        placed = drawing(sheet, amplifier, before, severities)
        return _svg("chain/drawing.svg", sheet=placed, title=title, stage=block_id)

    return "chain/chain.html", {
        "drawing": drawn(signal_sheet(amplifier.design), "Signal path"),
        "supply": drawn(supply_sheet(amplifier.design), "Supplies"),
        "stage": amplifier.design.block(block_id),
        "tube": ", ".join(dict.fromkeys(use.type.type for use in uses)),
        "blocks": amplifier.design.blocks,
        "kinds": _KINDS,
        "actions": _actions(amplifier.design, block_id),
        "figures": stage_figures(amplifier, before, block_id),
        "whole": amplifier_figures(amplifier, before),
        "plots": [
            _svg("chain/plot.svg", plot=plot, number=number)
            for number, plot in enumerate(plots(amplifier, block_id), start=1)
        ],
    }


def _svg(template: str, **context: Any) -> SafeString:
    """A drawing's own template, filled in."""
    return mark_safe(loader.render_to_string(template, context))


_KINDS = [
    (group.value, [(name, cls.title, cls.about) for name, cls in sorted(KINDS.items()) if cls.group is group])
    for group in Group
]


def _actions(design: Design, block_id: str) -> list[tuple[str, str]]:
    """What can be done to a block as a whole, besides putting others beside it: the action and its words."""
    found = [
        ("duplicate", "Double it"),
        ("earlier", "Move earlier"),
        ("later", "Move later"),
        ("remove", "Remove the block"),
        ("remove-along", "Remove it with what hangs on it"),
    ]
    if any(getattr(other, "push_pull", True) is False for other, _, _ in documents.consumers(design, block_id)):
        found.insert(0, ("push-pull", "Make it push-pull"))
    return found


def _severities(findings: list[Finding]) -> dict[str, str]:
    """The severity of the worst finding about each path; findings come worst first."""
    severities: dict[str, str] = {}
    for finding in findings:
        severities.setdefault(finding.path, finding.severity.name.lower())
    return severities


def _selected(amplifier: SolvedAmplifier, wanted: str) -> str:
    """The block to show: the one asked for, else the last with tubes on the signal's way."""
    if any(block.id == wanted for block in amplifier.design.blocks):
        return wanted
    with_tubes = [block_id for block_id in amplifier.route if amplifier.compiled.tubes_of(block_id)]
    return with_tubes[-1] if with_tubes else amplifier.route[0]


@require_safe
def part(request: Request, project_id: int) -> HttpResponse:
    """The editor of one part, to be placed beside it on the drawing."""
    project = owned(request, project_id)
    path = request.GET.get("path", "")
    try:
        amplifier = solved(project.at).amplifier
        design = amplifier.design
        fields = documents.fields_at(design, path)
        if Flow.WINDING in getattr(documents.find(design, path).value, "ports", dict)().values():
            fields.append(documents.field(design, "brief/mains_volt"))
    except ThermionicError as reason:
        return refuse(request, str(reason))
    try:
        state = amplifier.part(path)
        designator = amplifier.compiled.designator(path)
    except KeyError:
        state, designator = None, ""
    optional = documents.optional_parts(design)
    switches = [
        {"path": option, "name": documents.find(design, option).title.lower(), "fitted": fitted}
        for option, fitted in optional.items()
        if option.rsplit("/", 1)[0] == path
    ]
    return render(
        request,
        "chain/editor.html",
        {"project": project, "path": path, "rows": rows(request.user, amplifier, fields),
         "state": state, "designator": designator,
         "switches": switches, "removable": path in optional, "stage": request.GET.get("stage", "")},
    )  # fmt: skip
