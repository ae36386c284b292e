"""Earths: which wire carries whose return current, drawn over the layout; its schools, its faults, protective
earth."""

from __future__ import annotations

from dataclasses import dataclass
from math import log10
from typing import Any

from django.http import HttpResponse
from django.views.decorators.http import require_POST

from bold_anode.amps.rooms import Shown, after, owned
from bold_anode.amps.tabs import Tab, draw_chosen
from bold_anode.chassis import laying, operations
from bold_anode.chassis.drawing import Flat, drawn
from bold_anode.chassis.figures import against_of, where_of
from bold_anode.frame.parsing import whole_number
from bold_anode.frame.requests import Request
from thermionic.chassis.document import Layout, LayoutRefused
from thermionic.chassis.earthing import AGED_OHM, BOLT_OHM
from thermionic.chassis.editing import with_fields
from thermionic.chassis.laid import Laid
from thermionic.earths.faults import faults, tried
from thermionic.earths.protective import Verdict, points
from thermionic.earths.returns import EarthLink, Returns, returns
from thermionic.earths.schools import WHY, compared
from thermionic.values import Quantity, display

_ROWS, _LOST = 14, 0.1  # V at the load, past which a stage has lost its return rather than hums


@dataclass(frozen=True)
class EarthRun:
    """An earth wire as drawn: its points, its thickness by current, its class by voltage, its words."""

    points: str
    width: str
    level: int
    title: str
    pulses: bool


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The room, by the view that is looked at."""
    return draw_chosen(request, shown, TABS)


def _laid(shown: Shown) -> tuple[laying.Standing, Laid]:
    standing = laying.standing(shown.project)
    return standing, laying.laid(shown.project, standing.layout)


def _micro(volt: float) -> str:
    return display(volt, Quantity.VOLTAGE, 2) if volt > 1e-10 else "nothing"


def _picture(now: Laid, found: Returns) -> dict[str, Any]:
    """The drawing with the earth wires over it."""
    flat = Flat(now.layout.box, False)
    volts = {node.key: node.volt for node in found.nodes}
    most = max(volts.values(), default=0.0) or 1.0
    runs = []
    for link in found.links:
        if link.points is None:
            continue
        places = [flat.point("top", float(x), float(y)) for x, y in link.points]
        level = max(volts.get(end, 0.0) for end in link.ends) / most
        runs.append(EarthRun(
            " ".join(f"{x:.1f},{y:.1f}" for x, y in places),
            f"{min(1.0 + 1.4 * max(_decades(link.ampere), 0.0), 8.0):.1f}",
            min(int(4 * level), 3), _said(link), link.pulses,
        ))  # fmt: skip
    return {"drawing": drawn(now, ()), "earth_runs": runs, "most": _micro(most)}


def _decades(ampere: float) -> float:
    """Decades over 10 µA."""
    return log10(max(ampere, 1e-12) / 1e-5)


def _said(link: EarthLink) -> str:
    return f"{link.name}: {display(link.ampere, Quantity.CURRENT, 2)} in {display(link.ohm, Quantity.RESISTANCE, 2)}"


def _figures(now: Laid, found: Returns) -> dict[str, Any]:
    return {
        "where": where_of(now),
        "against": against_of(now),
        "load": _micro(found.load_volt),
        "below": f"{found.below(found.load_volt):.0f} dB" if found.load_volt > 1e-9 else "no",
        "crosstalk": f"{found.crosstalk_db:.0f} dB" if found.crosstalk_db is not None else "",
        "grids": [
            {"name": grid.name, "volt": _micro(grid.volt), "at_load": _micro(grid.at_load)} for grid in found.grids
        ],
        "links": [
            {"name": one.name, "ampere": display(one.ampere, Quantity.CURRENT, 2),
             "ohm": display(one.ohm, Quantity.RESISTANCE, 2), "hertz": f"{one.hertz:.0f} Hz", "pulses": one.pulses}
            for one in sorted(found.links, key=lambda link: -link.ampere)[:_ROWS]
        ],
        "loops": [
            {"name": loop.name, "area": f"{loop.area * 1e4:.0f} cm²", "emf": _micro(loop.emf),
             "ampere": display(loop.ampere, Quantity.CURRENT, 2)}
            for loop in found.loops[:_ROWS]
        ],
    }  # fmt: skip


def draw_network(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The network over the layout."""
    standing, now = _laid(shown)
    result = returns(now)
    return "chassis/network.html", {
        "standing": standing, "earthing": standing.layout.earthing, **_picture(now, result), **_figures(now, result),
        "bolts": ("inputs", "supply"),
    }  # fmt: skip


