"""The tube drawer: the library's types, and those that the user measured."""

from __future__ import annotations

import math
from typing import Any

from django.contrib import messages
from django.core.files.uploadedfile import UploadedFile
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST, require_safe

from bold_anode.frame.parsing import whole_number
from bold_anode.frame.requests import Request
from bold_anode.frame.rows import each
from bold_anode.tasks import operations as tasks
from bold_anode.tasks.models import State, Work
from bold_anode.tasks.operations import is_worker_alive
from bold_anode.tubes import operations
from bold_anode.tubes.curves import sheet
from bold_anode.tubes.models import KINDS, OwnTube
from bold_anode.tubes.operations import Measured
from thermionic import tubes
from thermionic.devices import Pentode, Triode
from thermionic.errors import FitRefused, ThermionicError
from thermionic.text import readable

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
def drawer(request: Request) -> HttpResponse:
    """The user's own types with their fits, a form for another, and the library."""
    return _drawn(request, {})


def _drawn(request: Request, typed: dict[str, str], status: int = 200) -> HttpResponse:
    own, unreadable = each(OwnTube.objects.of(request.user).order_by("name"), _own_row)
    library = [_row(tube) for tube in _sorted()]
    context = {
        "own": own,
        "unreadable": unreadable,
        "kinds": KINDS,
        "typed": typed,
        "library": library,
        **_fits(request),
    }
    return render(request, "tubes/drawer.html", context, status=status)


def _own_row(tube: OwnTube) -> dict[str, Any]:
    """A type of the user's own with its curves. Raises ThermionicError where it cannot be read."""
    fitted = tube.fit
    return {
        "tube": tube,
        "kind": dict(KINDS)[tube.kind],
        "sheet": sheet(tube),
        "count": len(fitted.residuals),
        "rms": fitted.rms * 100,
        "worst": max((abs(value) for row in fitted.residuals for value in row.values()), default=0.0) * 100,
    }


def _sorted() -> list[tubes.TubeType]:
    order = ("triode", "triode-diode", "triode-pentode", "pentode", "rectifier", "regulator", "indicator")
    return sorted(tubes.all_types().values(), key=lambda tube: (order.index(tube.kind), tube.type))


def _row(tube: tubes.TubeType) -> dict[str, Any]:
    """One line of the library: what it is, and how far its model is from its published points."""
    off = []
    for unit in tube.units:
        if unit.kind in ("triode", "pentode"):
            device = tube.device(unit)
            assert isinstance(device, (Triode, Pentode))
            off += [abs(tubes.errors(device, point)["anode_a"]) for point in unit.points]
        off += [abs(tubes.drop_error(tube.rectifier(), drop)) for drop in unit.drops]
    published = [point.unsure for unit in tube.units for point in unit.points]
    published += [drop.unsure for unit in tube.units for drop in unit.drops]
    unsure = any(published) or tube.has("regulator")
    return {
        "tube": tube,
        "kind": " and ".join(_KIND_WORDS[unit.kind] for unit in tube.units),
        "points": len(off),
        "off": f"{max(1, math.ceil(max(off) * 100))} %" if off else "",
        "unsure": unsure,
    }


@require_POST
def add(request: Request) -> HttpResponse:
    """A type fitted to pasted or uploaded points; a refusal keeps what was typed."""
    typed = {key: request.POST.get(key, "") for key in ("name", "kind", "points", "anode_volt", "anode_watt")}
    upload = request.FILES.get("file")
    try:
        if upload:
            typed["points"] = _text_of(upload)
        measured = Measured(**{**typed, "name": typed["name"].strip()})
        if measured.kind in operations.FITTED_BY_A_WORKER:
            operations.ask_for_tube(request.user, measured)
            return redirect("tubes")
        tube = operations.add_tube(request.user, measured)
    except ThermionicError as reason:
        messages.error(request, str(reason))
        return _drawn(request, typed, status=422)
    messages.success(request, f"{tube.name} fitted, {tube.fitted['rms_error'] * 100:.1f} % rms in its main figure.")
    return redirect("tubes")


def _text_of(upload: UploadedFile[Any]) -> str:
    """What an uploaded table says. Raises ThermionicError."""
    try:
        return readable(upload.read(MOST_UPLOAD).decode("utf-8-sig"))
    except UnicodeDecodeError:
        raise FitRefused(f"{(upload.name or 'The file')[:60]} is not a text file in UTF-8.") from None


@require_safe
def fitting(request: Request) -> HttpResponse:
    """How far the fits are that workers are at; once one has ended, the page is to be loaded again."""
    works = _fits(request)
    response = render(request, "tubes/fitting.html", works)
    if whole_number(request.GET.get("of", "")) != works["fits_under_way"]:
        response["HX-Refresh"] = "true"
    return response


def _fits(request: Request) -> dict[str, Any]:
    fits = Work.objects.of(request.user).filter(kind=operations.FITTING).exclude(state=State.DONE)
    under_way = sum(work.is_under_way for work in fits)
    return {"fits": fits, "fits_under_way": under_way, "worker_alive": not under_way or is_worker_alive()}


@require_POST
def forget_fits(request: Request) -> HttpResponse:
    """Take away what was refused or cancelled."""
    tasks.forget(request.user, operations.FITTING)
    return redirect("tubes")


@require_POST
def remove(request: Request, tube_id: int) -> HttpResponse:
    """Take one out."""
    messages.warning(request, f"{operations.remove_tube(request.user, tube_id)} taken out of the drawer.")
    return redirect("tubes")
