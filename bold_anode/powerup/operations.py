"""Every change to stored readings."""

from __future__ import annotations

from typing import Any

from django.http import Http404

from bold_anode.amps.models import Project, Revision
from bold_anode.powerup.models import Reading, ReadingSet
from bold_anode.powerup.plans import plan_for
from bold_anode.tasks import operations as tasks
from bold_anode.tasks.kinds import Report
from bold_anode.tasks.models import Work
from thermionic.edition import edition
from thermionic.errors import ValueRefused
from thermionic.powerup import Step, signatures
from thermionic.values import Quantity, parse

LIKELY_FAULTS = "likely faults"
CHANNELS = {1: ("",), 2: ("left", "right")}


def step_named(name: str) -> Step:
    """The step of that name. Raises ValueRefused."""
    try:
        return Step(name)
    except ValueError:
        raise ValueRefused("Readings are taken with no tubes fitted, or with all tubes in.") from None


def start_set(user: Any, project_id: int, step: str, mains: str, channel: str) -> ReadingSet:
    """A new round of readings on the project's current revision. Raises ValueRefused, NoSolution."""
    project = Project.objects.of(user).select_related("current").filter(pk=project_id).first()
    if project is None:
        raise Http404
    return start_set_on(project.at, step_named(step), parse(mains, Quantity.VOLTAGE), channel)


def start_set_on(revision: Revision, step: Step, mains_volt: float, channel: str) -> ReadingSet:
    """A new round of readings on a revision. Raises ValueRefused, NoSolution."""
    design = revision.design
    rated = next((block.primary_volt for block in design.blocks if hasattr(block, "primary_volt")), design.mains[0])
    if not 0.3 * rated <= mains_volt <= 1.3 * rated:
        raise ValueRefused(
            f"{mains_volt:g} V is no mains voltage for a {rated:g} V primary; "
            f"{0.3 * rated:.0f} to {1.3 * rated:.0f} V is."
        )
    channels = CHANNELS[design.channels]
    if channel not in channels:
        channel = channels[0]
    _ = plan_for(revision, step, mains_volt)
    return ReadingSet.objects.create(
        project=revision.project, revision=revision, step=step.value, channel=channel, mains_volt=mains_volt
    )


def owned_set(user: Any, set_id: int) -> ReadingSet:
    """The user's own set of readings. Raises Http404 for any other."""
    sets = ReadingSet.objects.filter(project__owner=user, project__deleted_at=None)
    reading_set = sets.select_related("revision", "project").filter(pk=set_id).first()
    if reading_set is None:
        raise Http404
    return reading_set


def take_reading(user: Any, set_id: int, point: str, typed: str) -> ReadingSet:
    """Keep a reading as typed; empty text takes the last one back. Raises Http404, ValueRefused."""
    reading_set = owned_set(user, set_id)
    plan = plan_for(reading_set.revision, Step(reading_set.step), reading_set.mains_volt)
    if point not in {known.key for known in plan.points}:
        raise ValueRefused(f"There is no test point {point[:40]} at this step.")
    volt = parse(typed, Quantity.VOLTAGE) if typed.strip() else None
    Reading.objects.create(reading_set=reading_set, point=point, volt=volt)
    return reading_set


def likely_faults(user: Any, reading_set: ReadingSet, *, again: bool = False) -> Work:
    """The work of solving a reading set's circuit with each fault in it, asked for where it has not been; ``again``
    asks anew for what was refused or cancelled. Raises ValueRefused."""
    revision, step, mains = reading_set.revision, reading_set.step, reading_set.mains_volt
    about = f"{edition()} {revision.document_hash} {step} {mains!r}"
    work = tasks.asked(user, LIKELY_FAULTS, about)
    if work is None or (again and work.is_off):
        return tasks.ask(user, LIKELY_FAULTS, about, {"step": step, "mains_volt": mains}, revision)
    return work


def solve_faults(work: Work, report: Report) -> list[list[float] | None]:
    """What every test point reads with each fault in the circuit: the work of ``likely_faults``."""
    assert work.revision is not None
    plan = plan_for(work.revision, Step(work.arguments["step"]), work.arguments["mains_volt"])
    return signatures(plan, lambda part: report(part, "Solving the circuit with each simple fault in it"))
