"""The house's mains: the builder's log of it, and what a transformer's taps make of it."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from django.views.decorators.http import require_POST

from bold_anode.amps.rooms import Shown, after, owned, seen
from bold_anode.frame.requests import Request
from bold_anode.rails import operations
from bold_anode.rails.models import MainsReading
from thermionic.supplies.moments import house_volts
from thermionic.supplies.taps import Way, ways
from thermionic.values import Quantity, display

_SHOWN = 12


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The tab."""
    amplifier = shown.solved.amplifier
    low, usual, high = house_volts(amplifier.design)
    brief = amplifier.design.brief
    log = MainsReading.objects.of(request.user)
    result = ways(amplifier)
    rails = [rail.name for rail in amplifier.compiled.rails]
    return "rails/mains.html", {
        "log": log[:_SHOWN],
        "count": log.count(),
        "spread": operations.spread(request.user),
        "house": {"low": f"{low:g}", "usual": f"{usual:g}", "high": f"{high:g}",
                  "read": brief.mains_high_volt is not None},
        "rails": [name.replace("_", " ") for name in rails],
        "ways": [_row(one, rails) for one in result],
    }  # fmt: skip


def _row(way: Way, rails: list[str]) -> dict[str, Any]:
    return {
        "key": way.key,
        "words": way.words,
        "now": way.now,
        "refusal": way.refusal,
        "rails": [display(way.rails[name], Quantity.VOLTAGE) if name in way.rails else "" for name in rails],
        "heater": f"{way.heater:.0%}" if way.heater is not None else "",
        "heater_high": f"{way.heater_high:.0%}" if way.heater_high is not None else "",
        "watt": display(way.watt, Quantity.POWER) if way.watt else "",
    }


@require_POST
def read(request: Request, project_id: int) -> HttpResponse:
    """Write a reading down."""

    def change() -> None:
        owned(request, project_id)
        operations.add_reading(request.user, request.POST.get("volt", ""), request.POST.get("when", ""))

    return after(request, project_id, "rails", change, "mains")


@require_POST
def forget(request: Request, project_id: int, reading_id: int) -> HttpResponse:
    """Take a reading out."""

    def change() -> None:
        owned(request, project_id)
        operations.remove_reading(request.user, reading_id)

    return after(request, project_id, "rails", change, "mains")


@require_POST
def use(request: Request, project_id: int) -> HttpResponse:
    """Take this project's mains from the log."""
    owned(request, project_id)
    number = seen(request)
    return after(
        request, project_id, "rails", lambda: operations.use_readings(request.user, project_id, number), "mains"
    )


@require_POST
def selenium(request: Request, project_id: int) -> HttpResponse:
    """Replace a selenium rectifier."""
    block, number = request.POST.get("block", ""), seen(request)
    return after(
        request, project_id, "rails", lambda: operations.replace_selenium(request.user, project_id, block, number)
    )


@require_POST
def take(request: Request, project_id: int) -> HttpResponse:
    """Meet the mains by one of the ways."""
    key = request.POST.get("way", "")
    return after(
        request,
        project_id,
        "rails",
        lambda: operations.take_way(request.user, project_id, key, seen(request)),
        "mains",
    )
