"""Every change to stored readings."""

from __future__ import annotations

from typing import Any

from django.shortcuts import get_object_or_404

from bold_anode.amps.models import Revision
from bold_anode.amps.operations import owned
from bold_anode.powerup.models import LEAST_METER, MOST_METER, Reading, ReadingSet
from bold_anode.powerup.plans import plan_for, plan_of
from bold_anode.tasks import operations as tasks
from bold_anode.tasks.kinds import Report
from bold_anode.tasks.models import Work
from thermionic.edition import edition
from thermionic.errors import ValueRefused
from thermionic.powerup import METER_OHM, Step, signatures
from thermionic.powerup.plan import rated_mains
from thermionic.values import Quantity, parse

LIKELY_FAULTS = "likely faults"
CHANNELS = {1: ("",), 2: ("left", "right")}


def step_named(name: str) -> Step:
    """The step of that name. Raises ValueRefused."""
    try:
        return Step(name)
    except ValueError:
        raise ValueRefused("Readings are taken with no tubes fitted, or with all tubes in.") from None


def start_set(user: Any, project_id: int, step: str, mains: str, channel: str, meter: str = "") -> ReadingSet:
    """A new round of readings on the project's current revision; ``meter`` is the meter's input resistance as typed,
    10 MΩ if it is empty. Raises ValueRefused, NoSolution."""
    project = owned(user, project_id)
    meter_ohm = parse(meter, Quantity.RESISTANCE) if meter.strip() else METER_OHM
    if not LEAST_METER <= meter_ohm <= MOST_METER:
        raise ValueRefused(f"{meter[:20]} is no meter's input resistance; 1k to 1T is. Most have 10M.")
    return start_set_on(project.at, step_named(step), parse(mains, Quantity.VOLTAGE), channel, meter_ohm)


def start_set_on(
    revision: Revision, step: Step, mains_volt: float, channel: str, meter_ohm: float = METER_OHM
) -> ReadingSet:
    """A new round of readings on a revision. Raises ValueRefused, NoSolution."""
    design = revision.design
    rated = rated_mains(design)
    if not 0.3 * rated <= mains_volt <= 1.3 * rated:
        raise ValueRefused(
            f"{mains_volt:g} V is no mains voltage for a {rated:g} V primary; "
            f"{0.3 * rated:.0f} to {1.3 * rated:.0f} V is."
        )
    channels = CHANNELS[design.channels]
    if channel not in channels:
        channel = channels[0]
    reading_set = ReadingSet(
        project=revision.project, revision=revision, step=step.value, channel=channel, mains_volt=mains_volt,
        meter_ohm=meter_ohm,
    )  # fmt: skip
    _ = plan_of(reading_set)
    reading_set.save()
    return reading_set


def owned_set(user: Any, set_id: int) -> ReadingSet:
    """The user's own set of readings. Raises Http404 for any other."""
    sets = ReadingSet.objects.filter(project__owner=user, project__deleted_at=None)
    reading_set: ReadingSet = get_object_or_404(sets.select_related("revision", "project"), pk=set_id)
    return reading_set


def take_reading(user: Any, set_id: int, point: str, typed: str) -> ReadingSet:
    """Keep a reading as typed; empty text takes the last one back. Raises Http404, ValueRefused."""
    reading_set = owned_set(user, set_id)
    plan = plan_of(reading_set)
    if point not in {known.key for known in plan.points}:
        raise ValueRefused(f"There is no test point {point[:40]} at this step.")
    volt = parse(typed, Quantity.VOLTAGE) if typed.strip() else None
    Reading.objects.create(reading_set=reading_set, point=point, volt=volt)
    return reading_set


def likely_faults(user: Any, reading_set: ReadingSet, *, again: bool = False) -> Work:
    """The work of solving a reading set's circuit with each fault in it, asked for where it has not been; ``again``
    asks anew for what was refused or cancelled. Raises ValueRefused."""
    revision, step = reading_set.revision, reading_set.step
    mains, meter = reading_set.mains_volt, reading_set.meter_ohm
    about = f"{edition()} {revision.document_hash} {step} {mains!r} {meter!r}"
    work = tasks.asked(user, LIKELY_FAULTS, about)
    if work is None or (again and work.is_off):
        return tasks.ask(
            user, LIKELY_FAULTS, about, {"step": step, "mains_volt": mains, "meter_ohm": meter}, revision
        )
    return work


def solve_faults(work: Work, report: Report) -> list[list[float] | None]:
    """What every test point reads with each fault in the circuit: the work of ``likely_faults``."""
    assert work.revision is not None
    asked = {"meter_ohm": METER_OHM, **work.arguments}  # work from before it was asked for names no meter
    plan = plan_for(work.revision, Step(asked["step"]), asked["mains_volt"], asked["meter_ohm"])
    return signatures(plan, lambda part: report(part, "Solving the circuit with each simple fault in it"))
