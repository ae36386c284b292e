"""The tube drawer: the library's types, and those that the user measured."""

from __future__ import annotations

import math
from typing import Any

from django.contrib import messages
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST, require_safe

from bold_anode.tubes import operations
from bold_anode.tubes.curves import sheet
from bold_anode.tubes.models import KINDS, OwnTube
from thermionic import tubes
from thermionic.errors import FitRefused, ThermionicError

MOST_UPLOAD = 500_000
_KIND_WORDS = {
    "triode": "triode",
    "pentode": "pentode",
    "rectifier": "rectifier",
    "regulator": "gas regulator",
    "diode": "diodes",
    "indicator": "tuning indicator",
}


@require_safe
def drawer(request: HttpRequest) -> HttpResponse:
    """The user's own types with their fits, a form for another, and the library."""
    return _drawn(request, {})


def _drawn(request: HttpRequest, typed: dict[str, str], status: int = 200) -> HttpResponse:
    own = [
        {
            "tube": tube,
            "kind": dict(KINDS)[tube.kind],
            "sheet": sheet(tube),
            "count": len(tube.fitted["residuals"]),
            "rms": tube.fitted["rms_error"] * 100,
            "worst": max((abs(v) for row in tube.fitted["residuals"] for v in row.values()), default=0.0) * 100,
        }
        for tube in OwnTube.objects.of(request.user).order_by("name")
    ]
    context = {"own": own, "kinds": KINDS, "typed": typed, "library": [_row(tube) for tube in _sorted()]}
    return render(request, "tubes/drawer.html", context, status=status)


def _sorted() -> list[tubes.TubeType]:
    order = ("triode", "triode-diode", "triode-pentode", "pentode", "rectifier", "regulator", "indicator")
    return sorted(tubes.all_types().values(), key=lambda tube: (order.index(tube.kind), tube.type))


def _row(tube: tubes.TubeType) -> dict[str, Any]:
    """One line of the library: what it is, and how far its model is from its published points."""
    off = []
    for unit in tube.units:
        if unit.kind in ("triode", "pentode"):
            device = tube.device(unit)
            off += [abs(tubes.errors(device, point)["anode_a"]) for point in unit.points]
        off += [abs(tubes.drop_error(tube.rectifier(), drop)) for drop in unit.drops]
    unsure = any(
        point.unsure for unit in tube.units for point in (*unit.points, *unit.drops)
    ) or tube.has("regulator")  # fmt: skip
    return {
        "tube": tube,
        "kind": " and ".join(_KIND_WORDS[unit.kind] for unit in tube.units),
        "points": len(off),
        "off": f"{max(1, math.ceil(max(off) * 100))} %" if off else "",
        "unsure": unsure,
    }


@require_POST
def add(request: HttpRequest) -> HttpResponse:
    """A type fitted to pasted or uploaded points; a refusal keeps what was typed."""
    typed = {key: request.POST.get(key, "") for key in ("name", "kind", "points", "anode_volt", "anode_watt")}
    upload = request.FILES.get("file")
    try:
        if upload:
            try:
                typed["points"] = upload.read(MOST_UPLOAD).decode("utf-8-sig")
            except UnicodeDecodeError:
                raise FitRefused(f"{upload.name[:60]} is not a text file in UTF-8.") from None
        tube = operations.add_tube(
            request.user, typed["name"], typed["kind"], typed["points"], typed["anode_volt"], typed["anode_watt"]
        )
    except ThermionicError as reason:
        messages.error(request, str(reason))
        return _drawn(request, typed, status=422)
    messages.success(request, f"{tube.name} fitted, {tube.fitted['rms_error'] * 100:.1f} % rms in its main figure.")
    return redirect("tubes")


@require_POST
def remove(request: HttpRequest, tube_id: int) -> HttpResponse:
    """Take one out."""
    messages.warning(request, f"{operations.remove_tube(request.user, tube_id)} taken out of the drawer.")
    return redirect("tubes")
