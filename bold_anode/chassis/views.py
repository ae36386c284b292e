"""Chassis: where everything goes, to scale, and what it will hum."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST, require_safe

from bold_anode.amps import studies
from bold_anode.amps.rooms import Shown, owned
from bold_anode.amps.solved import solved
from bold_anode.amps.tabs import Tab, draw_chosen
from bold_anode.chassis import forms, laying, operations, searching, sheets, variants
from bold_anode.chassis.drawing import drawn
from bold_anode.chassis.figures import feeds, said_of, selected
from bold_anode.chassis.models import KeptSize
from bold_anode.chassis.section import in_section
from bold_anode.frame.parsing import whole_number
from bold_anode.frame.refusing import refuse
from bold_anode.frame.requests import Request
from bold_anode.frame.versioned import Stale
from thermionic.chassis import editing, offers
from thermionic.chassis.arranging import SCHOOLS, arranged
from thermionic.chassis.bodies import bodies
from thermionic.chassis.document import Box, Layout, LayoutRefused, read_layout
from thermionic.chassis.fitting_in import misfits
from thermionic.earths.schools import WHY
from thermionic.errors import ThermionicError

Change = Callable[[Layout], tuple[Layout, str]]


def laid_flat(request: Request, project: Any) -> dict[str, Any]:
    """What the drawing and the figures beside it need."""
    standing = laying.standing(project)
    now = laying.laid(project, standing.layout)
    wrong = misfits(now.bodies, standing.layout)
    side = _remembered(request, "inside")
    inside = side == "1"
    also = [key for key in forms.keys(_remembered(request, "also")) if standing.layout.of(key)]
    chosen = _remembered(request, "body")
    user = request.user
    return {
        **studies.shown(request, project, searching.CHANGES.slug),
        **studies.shown(request, project, searching.PROPOSAL.slug),
        "project": project,
        "standing": standing,
        "layout": standing.layout,
        "drawing": drawn(now, wrong, mirrored=inside),
        "section": in_section(now) if side == "2" else None,
        "side": side if side in ("1", "2") else "0",
        "also": also,
        "also_text": json.dumps(also),
        "kept_sizes": KeptSize.objects.of(user),
        "feeds": [feed for feed in feeds(now) if feed["near"]] if request.method == "GET" else [],
        "misfits": wrong,
        "hum": said_of(now),
        "selected": selected(now, chosen),
        "schools": SCHOOLS,
        "line_ups": editing.LINED_UP,
        "fittings": editing.FITTINGS,
        "materials": ("aluminium", "steel", "copper"),
        "builds": ("folded", "welded", "rack case", "bought or reused"),
        "earths": tuple(WHY),
        "sheet_mm": f"{standing.layout.box.sheet * 1e3:g}",
        "can_step_back": bool(standing.row and standing.row.can_undo()),
        "can_step_forward": bool(standing.row and standing.row.can_redo()),
    }


def _remembered(request: Request, name: str) -> str:
    """What the page shows: sent with a change, or in its address."""
    return request.POST.get(name) or request.GET.get(name, "")


def draw_layout(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The view of the layout."""
    return "chassis/layout.html", laid_flat(request, shown.project)


