"""Variants of the design beside each other, and what each school would make of it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.http import HttpResponse
from django.shortcuts import render
from django.template import loader
from django.utils.safestring import SafeString, mark_safe
from django.views.decorators.http import require_POST, require_safe

from bold_anode.amps import variants as kept
from bold_anode.amps.models import Project
from bold_anode.amps.rooms import Shown, after, owned, seen
from bold_anode.amps.solved import solved
from bold_anode.amps.studies import shown as study_shown
from bold_anode.chain.comparison import HEADS, cells
from bold_anode.chain.drawing import drawing
from bold_anode.frame.parsing import whole_number
from bold_anode.frame.requests import Request
from thermionic.design import Design
from thermionic.errors import ThermionicError
from thermionic.performance.comparing import Difference, compared, differences
from thermionic.performance.schools import made
from thermionic.schematic import signal_sheet


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The tab; against the variant asked for, the first other one otherwise."""
    project = shown.project
    all_kept = list(project.variants.select_related("head"))
    others = [one for one in all_kept if one.pk != project.variant_id]
    asked = whole_number(request.GET.get("against", ""))
    against = next((other for other in others if other.pk == asked), others[0] if others else None)
    amplifier = shown.solved.amplifier
    context: dict[str, Any] = {
        "variants": all_kept,
        "heads": (*HEADS, "Cost"),
        "cells": cells(amplifier.load, compared(amplifier, shown.solved.findings)),
        "others": others,
        "against": against,
        **study_shown(request, project, "schools"),
    }
    if against is not None:
        try:
            other = solved(against.head)
        except ThermionicError as reason:
            context["refusal"] = str(reason)
        else:
            sheet = drawing(signal_sheet(amplifier.design), amplifier, other.amplifier)
            context["drawing"] = _svg(sheet)
            result = differences(other.amplifier.design, amplifier.design)
            context["differences"] = [_said(one) for one in result if one.path != "name"]
    return "chain/variants.html", context


def _svg(sheet: Any) -> SafeString:
    context = {"sheet": sheet, "title": "Signal path, differences marked", "stage": ""}
    return mark_safe(loader.render_to_string("chain/drawing.svg", context))


def _said(one: Difference) -> dict[str, str]:
    words = [word.replace("_", " ") for word in one.path.split("/")[1:]]
    return {"where": ", ".join([words[0].capitalize(), *words[1:]]), "first": one.first, "second": one.second}


@require_safe
def row(request: Request, project_id: int, variant_id: int) -> HttpResponse:
    """The numbers of a variant that is not worked on, solved if need be."""
    project = owned(request, project_id)
    variant = kept.variant_of(project, variant_id)
    context: dict[str, Any] = {"project": project, "variant": variant, "loaded": True}
    try:
        now, other = solved(project.at), solved(variant.head)
        numbers = compared(other.amplifier, other.findings)
        context["cells"] = cells(other.amplifier.load, numbers, compared(now.amplifier, []))
    except ThermionicError as reason:
        context["refusal"] = str(reason)
    return render(request, "chain/variant.html", context)


@require_POST
def keep(request: Request, project_id: int) -> HttpResponse:
    """A new variant: of the design as it is, or as a school would have it."""
    school = request.POST.get("school", "")
    name = request.POST.get("name", "")

    def change(design: Design) -> tuple[Design, str]:
        after, result = made(solved(owned(request, project_id).at).amplifier, school)
        return after, f"{result.title.lower()}"

    return _done(
        request,
        project_id,
        lambda: kept.keep(request.user, project_id, name, change if school else None, seen(request)),
    )


@require_POST
def choose(request: Request, project_id: int, variant_id: int) -> HttpResponse:
    """Work on a variant."""
    return _done(request, project_id, lambda: kept.choose(request.user, project_id, variant_id))


@require_POST
def rename(request: Request, project_id: int, variant_id: int) -> HttpResponse:
    """Give a variant another name, and say what it costs."""
    name, cost = request.POST.get("name", ""), request.POST.get("cost", "")
    return _done(request, project_id, lambda: kept.rename(request.user, project_id, variant_id, name, cost))


@require_POST
def drop(request: Request, project_id: int, variant_id: int) -> HttpResponse:
    """Delete a variant."""
    return _done(request, project_id, lambda: kept.drop(request.user, project_id, variant_id))


def _done(request: Request, project_id: int, do: Callable[[], Project]) -> HttpResponse:
    """The room after a change to the variants."""
    return after(request, project_id, "chain", do, "variants")
