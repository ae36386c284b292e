"""Power-up: test points with what they should read, readings judged, and the likeliest reasons for wrong ones."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_http_methods, require_POST

from bold_anode.amps.rooms import Shown
from bold_anode.frame.parsing import whole_number
from bold_anode.frame.refusing import refuse
from bold_anode.frame.requests import Request
from bold_anode.powerup import operations
from bold_anode.powerup.models import ReadingSet
from bold_anode.powerup.plans import plan_for, plan_of
from bold_anode.tasks.models import State
from bold_anode.tasks.operations import is_worker_alive
from thermionic.errors import ThermionicError
from thermionic.powerup import METER_OHM, Plan, Step, discharge_seconds, judge, reasons
from thermionic.values import Quantity, written

_LOW_VOLT = 1.0  # what a capacitor has across it at least to be listed, V


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The room, at the step and the set of readings asked for."""
    project = shown.project
    asked = whole_number(request.GET.get("set", ""))
    reading_set = None
    if asked is not None:
        reading_set = project.reading_sets.select_related("revision").filter(pk=asked).first()
    wanted = request.GET.get("step", "")
    step = Step(reading_set.step) if reading_set else Step(wanted) if wanted in {s.value for s in Step} else None
    if reading_set is None:
        sets = project.reading_sets.select_related("revision")
        reading_set = (sets.filter(step=step.value) if step else sets).first()
        step = step or (Step(reading_set.step) if reading_set else Step.NO_TUBES)
    assert step is not None
    design = shown.solved.amplifier.design
    mains = reading_set.mains_volt if reading_set else design.brief.mains_volt
    revision = reading_set.revision if reading_set else project.at
    plan = plan_for(revision, step, mains, reading_set.meter_ohm if reading_set else METER_OHM)
    return "powerup/powerup.html", {
        **_judged(plan, reading_set),
        "step": step,
        "steps": [(one, one.title_for(plan.design)) for one in Step],
        "plan": plan,
        "revision": revision,
        "sets": project.reading_sets.select_related("revision")[:20],
        "channels": operations.CHANNELS[design.channels],
        "mains": f"{mains:g}",
        "meter": written(plan.meter_ohm, Quantity.RESISTANCE),
        "held": [capacitor for capacitor in plan.capacitors if capacitor.volt > _LOW_VOLT],
        "discharge": discharge_seconds(plan),
        "load_ohm": plan.compiled.load.ohm,
        "power": plan.compiled.load.power,
    }


def _judged(plan: Plan, reading_set: ReadingSet | None) -> dict[str, Any]:
    """The table's rows with their verdicts, for the page and for its fragments.

    Readings are judged at once. The reasons for wrong ones need every fault solved: the page asks for them.
    """
    readings = reading_set.latest() if reading_set else {}
    judgements = {point.key: judge(point, readings[point.key]) for point in plan.points if point.key in readings}
    rows = [{"point": point, "judgement": judgements.get(point.key)} for point in plan.points]
    wrong = [judgement for judgement in judgements.values() if not judgement.verdict.good]
    return {
        "rows": rows,
        "readings": readings,
        "taken": len(readings),
        "wrong": wrong,
        "stop": any(judgement.verdict.stop for judgement in wrong),
        "pending": bool(wrong),
        "reading_set": reading_set,
    }


@require_POST
def start(request: Request, project_id: int) -> HttpResponse:
    """A new set of readings."""
    try:
        reading_set = operations.start_set(
            request.user,
            project_id,
            request.POST.get("step", ""),
            request.POST.get("mains", ""),
            request.POST.get("channel", ""),
            request.POST.get("meter", ""),
        )
    except ThermionicError as reason:
        return refuse(request, str(reason))
    address = f"/amps/{project_id}/power-up/?set={reading_set.pk}"
    if request.htmx:
        return HttpResponse(headers={"HX-Redirect": address})
    return redirect(address)


@require_POST
def reading(request: Request, set_id: int) -> HttpResponse:
    """One reading typed in: its row comes back judged, and with it what the whole set amounts to."""
    point = request.POST.get("point", "")
    try:
        reading_set = operations.take_reading(request.user, set_id, point, request.POST.get("volt", ""))
        plan = plan_of(reading_set)
    except ThermionicError as reason:
        return refuse(request, str(reason))
    judged = _judged(plan, reading_set)
    judged["row"] = next(row for row in judged["rows"] if row["point"].key == point)
    return render(request, "powerup/reading.html", judged)


@require_http_methods(["GET", "HEAD", "POST"])
def meaning(request: Request, set_id: int) -> HttpResponse:
    """What a set of readings amounts to, or how far a worker is with solving every fault; a POST asks for that once
    more."""
    reading_set = operations.owned_set(request.user, set_id)
    try:
        plan = plan_of(reading_set)
        judged = _judged(plan, reading_set)
        if judged["wrong"]:
            work = operations.likely_faults(request.user, reading_set, again=request.method == "POST")
            done = work.state == State.DONE
            judged |= {
                "work": work,
                "worker_alive": is_worker_alive(),
                "reasons": reasons(plan, judged["readings"], work.result or []) if done else [],
                "pending": False,
            }
    except ThermionicError as reason:
        return refuse(request, str(reason))
    return render(request, "powerup/reasons.html", judged)
