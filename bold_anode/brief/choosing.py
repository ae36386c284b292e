"""The topology chooser: starting designs for what the brief asks, compared, and the chosen one made the design."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from django.db.models import Q
from django.http import Http404, HttpResponse
from django.views.decorators.http import require_POST

from bold_anode.amps import operations, studies
from bold_anode.amps.models import Project
from bold_anode.amps.rooms import after, owned, seen
from bold_anode.amps.studies import Arguments, Study
from bold_anode.frame.requests import Request
from bold_anode.tasks.kinds import Report
from bold_anode.tasks.models import State
from thermionic import design as documents
from thermionic import tubes
from thermionic.amplifier import SolvedAmplifier, needs
from thermionic.design import Design
from thermionic.design.iron import Piece
from thermionic.errors import ValueRefused
from thermionic.performance.choosing import choose
from thermionic.performance.comparing import Comparison
from thermionic.performance.wanted import Wanted
from thermionic.values import Quantity, display, parse

SORTS = (
    ("loudspeaker", "a power amplifier for loudspeakers"),
    ("headphones", "a headphone amplifier"),
    ("phono", "a phono preamplifier"),
    ("line", "a line preamplifier"),
)
SCREENS = ("", "triode", "ultra-linear", "pentode")
_MOST_TUBES = 40


def first(amplifier: SolvedAmplifier) -> dict[str, str]:
    """What the form begins with: what the brief asks, on this design's load."""
    needed = needs(amplifier.compiled)
    return {
        "sort": "headphones" if amplifier.load.ear_db else "loudspeaker" if amplifier.load.power else "line",
        "watt": display(needed.power_watt, Quantity.POWER, 2) if needed.power_watt else "",
        "load_ohm": display(amplifier.load.ohm, Quantity.RESISTANCE),
    }


def _read(request: Request, project: Project) -> Arguments:
    """What a form asks for, and the iron on the shelf that no other amplifier holds. Raises ValueRefused,
    UnknownTube."""
    posted = request.POST
    sort, screens = posted.get("sort", ""), posted.get("screens", "")
    if sort not in dict(SORTS) or screens not in SCREENS:
        raise ValueRefused("Ask for an amplifier for loudspeakers or headphones, or a phono or line preamplifier.")
    names = [name for name in posted.get("tubes", "").replace(";", ",").split(",") if name.strip()]
    if len(names) > _MOST_TUBES:
        raise ValueRefused(f"Up to {_MOST_TUBES} types of tube can be at hand here.")
    power = sort in ("loudspeaker", "headphones")
    asked: Arguments = {"sort": sort, "screens": screens, "tubes": sorted({tubes.get(name).type for name in names})}
    for name, quantity, wanted, words in (
        ("watt", Quantity.POWER, power, "The power"),
        ("load_ohm", Quantity.RESISTANCE, power, "The load"),
        ("winding_volt", Quantity.VOLTAGE, False, "The winding"),
        ("highest_volt", Quantity.VOLTAGE, False, "The highest HT"),
    ):
        text = posted.get(name, "").strip()
        if not text and not wanted:
            continue
        try:
            asked[name] = parse(text, quantity)
        except ValueRefused as refusal:
            raise ValueRefused(f"{words}: {refusal}") from None
    gain = posted.get("gain_db", "").strip().removesuffix("dB").strip()
    if gain and not power:
        try:
            asked["gain_db"] = float(gain.replace(",", "."))
        except ValueError:
            raise ValueRefused("The gain is a number of dB, such as 40.") from None
        if not 0.0 <= asked["gain_db"] <= 80.0:
            raise ValueRefused("The gain is from 0 to 80 dB.")
    asked["iron"] = [
        {"name": item.name, "kind": item.kind, "figures": {name: one["text"] for name, one in item.figures.items()}}
        for item in _free_iron(request.user, project.pk)
    ]
    return asked


def _free_iron(user: Any, project_id: int) -> Any:
    """The pieces on the shelf that are in no other amplifier."""
    return user.iron.filter(Q(project=None) | Q(project=project_id) | Q(project__deleted_at__isnull=False))


def _make(amplifier: SolvedAmplifier, arguments: Arguments, report: Report) -> Any:
    design, source = amplifier.design, amplifier.compiled.source
    given = {
        **arguments,
        "tubes": tuple(arguments.get("tubes", ())),
        "iron": tuple(Piece(**one) for one in arguments.get("iron", ())),
    }
    wanted = Wanted(
        source_volt=source.volt, mains_volt=design.brief.mains_volt, mains_hertz=design.brief.mains_hertz,
        channels=design.channels, **given,
    )  # fmt: skip
    result = choose(wanted, lambda part, said: report(part, said))
    return [{**asdict(one), "design": documents.dump(one.design)} for one in result]


def _show(amplifier: SolvedAmplifier, result: Any, user: Any) -> dict[str, Any]:
    return {"done": True, "rows": [_row(place, one) for place, one in enumerate(result)]}


def _row(place: int, one: dict[str, Any]) -> dict[str, Any]:
    numbers = Comparison(**one["numbers"])
    power = any(block["kind"] in ("loudspeaker", "headphones") for block in one["design"]["blocks"])
    full = display(numbers.full, Quantity.POWER) if power else f"{display(numbers.full, Quantity.VOLTAGE)} rms"
    return {
        "place": place,
        "title": one["title"],
        "full": full,
        "low": f"{numbers.distortion:.2%}",
        "high": f"{numbers.distortion_full:.1%}",
        "damping": f"{numbers.damping:.3g}",
        "gain": f"{one['gain_db']:.0f} dB",
        "wall": display(numbers.wall_watt, Quantity.POWER),
        "rail": display(numbers.highest_rail, Quantity.VOLTAGE),
        "bottles": numbers.bottles,
        "tubes": ", ".join(one["tubes"]),
        "missing": ", ".join(one["missing"]) or "nothing",
        "iron": ", ".join(one["iron"]),
        "notes": sum(numbers.findings.values()),
    }


STUDY = Study("chooser", "brief/chooser.html", _make, _show, _read, at_once=False, long=True)


@require_POST
def take(request: Request, project_id: int, work_id: int, place: int) -> HttpResponse:
    """A proposal made the design, as one change that undo takes back; the brief and the name stay."""
    project = owned(request, project_id)
    work = studies.latest(request.user, project, STUDY)
    proposals = work.result if work is not None and work.pk == work_id and work.state == State.DONE else None
    if not proposals or place >= len(proposals):
        raise Http404
    proposal = proposals[place]

    def change(design: Design) -> tuple[Design, str]:
        raw = {**proposal["design"], "brief": documents.dump(design)["brief"], "name": design.name}
        return documents.validate(raw), proposal["title"].lower()

    def taken() -> Project:
        after_it = operations.change_design(request.user, project_id, change, seen(request))
        # What it takes from the shelf is held by it, as many of a name as there are channels.
        for name in proposal["iron"]:
            free = _free_iron(request.user, project_id).filter(name=name)
            some = free.values_list("pk", flat=True)[: proposal["design"]["channels"]]
            free.filter(pk__in=list(some)).update(project=project_id)
        return after_it

    return after(request, project_id, "brief", taken)
