"""The lists that go to the bench: wires, warmth and weight, the holes to drill; and the holes of a box that is
there."""

from __future__ import annotations

from typing import Any

from django.http import Http404, HttpResponse
from django.views.decorators.http import require_POST, require_safe

from bold_anode.amps.rooms import Shown, after, owned
from bold_anode.amps.solved import solved
from bold_anode.chassis import laying, operations
from bold_anode.chassis.figures import feeds
from bold_anode.frame.apart import apart
from bold_anode.frame.parsing import whole_number
from bold_anode.frame.refusing import refuse
from bold_anode.frame.requests import Request
from thermionic.chassis import drilling
from thermionic.chassis.bodies import bodies
from thermionic.chassis.document import FACES, Layout, LayoutRefused, changed_layout
from thermionic.chassis.reading_holes import MOST_BYTES, read_holes
from thermionic.chassis.stability import NEAR_DB
from thermionic.chassis.warmth import GAP, MOST_RISE, warmth
from thermionic.chassis.weighing import LIFTED, weight
from thermionic.chassis.wirelist import runs, screened, totals
from thermionic.errors import ThermionicError
from thermionic.values import Quantity, display


def draw_wires(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The wire list."""
    standing = laying.standing(shown.project)
    now = laying.laid(shown.project, standing.layout)
    result = runs(now)
    return "chassis/wires.html", {
        "standing": standing,
        "runs": [
            {"key": one.key, "kind": one.kind, "from": one.from_, "to": one.to, "what": one.what,
             "mm": f"{one.metres * 1e3:.0f}", "gauge": f"{one.gauge:g} mm²", "colour": one.colour,
             "shielded": one.shielded,
             "screen": standing.layout.choice(one.key).screen, "can_shield": one.kind in ("signal", "feedback")}
            for one in result
        ],
        "totals": [
            {"kind": kind, "metres": f"{metres:.1f} m", "colour": colour, "gauge": f"{gauge:g} mm²"}
            for kind, metres, colour, gauge in totals(result)
        ],
        "feeds": feeds(now),
        "near_db": f"{NEAR_DB:.0f} dB",
        "screened": [
            {"what": f"{one.run.from_} to {one.run.to}", "farad": display(one.farad, Quantity.CAPACITANCE, 2),
             "ohm": display(one.ohm, Quantity.RESISTANCE, 2),
             "corner": display(min(one.hertz, 9.9e8), Quantity.FREQUENCY, 2), "lost": f"{one.lost:.2f} dB"}
            for one in screened(now)
        ],
    }  # fmt: skip


def draw_warmth(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """Heat and weight."""
    standing = laying.standing(shown.project)
    now = laying.laid(shown.project, standing.layout)
    heat, load = warmth(now), weight(now)
    box = standing.layout.box
    return "chassis/warmth.html", {
        "standing": standing,
        "watt": f"{heat.watt:.0f} W", "inside_watt": f"{heat.inside_watt:.0f} W",
        "inside": f"{heat.inside_celsius:.0f} °C", "vents": f"{heat.vents * 1e4:.1f} cm²",
        "wanted": f"{heat.wanted_vents * 1e4:.0f} cm²" if heat.wanted_vents > heat.vents else "",
        "most_rise": f"{MOST_RISE:.0f} K", "rule": f"{GAP:g}",
        "capacitors": [
            {"name": capacitor.body.title, "celsius": f"{capacitor.celsius:.0f} °C",
             "hours": f"{capacitor.hours:,.0f} h".replace(",", "\u2009") if capacitor.hours
             else "its ripple rating is not known",
             "hot": capacitor.celsius > 60}
            for capacitor in heat.capacitors
        ],
        "others": [
            {"name": other.body.title, "celsius": f"{other.celsius:.0f} °C", "watt": f"{other.body.watt:.1f} W",
             "hot": other.celsius > 85}
            for other in heat.others
        ],
        "gaps": [
            {"words": f"{gap.one.title} and {gap.other.title}", "gap": f"{gap.gap * 1e3:.0f} mm",
             "wanted": f"{gap.wanted * 1e3:.0f} mm"}
            for gap in heat.gaps
        ],
        "kg": f"{load.kg:.1f} kg", "box_kg": f"{load.box_kg:.1f} kg",
        "balance": f"{load.balance[0] * 1e3:.0f} mm from the left of {box.width * 1e3:.0f}, "
        f"{load.balance[1] * 1e3:.0f} mm from the front of {box.depth * 1e3:.0f}",
        "handles": load.wants_handles, "lifted": f"{LIFTED:.0f} kg",
        "stands_on": ", ".join(body.title for body in load.stands_on), "steady": load.steady,
        "has_handles": any(fitting.kind == "handle" for fitting in standing.layout.fittings),
        "iron": [
            {"key": body.key, "title": body.title,
             "measured": next((one for one in standing.layout.strays if one.body == body.key), None)}
            for body in now.bodies if body.nature.mains_iron or body.nature.gapped
        ],
    }  # fmt: skip


def draw_drilling(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """What is to be drilled."""
    standing = laying.standing(shown.project)
    amplifier = solved(shown.project.at).amplifier
    result = drilling.holes(bodies(amplifier, standing.layout), standing.layout)
    return "chassis/drilling.html", {
        "standing": standing,
        "faces": [face for face in FACES if any(hole.face == face for hole in result)],
        "papers": tuple(drilling.PAPERS),
        "there": len(standing.layout.holes),
        "all_faces": FACES,
        "holes": [
            {"number": number + 1, "face": one.face, "u": f"{one.u * 1e3:.1f}", "v": f"{one.v * 1e3:.1f}",
             "size": drilling.size_of(one), "what": one.what, "tool": one.tool, "keyway": one.keyway}
            for number, one in enumerate(result)
        ],
    }  # fmt: skip


@require_safe
def drill(request: Request, project_id: int, name: str) -> HttpResponse:
    """A file to drill by: template-A4.pdf, holes.csv, box.dxf, top.svg and so on."""
    project = owned(request, project_id)
    try:
        layout = laying.standing(project).layout
        result = drilling.holes(bodies(solved(project.at).amplifier, layout), layout)
    except ThermionicError as reason:
        return refuse(request, str(reason))
    faces = [face for face in FACES if any(hole.face == face for hole in result)]
    stem, _, ending = name.rpartition(".")
    if ending == "pdf" and stem.removeprefix("template-") in drilling.PAPERS:
        paper = stem.removeprefix("template-")
        return _file(drilling.pdf(result, layout, faces, paper), "application/pdf", name)
    if name == "holes.csv":
        return _file(drilling.table(result).encode(), "text/csv; charset=utf-8", name)
    if name == "box.dxf":
        return _file(drilling.dxf(result, layout, faces).encode(), "application/dxf", name)
    if ending == "svg" and stem in FACES:
        face = next(face for face in FACES if face == stem)
        return _file(drilling.svg(result, layout, face).encode(), "image/svg+xml", name)
    raise Http404


def _file(content: bytes, kind: str, name: str) -> HttpResponse:
    response = HttpResponse(content, content_type=kind)
    response["Content-Disposition"] = f'attachment; filename="{name}"'
    return response


@require_POST
def take_holes(request: Request, project_id: int) -> HttpResponse:
    """The holes of a box that is there, on one of its faces; an empty file takes those of the face out."""
    owned(request, project_id)
    number = whole_number(request.POST.get("seen", ""))
    upload, wanted = request.FILES.get("file"), request.POST.get("face", "")

    def change(layout: Layout) -> tuple[Layout, str]:
        face = next((face for face in FACES if face == wanted), None)
        if face is None:
            raise LayoutRefused(f"Holes are on one of the faces: {', '.join(FACES)}.")
        others = [hole.model_dump() for hole in layout.holes if hole.face != face]
        if upload is None:
            return changed_layout(layout, holes=others), f"holes of the {face} out"
        result = apart(read_holes, upload.read(MOST_BYTES + 1), str(upload.name), face, layout.box)
        upload.seek(0)  # for another try, where the layout was changed meanwhile
        box = layout.box.model_copy(update={"built": "bought or reused"})
        after_ = changed_layout(layout, holes=[*others, *(one.model_dump() for one in result)], box=box.model_dump())
        return after_, f"{len(result)} holes of the {face} read"

    return after(
        request, project_id, "chassis",
        lambda: operations.change_layout(request.user, project_id, change, number), "drilling",
    )  # fmt: skip


@require_POST
def stray(request: Request, project_id: int) -> HttpResponse:
    """What somebody measured of a stray field: the mV in a search coil, or µT."""
    owned(request, project_id)
    number = whole_number(request.POST.get("seen", ""))

    def change(layout: Layout) -> tuple[Layout, str]:
        body = request.POST.get("body", "")
        kept = [one.model_dump() for one in layout.strays if one.body != body]
        if not request.POST.get("millivolt", "").strip():
            return changed_layout(layout, strays=kept), "measured field out"
        typed = [_positive(request, name) for name in ("millivolt", "turns", "square", "distance")]
        millivolt, turns, square, distance = typed
        hertz = solved(owned(request, project_id).at).amplifier.design.brief.mains_hertz
        # Faraday: V = 2 pi f N A B, all rms.
        tesla = millivolt * 1e-3 / (2 * 3.141592653589793 * hertz * turns * square * 1e-4)
        measured = {"body": body, "microtesla": tesla * 1e6, "distance": distance * 1e-3}
        return changed_layout(layout, strays=[*kept, measured]), f"{tesla * 1e6:.1f} µT measured"

    return after(
        request, project_id, "chassis",
        lambda: operations.change_layout(request.user, project_id, change, number), "warmth",
    )  # fmt: skip


def _positive(request: Request, name: str) -> float:
    typed = request.POST.get(name, "").strip().replace(",", ".")
    words = {"millivolt": "the coil's mV", "turns": "its turns", "square": "its area in cm²", "distance": "mm"}[name]
    try:
        value = float(typed)
    except ValueError:
        value = 0.0
    if not 1e-6 < value < 1e6:
        raise LayoutRefused(f"“{typed[:20]}” will not do for {words}: a number above nothing is wanted.")
    return value
