"""What takes longer than a page may: what each change would do, and a layout proposed by trying."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from django.http import Http404, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_http_methods

from bold_anode.amps.models import Project
from bold_anode.amps.rooms import owned
from bold_anode.amps.solved import solved
from bold_anode.chassis import laying
from bold_anode.frame.refusing import refuse
from bold_anode.frame.requests import Request
from bold_anode.tasks import kinds
from bold_anode.tasks import operations as tasks
from bold_anode.tasks.kinds import Report
from bold_anode.tasks.models import State, Work
from thermionic.chassis.document import Layout, read_layout
from thermionic.chassis.laid import lay
from thermionic.chassis.offers import changes
from thermionic.chassis.proposing import longest_grid, proposed
from thermionic.edition import edition
from thermionic.errors import ThermionicError

CHANGES, PROPOSAL = "layout: changes", "layout: proposal"
_KINDS = {"changes": CHANGES, "proposal": PROPOSAL}
_SHOWN = 6


def _changes(work: Work, report: Report) -> Any:
    assert work.revision is not None
    now = lay(solved(work.revision).amplifier, read_layout(work.arguments["layout"]))
    hum = now.hum
    return [
        {"what": change.what, "words": change.words, "gain": change.gain(hum),
         "own": hum.below(change.laid_volt) - hum.below(hum.laid_volt), "below": hum.below(change.volt)}
        for change in changes(now, lambda part, said: report(part, said))[:_SHOWN]
    ]  # fmt: skip


def _proposal(work: Work, report: Report) -> Any:
    assert work.revision is not None
    amplifier, layout = solved(work.revision).amplifier, read_layout(work.arguments["layout"])
    before = lay(amplifier, layout)
    found = proposed(amplifier, layout, lambda part, said: report(part, said))
    hum = found.laid.hum
    return {
        "layout": laying.plain(found.layout), "school": found.school, "tried": found.tried,
        "below": hum.below(hum.volt), "before": before.hum.below(before.hum.volt),
        "own": hum.below(hum.laid_volt), "own_before": before.hum.below(before.hum.laid_volt),
        "grid": longest_grid(found.laid), "grid_before": longest_grid(before),
    }  # fmt: skip


def register() -> None:
    """Name both kinds of work."""
    kinds.register(CHANGES, _changes, long=True)
    kinds.register(PROPOSAL, _proposal, long=True)


def about(project: Project, layout: Layout) -> str:
    """Names a layout of a design, by their contents."""
    text = json.dumps(laying.plain(layout), sort_keys=True)
    return f"{edition()} {project.at.document_hash[:32]} {hashlib.sha256(text.encode()).hexdigest()[:32]}"


def ask(user: Any, project: Project, kind: str) -> Work:
    """Ask for work on the chosen layout as it stands; what was under way on an earlier state of it is called off.
    Raises ThermionicError."""
    layout = laying.standing(project).layout
    name = about(project, layout)
    for one in Work.objects.of(user).filter(kind=kind).under_way().exclude(about=name):
        tasks.cancel(user, one.pk)
    return tasks.ask(user, kind, name, {"layout": laying.plain(layout)}, project.at)


def shown(user: Any, project: Project, kind: str, layout: Layout) -> dict[str, Any]:
    """What there is of it, for a template."""
    work = tasks.asked(user, kind, about(project, layout))
    under_way = work is not None and work.is_under_way
    context: dict[str, Any] = {"work": work, "under_way": under_way,
                               "worker_alive": tasks.is_worker_alive() if under_way else True}  # fmt: skip
    if work is None or work.state != State.DONE:
        return context
    if kind == CHANGES:
        context["changes"] = [
            {**one, "gain": f"{one['gain']:.1f}", "own": f"{one['own']:.1f}", "number": number}
            for number, one in enumerate(work.result or ())
        ]
        return context
    got: Any = work.result
    return context | {
        "done": True, "school": got["school"], "tried": got["tried"],
        "below": f"{got['below']:.0f}", "before": f"{got['before']:.0f}",
        "own": f"{got['own']:.0f}", "own_before": f"{got['own_before']:.0f}",
        "grid": f"{got['grid'] * 1e3:.0f}", "grid_before": f"{got['grid_before'] * 1e3:.0f}",
    }  # fmt: skip


def result(user: Any, project: Project, kind: str, layout: Layout) -> Any:
    """What came of the work on this very layout; None where it is not done."""
    work = tasks.asked(user, kind, about(project, layout))
    return work.result if work is not None and work.state == State.DONE else None


@require_http_methods(["GET", "HEAD", "POST"])
def view(request: Request, project_id: int, kind: str) -> HttpResponse:
    """One of the two: what came of it, or how far it is. A POST asks for it."""
    project = owned(request, project_id)
    if kind not in _KINDS:
        raise Http404
    name = _KINDS[kind]
    try:
        if request.method == "POST":
            ask(request.user, project, name)
        standing = laying.standing(project)
        context = {
            "project": project,
            "standing": standing,
            kind: shown(request.user, project, name, standing.layout),
        }
    except ThermionicError as reason:
        return refuse(request, str(reason))
    return render(request, f"chassis/{kind}.html", context)