def draw_schools(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """Every school in this layout."""
    standing, now = _laid(shown)
    hum = now.hum
    return "chassis/earth_schools.html", {
        "standing": standing,
        "where": where_of(now),
        "against": against_of(now),
        "fresh": f"{BOLT_OHM * 1e3:g} mΩ", "old": f"{AGED_OHM * 1e3:g} mΩ",
        "schools": [
            {"name": one.school, "now": one.now, "why": one.why, "returned": _micro(one.returned),
             "returned_db": f"{hum.below(one.returned):.0f} dB" if one.returned > 1e-9 else "",
             "field_db": f"{hum.below(one.by_field):.0f} dB",
             "all": f"{hum.below(one.hum):.0f} dB",
             "aged": f"{hum.below(one.aged_hum):.0f} dB",
             "wire": f"{one.wire:.1f} m", "loops": one.loops,
             "crosstalk": f"{one.crosstalk:.0f} dB" if one.crosstalk is not None else "one channel"}
            for one in compared(now)
        ],
    }  # fmt: skip


def draw_faults(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """A fault put in, and how it is found."""
    standing, now = _laid(shown)
    wanted = request.GET.get("fault", "")
    result = tried(now, wanted)
    context: dict[str, Any] = {
        "standing": standing, "faults": [{"key": fault.key, "words": fault.words} for fault in faults(now)],
        "fault": wanted,
    }  # fmt: skip
    if result is not None:
        fault, wrong, back = result
        hum = now.hum
        lost = back.load_volt > _LOST
        context |= {
            "found": fault.words, "lost": lost, "with": f"{hum.below(wrong.hum.volt):.0f} dB",
            "without": f"{hum.below(hum.volt):.0f} dB", "probe": fault.probe_words,
            "reads": "nothing: open" if fault.reads > 1e5 else display(fault.reads, Quantity.RESISTANCE, 2),
            "should": display(max(fault.should, 1e-4), Quantity.RESISTANCE, 2),
            "fine": abs(fault.reads - fault.should) < 0.2, **_picture(wrong, back), **_figures(now, back),
        }  # fmt: skip
    return "chassis/earth_faults.html", context


def draw_protective(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """Protective earth, point by point."""
    standing, now = _laid(shown)
    kinds = {Verdict.AMISS: "cannot", Verdict.LOOK: "awkward", Verdict.SEEN: "seen"}
    return "chassis/protective.html", {
        "standing": standing,
        "points": [
            {"about": point.about, "kind": kinds[point.verdict], "verdict": point.verdict.value, "words": point.words}
            for point in points(now)
        ],
    }


TABS = (
    Tab("network", "Network", draw_network),
    Tab("schools", "Schools", draw_schools),
    Tab("faults", "Faults to try", draw_faults),
    Tab("protective", "Protective earth", draw_protective),
)


@require_POST
def set_earthing(request: Request, project_id: int) -> HttpResponse:
    """How signal earth is wired: a school, where it meets the chassis, whether with a loop breaker."""
    owned(request, project_id)
    number = whole_number(request.POST.get("seen", ""))
    view = request.POST.get("view", "network")

    def change(layout: Layout) -> tuple[Layout, str]:
        earthing = layout.earthing.model_dump()
        for name in ("school", "bolt"):
            if name in request.POST:
                earthing[name] = request.POST[name]
        for name in ("breaker", "jacks_insulated"):
            if name in request.POST:
                earthing[name] = request.POST[name] == "1"
        if "school" in request.POST and earthing["school"] not in WHY:
            raise LayoutRefused(f"Signal earth is wired as one of {', '.join(WHY)}.")
        return with_fields(layout, earthing=earthing)

    def store() -> None:
        operations.change_layout(request.user, project_id, change, number)

    return after(request, project_id, "earths", store, view if view in {tab.slug for tab in TABS} else "")
