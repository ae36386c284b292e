"""The Chain: the circuit with its solved voltages, edited in place; a stage's load lines beside its numbers."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from bold_anode.amps.rooms import Shown, owned, rooms
from bold_anode.amps.solved import solved
from bold_anode.amps.tabs import draw_chosen
from bold_anode.chain.editor import rows
from bold_anode.chain.tabs import TABS
from bold_anode.frame.refusing import refuse
from bold_anode.frame.requests import Request
from thermionic import design as documents
from thermionic.blocks import Block, Flow
from thermionic.errors import ThermionicError


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The room, by the view that is looked at."""
    return draw_chosen(request, shown, TABS)


def _room(slug: str) -> str:
    """The room that a part is changed in: the one that asks, if there is such a one."""
    return slug if slug in {room.slug for room in rooms()} else "chain"


@require_safe
def part(request: Request, project_id: int) -> HttpResponse:
    """The editor of one part, to be placed beside it on the drawing."""
    project = owned(request, project_id)
    path = request.GET.get("path", "")
    try:
        amplifier = solved(project.at).amplifier
        design = amplifier.design
        fields = documents.fields_at(design, path)
        block = documents.find(design, path).value
        if isinstance(block, Block) and Flow.WINDING in block.ports().values():
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
         "switches": switches, "removable": path in optional, "stage": request.GET.get("stage", ""),
         "room": _room(request.GET.get("room", ""))},
    )  # fmt: skip
