"""Unknown transformers: led from reading to reading, and what they tell."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST, require_safe

from bold_anode.frame.refusing import refuse
from bold_anode.frame.requests import Request
from bold_anode.frame.rows import each
from bold_anode.iron import operations
from bold_anode.iron.models import UnknownIron
from thermionic.errors import ThermionicError
from thermionic.iron.meaning import LOUDSPEAKERS, AsMains, AsOutput, as_mains, as_output, kind_of
from thermionic.iron.readings import Voltage
from thermionic.iron.unknown import Contradiction, Found, Winding
from thermionic.values import Quantity, display


@require_safe
def page(request: Request) -> HttpResponse:
    """The unknown transformers, and a form to begin another."""
    unknowns, unreadable = each(UnknownIron.objects.of(request.user), _checked)
    return render(request, "iron/unknown_list.html", {"unknowns": unknowns, "unreadable": unreadable})


def _checked(unknown: UnknownIron) -> UnknownIron:
    unknown.check_content()
    return unknown


@require_POST
def begin(request: Request) -> HttpResponse:
    """Begin with a transformer's leads."""
    try:
        unknown = operations.begin_unknown(request.user, request.POST.get("name", ""), request.POST.get("leads", ""))
    except ThermionicError as reason:
        return refuse(request, str(reason))
    return _to(request, unknown.pk)


@require_safe
def one(request: Request, unknown_id: int) -> HttpResponse:
    """One transformer: its readings, what they tell, the next to take."""
    unknown = operations.unknown_of(request.user, unknown_id)
    try:
        unknown.check_content()
    except ThermionicError as reason:
        return refuse(request, str(reason))
    return render(request, "iron/unknown.html", _context(unknown))


@require_POST
def read(request: Request, unknown_id: int) -> HttpResponse:
    """A reading."""
    typed = {name: str(text) for name, text in request.POST.items()}
    return _changed(request, unknown_id, lambda: operations.read_unknown(request.user, unknown_id, typed))


@require_POST
def take_back(request: Request, unknown_id: int, place: int) -> HttpResponse:
    """A reading taken back."""
    return _changed(request, unknown_id, lambda: operations.take_back(request.user, unknown_id, place))


@require_POST
def describe(request: Request, unknown_id: int) -> HttpResponse:
    """Its core's size, and the mains."""
    core, mains = request.POST.get("core", ""), request.POST.get("mains", "")
    return _changed(request, unknown_id, lambda: operations.describe_unknown(request.user, unknown_id, core, mains))


@require_POST
def forget(request: Request, unknown_id: int) -> HttpResponse:
    """Delete it."""
    operations.forget_unknown(request.user, unknown_id)
    return redirect("unknown-iron")


def _changed(request: Request, unknown_id: int, do: Any) -> HttpResponse:
    try:
        unknown = do()
    except ThermionicError as reason:
        return refuse(request, str(reason))
    if request.htmx:
        return render(request, "iron/unknown_body.html", _context(unknown))
    return _to(request, unknown_id)


def _to(request: Request, unknown_id: int) -> HttpResponse:
    return redirect("unknown-iron-one", unknown_id)


def _context(unknown: UnknownIron) -> dict[str, Any]:
    result = unknown.found
    readings = unknown.read
    applied = next((reading for reading in reversed(readings) if isinstance(reading, Voltage)), None)
    kind = kind_of(result, unknown.mains_volt)
    return {
        "unknown": unknown,
        "found": result,
        "readings": [{"words": reading.words, "value": _said(reading)} for reading in readings],
        "windings": [_winding(winding) for winding in result.windings],
        "contradictions": [_contradiction(contradiction) for contradiction in result.contradictions],
        "applied": applied,
        "next": result.next,
        "kind": kind,
        "output": _output(result, unknown),
        "mains": _mains(result, unknown),
        "senses": [
            f"{a} and {b} {'go up together' if together else 'go against each other'}"
            for (a, b), together in result.senses.items()
        ],
    }


def _said(reading: Any) -> str:
    if isinstance(reading, Voltage):
        return display(reading.volt, Quantity.VOLTAGE)
    return "open" if reading.ohm is None else display(reading.ohm, Quantity.RESISTANCE)


def _winding(winding: Winding) -> dict[str, Any]:
    """A winding with its leads placed along a line, 0 to 100."""
    marks = winding.turns or winding.ohms
    whole = marks[-1] if marks and marks[-1] > 0 else None
    places = [100.0 * at / whole for at in marks] if marks and whole else []
    if not places:
        places = [100.0 * at / max(len(winding.leads) - 1, 1) for at in range(len(winding.leads))]
    return {
        "leads": [
            {"name": lead, "x": f"{40 + 5.2 * at:.1f}", "centre": lead == winding.centre,
             "volt": display(winding.turns[place], Quantity.VOLTAGE) if winding.turns else "",
             "ohm": display(winding.ohms[place], Quantity.RESISTANCE) if winding.ohms else ""}
            for place, (lead, at) in enumerate(zip(winding.leads, places, strict=True))
        ],
        "sure": winding.sure,
    }  # fmt: skip


def _contradiction(one: Contradiction) -> dict[str, str]:
    quantity = Quantity.VOLTAGE if isinstance(one.reading, Voltage) else Quantity.RESISTANCE
    said = "open" if one.said == float("inf") else display(one.said, quantity)
    expected = display(one.expected, quantity) if one.expected == one.expected else "something else"
    others = " or the ".join(other.words for other in one.others[:3])
    return {"words": one.reading.words, "said": said, "expected": expected, "others": others}


def _output(found: Found, unknown: UnknownIron) -> dict[str, Any] | None:
    output: AsOutput | None = as_output(found, unknown.core_cm2)
    if output is None:
        return None
    return {
        "primary": " to ".join((output.primary.leads[0], output.primary.leads[-1])),
        "centre": output.centre,
        "screen_taps": [f"{lead} at {share:.0%}" for lead, share in output.screen_taps],
        "loudspeakers": [f"{ohm:g} Ω" for ohm in LOUDSPEAKERS],
        "taps": [
            {
                "leads": f"{tap.a} to {tap.b}",
                "ratio": f"{tap.ratio:.3g} : 1",
                "cells": [
                    {"ohm": display(ohm, Quantity.RESISTANCE), "suits": suits}
                    for ohm, suits in zip(tap.primary_ohm, tap.suits, strict=True)
                ],
            }
            for tap in output.taps
        ],
        "ampere": display(output.ampere, Quantity.CURRENT, 2) if output.ampere else "",
        "watt": display(output.watt, Quantity.POWER, 2) if output.watt else "",
    }


def _mains(found: Found, unknown: UnknownIron) -> dict[str, Any] | None:
    mains: AsMains | None = as_mains(found, unknown.mains_volt, core_cm2=unknown.core_cm2)
    if mains is None:
        return None
    return {
        "primary": " to ".join((mains.primary.leads[0], mains.primary.leads[-1])),
        "volt_ampere": f"{mains.volt_ampere:.0f} VA" if mains.volt_ampere else "",
        "rows": [
            {
                "leads": ", ".join(secondary.winding.leads),
                "volt": display(secondary.volt, Quantity.VOLTAGE)
                + (" each half" if secondary.winding.centre else ""),
                "what": secondary.what or "cannot tell",
                "direct": display(secondary.direct_volt, Quantity.VOLTAGE, 2) if secondary.direct_volt else "",
                "ampere": display(secondary.ampere, Quantity.CURRENT, 2) if secondary.ampere else "",
            }
            for secondary in mains.secondaries
        ],
    }
