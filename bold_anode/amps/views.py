"""The workshop, and what can be done to a project from any room."""

from __future__ import annotations

import json
import re

from django.contrib import messages
from django.core.paginator import Paginator
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST, require_safe

from bold_anode.amps import operations, starters, summaries
from bold_anode.amps.models import Project
from bold_anode.amps.rooms import after, draw_findings, draw_room, main_room, owned, seen
from bold_anode.frame.parsing import whole_number
from bold_anode.frame.requests import Request
from bold_anode.tubes.models import OwnTube
from thermionic import design as documents
from thermionic.design import Design, regraph
from thermionic.errors import DesignRefused, ThermionicError
from thermionic.values import Series

MOST_UPLOAD = 2_000_000
PROJECTS_A_PAGE = 12


@require_safe
def workshop(request: Request) -> HttpResponse:
    """The user's projects, the latest first; those that nobody has looked at since are solved after the page."""
    projects = Project.objects.of(request.user).select_related("current__summary")
    paginator = Paginator(projects.order_by("-current__made_at", "-pk"), PROJECTS_A_PAGE)
    page = paginator.get_page(whole_number(request.GET.get("page", "")) or 1)
    cards = [{"project": project, "summary": summaries.kept(project.at)} for project in page]
    context = {"cards": cards, "page": page, "starters": starters.starters(), "main": main_room().slug}
    return render(request, "amps/workshop.html", context)


@require_safe
def card(request: Request, project_id: int) -> HttpResponse:
    """A project as the workshop shows it, solved if need be."""
    project = owned(request, project_id)
    context = {"card": {"project": project, "summary": summaries.summary(project.at)}, "main": main_room().slug}
    return render(request, "amps/card.html", context)


@require_POST
def new(request: Request) -> HttpResponse:
    """A new project from a starting design."""
    try:
        design = starters.starter(request.POST.get("starter", ""))
        name = request.POST.get("name", "").strip()
        if name:
            design = documents.changed(design, "name", name)
        project = operations.create_project(request.user, design)
    except ThermionicError as reason:
        messages.error(request, str(reason))
        return redirect("workshop")
    return redirect("room", project.pk, main_room().slug)


@require_POST
def import_file(request: Request) -> HttpResponse:
    """A new project from a design file."""
    upload = request.FILES.get("file")
    try:
        if upload is None:
            raise DesignRefused("Choose a design file first: one that Export gave, ending in .json.")
        project = operations.import_project(request.user, upload.read(MOST_UPLOAD))
    except ThermionicError as reason:
        messages.error(request, f"{((upload and upload.name) or 'No file')[:80]}: {reason}")
        return redirect("workshop")
    return redirect("room", project.pk, main_room().slug)


@require_safe
def export(request: Request, project_id: int) -> HttpResponse:
    """The current design as a file."""
    project = owned(request, project_id)
    text = json.dumps(project.at.document, indent=2, ensure_ascii=False) + "\n"
    name = re.sub(r"[^a-z0-9]+", "-", project.name.lower()).strip("-") or "amplifier"
    return HttpResponse(
        text,
        content_type="application/json",
        headers={"Content-Disposition": f'attachment; filename="{name}.json"'},
    )


@require_POST
def duplicate(request: Request, project_id: int) -> HttpResponse:
    """A copy beside the original."""
    copy = operations.duplicate_project(request.user, project_id)
    messages.success(request, f"{copy.name} made.")
    return redirect("workshop")


@require_POST
def delete(request: Request, project_id: int) -> HttpResponse:
    """Put a project away, offering to bring it back."""
    project = operations.delete_project(request.user, project_id)
    request.session["deleted"] = project.pk
    messages.warning(request, f"{project.name} deleted.", extra_tags="undo-delete")
    return redirect("workshop")


@require_POST
def restore(request: Request, project_id: int) -> HttpResponse:
    """Bring a deleted project back."""
    project = operations.restore_project(request.user, project_id)
    messages.success(request, f"{project.name} is back.")
    return redirect("workshop")


@require_safe
def room(request: Request, project_id: int, slug: str) -> HttpResponse:
    """A room of a project."""
    return draw_room(request, owned(request, project_id), slug)


