"""The shelf: the workshop's own iron, and putting it into a project."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST, require_safe

from bold_anode.amps.rooms import Shown, after, seen
from bold_anode.frame.parsing import whole_number
from bold_anode.frame.refusing import refuse
from bold_anode.frame.requests import Request
from bold_anode.frame.rows import each
from bold_anode.iron import operations
from bold_anode.iron.models import KINDS, SOURCES, ShelfItem
from thermionic.design.iron import FIGURES, FigureOf, places_for
from thermionic.errors import ThermionicError


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The tab: what is on the shelf, and where in this project each could go."""
    design = shown.solved.amplifier.design
    places = {kind: places_for(design, kind) for kind, _ in KINDS}
    items = ShelfItem.objects.of(request.user).select_related("project__current")
    rows, unreadable = each(items, lambda item: {**_row(item), "places": places[item.kind]})
    return "iron/shelf.html", {
        "rows": rows,
        "unreadable": unreadable,
        **_forms(),
    }


@require_safe
def page(request: Request) -> HttpResponse:
    """The shelf by itself."""
    items = ShelfItem.objects.of(request.user).select_related("project__current")
    rows, unreadable = each(items, _row)
    return render(request, "iron/shelf_page.html", {"rows": rows, "unreadable": unreadable, **_forms()})


def _row(item: ShelfItem) -> dict[str, Any]:
    return {
        "item": item,
        "kind": item.get_kind_display(),
        "figures": [
            {
                "name": figure.name,
                "words": figure.words,
                "unit": figure.unit,
                "choices": figure.choices,
                "text": item.figures.get(figure.name, {}).get("text", ""),
                "said": _said(item, figure),
                "from": item.figures.get(figure.name, {}).get("from", "assumed"),
            }
            for figure in FIGURES[item.kind]
        ],
    }


def _said(item: ShelfItem, one: FigureOf) -> str:
    """A figure with its unit; "" where it is not known."""
    text = item.figures.get(one.name, {}).get("text", "")
    return one.said(text) if text else ""


def _forms() -> dict[str, Any]:
    return {
        "kinds": [(kind, words, FIGURES[kind]) for kind, words in KINDS],
        "sources": SOURCES,
    }


def _typed(request: Request) -> dict[str, tuple[str, str]]:
    """Every figure that a form holds, with where it came from."""
    result = {}
    for name, text in request.POST.items():
        if name.startswith("figure-"):
            key = name.removeprefix("figure-")
            result[key] = (str(text), request.POST.get(f"from-{key}", "assumed"))
    return result


@require_POST
def add(request: Request) -> HttpResponse:
    """A piece of iron onto the shelf."""
    try:
        operations.add_item(
            request.user, request.POST.get("kind", ""), request.POST.get("name", ""), request.POST.get("state", ""),
            request.POST.get("place", ""), _typed(request),
        )  # fmt: skip
    except ThermionicError as reason:
        return refuse(request, str(reason))
    return _back(request)


@require_POST
def change(request: Request, item_id: int) -> HttpResponse:
    """What is known of a piece, written down anew."""
    try:
        operations.change_item(
            request.user, item_id, request.POST.get("name", ""), request.POST.get("state", ""),
            request.POST.get("place", ""), _typed(request),
        )  # fmt: skip
    except ThermionicError as reason:
        return refuse(request, str(reason))
    return _back(request)


@require_POST
def remove(request: Request, item_id: int) -> HttpResponse:
    """A piece off the shelf."""
    operations.remove_item(request.user, item_id)
    return _back(request)


@require_POST
def put_back(request: Request, item_id: int) -> HttpResponse:
    """A piece out of the project that holds it."""
    operations.put_back(request.user, item_id)
    return _back(request)


def _back(request: Request) -> HttpResponse:
    """To the project's shelf that the form came from, else the shelf by itself."""
    project = whole_number(request.POST.get("project", ""))
    address = f"/amps/{project}/iron/?tab=shelf" if project is not None else "/shelf/"
    if request.htmx:
        return HttpResponse(headers={"HX-Redirect": address})
    return redirect(address)


@require_POST
def use(request: Request, project_id: int, item_id: int) -> HttpResponse:
    """A piece into this project."""
    path = request.POST.get("path", "")
    return after(
        request,
        project_id,
        "iron",
        lambda: operations.use_item(request.user, project_id, item_id, path, seen(request)),
        "shelf",
    )


@require_POST
def origin(request: Request, project_id: int) -> HttpResponse:
    """Where a value of this project's iron came from."""
    path, source = request.POST.get("path", ""), request.POST.get("source", "")
    return after(request, project_id, "iron", lambda: operations.say_origin(request.user, project_id, path, source))