TABS = (
    Tab("layout", "Layout", draw_layout),
    Tab("wires", "Wires", sheets.draw_wires),
    Tab("warmth", "Warmth and weight", sheets.draw_warmth),
    Tab("variants", "Variants", variants.draw),
    Tab("drilling", "Drilling", sheets.draw_drilling),
)


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The room, by the view that is looked at."""
    return draw_chosen(request, shown, TABS)


@require_safe
def layout(request: Request, project_id: int) -> HttpResponse:
    """The drawing with the figures beside it, alone: another side of it, or another body looked at."""
    project = owned(request, project_id)
    try:
        return render(request, "chassis/laid.html", laid_flat(request, project))
    except ThermionicError as reason:
        return refuse(request, str(reason))


def _changed(request: Request, project_id: int, change: Change) -> HttpResponse:
    """The drawing after a change to an owned project's layout; to a page that was behind, as it stands now with the
    sentence that says so."""
    number = whole_number(request.POST.get("seen", ""))
    try:
        operations.change_layout(request.user, project_id, change, number)
    except Stale as reason:
        return _again(request, project_id, str(reason))
    except ThermionicError as reason:
        return refuse(request, str(reason))
    return _again(request, project_id)


def _again(request: Request, project_id: int, notice: str = "") -> HttpResponse:
    if not request.htmx:
        if notice:
            messages.error(request, notice)
        view = request.GET.get("tab", "")
        shown = f"?tab={view}" if view in {tab.slug for tab in TABS} else ""
        return redirect(reverse("room", args=[project_id, "chassis"]) + shown)
    try:
        context = laid_flat(request, owned(request, project_id)) | {"notice": notice, "fragment": True}
    except ThermionicError as reason:
        return refuse(request, str(reason))
    return render(request, "chassis/laid.html", context, status=422 if notice else 200)


@require_POST
def place(request: Request, project_id: int) -> HttpResponse:
    """Move, turn or fix a body."""
    amplifier = solved(owned(request, project_id).at).amplifier

    def change(layout: Layout) -> tuple[Layout, str]:
        body = editing.body_of(bodies(amplifier, layout), request.POST.get("body", ""))
        changes: dict[str, Any] = {}
        for name in ("u", "v", "raised"):
            length = forms.length(request.POST.get(name, ""))
            if length is not None:
                changes[name] = round(length, 5)
        turn = forms.number(request.POST.get("turn", ""))
        if turn is not None:
            changes["turn"] = round(turn % 360, 2) % 360
        if request.POST.get("face"):
            changes["face"] = request.POST["face"]
        for name in ("inside", "pinned"):
            if name in request.POST:
                changes[name] = request.POST[name] == "1"
        changes |= {name: value for name in ("mount", "screen", "coil", "strip", "earth_lug")
                    if (value := request.POST.get(name))}  # fmt: skip
        return editing.placed_at(layout, body, **changes)

    return _changed(request, project_id, change)


@require_POST
def arrange(request: Request, project_id: int) -> HttpResponse:
    """Arrange everything that is not pinned by a school."""
    school = request.POST.get("school", "")
    amplifier = solved(owned(request, project_id).at).amplifier

    def change(layout: Layout) -> tuple[Layout, str]:
        if school not in SCHOOLS:
            raise LayoutRefused(f"There is no such way to begin; there are {', '.join(SCHOOLS)}.")
        return arranged(bodies(amplifier, layout), amplifier.design, layout, school), f"arranged: {school}"

    return _changed(request, project_id, change)


@require_POST
def line_up(request: Request, project_id: int) -> HttpResponse:
    """Align, spread or mirror several bodies."""
    owned(request, project_id)
    keys, how = forms.keys(request.POST.get("bodies", "")), request.POST.get("how", "")
    return _changed(request, project_id, lambda layout: editing.lined_up(layout, keys, how))


@require_POST
def size(request: Request, project_id: int) -> HttpResponse:
    """The size of a body as it was measured, or one that the workshop keeps; kept there under a name if wanted."""
    project = owned(request, project_id)
    amplifier = solved(project.at).amplifier
    names = ("across", "along", "above", "below")
    kept = KeptSize.objects.of(request.user).filter(pk=whole_number(request.POST.get("kept", "")) or 0).first()

    def change(layout: Layout) -> tuple[Layout, str]:
        body = editing.body_of(bodies(amplifier, layout), request.POST.get("body", ""))
        if kept is not None:
            return editing.measured(layout, body, [kept.across, kept.along, kept.above, kept.below], kept.name)
        lengths = [forms.length(request.POST.get(name, "")) for name in names]
        if not any(lengths):
            return editing.measured(layout, body, None)
        if any(length is None for length in lengths):
            raise LayoutRefused("All four are wanted: across, along, above the sheet and below it (0 will do).")
        layout, note = editing.measured(layout, body, [length or 0.0 for length in lengths])
        if request.POST.get("keep", "").strip():
            operations.keep_size(request.user, request.POST["keep"], *(length or 0.0 for length in lengths))
        return layout, note

    return _changed(request, project_id, change)


@require_POST
def box(request: Request, project_id: int) -> HttpResponse:
    """Another box."""
    owned(request, project_id)

    def change(layout: Layout) -> tuple[Layout, str]:
        changes: dict[str, Any] = {}
        for name in Box.model_fields:
            if name not in request.POST:
                continue
            kind = Box.model_fields[name].annotation
            if kind is bool:
                changes[name] = request.POST[name] == "1"
            elif kind is float:
                changes[name] = forms.length(request.POST.get(name, "")) or 0.0
            else:
                changes[name] = request.POST[name]
        return editing.boxed(layout, **changes)

    return _changed(request, project_id, change)


@require_POST
def wire(request: Request, project_id: int) -> HttpResponse:
    """Shield a wire, or not; lay it by another way."""
    owned(request, project_id)
    key = request.POST.get("wire", "")

    def change(layout: Layout) -> tuple[Layout, str]:
        if request.POST.get("screen"):
            return editing.screened_at(layout, key, request.POST["screen"])
        if "shielded" in request.POST:
            return editing.shielded(layout, key, request.POST["shielded"] == "1")
        return editing.bent(layout, key, forms.bends(request.POST.get("bends", "")))

    return _changed(request, project_id, change)


@require_POST
def wiring(request: Request, project_id: int) -> HttpResponse:
    """How heaters are twisted and signal earth is wired."""
    owned(request, project_id)

    def change(layout: Layout) -> tuple[Layout, str]:
        if "colour" in request.POST:
            return editing.coloured(layout, request.POST.get("kind", ""), request.POST["colour"])
        if "measured" in request.POST:
            millivolt = forms.number(request.POST.get("measured", ""))
            return editing.with_fields(layout, measured_volt=millivolt / 1e3 if millivolt else None)
        if "heater_pitch" in request.POST:
            return editing.with_fields(layout, heater_pitch=forms.length(request.POST.get("heater_pitch", "")) or 0.0)
        earthing = layout.earthing.model_dump() | {
            name: request.POST[name] for name in ("school", "bolt") if name in request.POST
        }
        if "breaker" in request.POST:
            earthing["breaker"] = request.POST["breaker"] == "1"
        return editing.with_fields(layout, earthing=earthing)

    return _changed(request, project_id, change)


@require_POST
def fitting(request: Request, project_id: int) -> HttpResponse:
    """Put a foot, a vent or a meter in, or take one out."""
    owned(request, project_id)

    def change(layout: Layout) -> tuple[Layout, str]:
        if request.POST.get("out"):
            return editing.without_fitting(layout, request.POST["out"])
        return editing.with_fitting(layout, request.POST.get("kind", ""))

    return _changed(request, project_id, change)


@require_POST
def offer(request: Request, project_id: int) -> HttpResponse:
    """Make one of the changes that were computed for the layout as it stands."""
    project = owned(request, project_id)
    number = whole_number(request.POST.get("number", ""))
    amplifier = solved(project.at).amplifier

    def change(layout: Layout) -> tuple[Layout, str]:
        result = studies.result(request.user, project, searching.CHANGES)
        if result is None or number is None or number >= len(result):
            raise LayoutRefused("That change was computed for another state of the layout; try every one again.")
        return offers.made(bodies(amplifier, layout), layout, result[number]["what"])

    return _changed(request, project_id, change)


@require_POST
def proposal(request: Request, project_id: int) -> HttpResponse:
    """Take the layout that was searched for from the one that stands."""
    project = owned(request, project_id)

    def change(layout: Layout) -> tuple[Layout, str]:
        result = studies.result(request.user, project, searching.PROPOSAL)
        if result is None:
            raise LayoutRefused("That layout was searched for from another state; search again.")
        return read_layout(result["layout"]), "the layout that was searched for"

    return _changed(request, project_id, change)


@require_POST
def step(request: Request, project_id: int) -> HttpResponse:
    """Back to the layout before the last change, or forward again."""
    owned(request, project_id)
    number = whole_number(request.POST.get("seen", ""))
    move = operations.redo if request.POST.get("way") == "forward" else operations.undo
    try:
        move(request.user, project_id, number)
    except Stale as reason:
        return _again(request, project_id, str(reason))
    return _again(request, project_id)