@require_safe
def findings(request: Request, project_id: int, slug: str) -> HttpResponse:
    """The findings with their cures, once the room is there; nothing if the design has been changed meanwhile."""
    project = owned(request, project_id)
    try:
        if request.GET.get("seen") == str(project.at.number):
            return draw_findings(request, project, slug)
    except ThermionicError:
        pass  # the room has said so
    return HttpResponse(status=204)


@require_POST
def change(request: Request, project_id: int, slug: str) -> HttpResponse:
    """One change to the design, from any room: a value typed, a value stepped, a part put in or taken out."""
    return after(
        request,
        project_id,
        slug,
        lambda: operations.change_design(
            request.user,
            project_id,
            lambda design: _changed(_with_own_tube(request, design), request.POST),
            seen(request),
        ),
    )


def _with_own_tube(request: Request, design: Design) -> Design:
    """The design with the tube that the form chooses brought along, if that is one of the user's own."""
    if request.POST.get("path", "").startswith("envelopes/"):
        own = (
            OwnTube.objects.triodes_of(request.user)
            .filter(name__iexact=request.POST.get("value", "").strip())
            .first()
        )
        if own:
            return documents.with_own_tube(design, own.triode)
    return design


def _changed(design: Design, posted) -> tuple[Design, str]:  # type: ignore[no-untyped-def]
    """The change that a form asks for, with a note of it. Raises ThermionicError."""
    path = posted.get("path", "")
    if "action" in posted:
        return _regraphed(design, posted)
    if "fitted" in posted:
        fitted = posted["fitted"] == "yes"
        return documents.fit_part(design, path, fitted), f"{_said(path)} {'fitted' if fitted else 'taken out'}"
    before = documents.field(design, path)
    if "steps" in posted:
        try:
            steps = max(-12, min(12, int(posted["steps"])))
        except ValueError:
            raise DesignRefused("A step is a whole number of preferred values, up or down.") from None
        series = Series.E24 if path.endswith("/ohm") else Series.E12
        after = documents.step_field(design, path, steps, series)
    else:
        after = documents.changed(design, path, posted.get("value", ""))
        for other in posted.getlist("also"):
            after = documents.changed(after, other, posted.get("value", ""))
    return after, f"{_said(path)}: {before.text} to {documents.field(after, path).text}"


def _regraphed(design: Design, posted) -> tuple[Design, str]:  # type: ignore[no-untyped-def]
    """The change to the graph that a form asks for, with a note of it. Raises ThermionicError."""
    block, kind, action = posted.get("block", ""), posted.get("kind", ""), posted["action"]
    if all(one.id != block for one in design.blocks):
        raise DesignRefused(f"There is no block {block[:40]} in {design.name} any more.")
    words = block.replace("_", " ")
    if action in ("insert-before", "insert-after"):
        side = action.removeprefix("insert-")
        return regraph.insert(design, kind, block, before=side == "before"), f"{kind} put in {side} {words}"
    if action == "swap":
        return regraph.swap(design, block, kind), f"{words} made a {kind}"
    if action in ("remove", "remove-along"):
        return regraph.remove(design, block, along=action == "remove-along"), f"{words} taken out"
    if action == "duplicate":
        return regraph.duplicate(design, block), f"{words} doubled"
    if action in ("earlier", "later"):
        return regraph.move(design, block, later=action == "later"), f"{words} moved {action}"
    if action == "push-pull":
        return regraph.push_pull(design, block), f"{words} made push-pull"
    raise DesignRefused(f"“{action[:40]}” is nothing that can be done to a block.")


def _said(path: str) -> str:
    """A path in words: ``blocks/output/cathode_resistor/ohm`` is the output cathode resistor."""
    words = [
        word.replace("_", " ") for word in path.split("/") if word not in ("blocks", "envelopes", "ohm", "farad")
    ]
    return " ".join(words)


@require_POST
def undo(request: Request, project_id: int, slug: str) -> HttpResponse:
    """One revision back."""
    return after(request, project_id, slug, lambda: operations.undo(request.user, project_id, seen(request)))


@require_POST
def redo(request: Request, project_id: int, slug: str) -> HttpResponse:
    """One revision forward."""
    return after(request, project_id, slug, lambda: operations.redo(request.user, project_id, seen(request)))
