"""Power-up plans, solved once in each process and kept."""

from __future__ import annotations

from threading import Condition

from cachetools import LRUCache, cached
from django.conf import settings

from bold_anode.amps.models import Revision
from bold_anode.powerup.models import ReadingSet
from thermionic import budget
from thermionic.powerup import METER_OHM, Plan, Step, plan

KEPT = 12


def plan_of(reading_set: ReadingSet) -> Plan:
    """The plan that a set of readings is judged by. Raises NoSolution, BudgetSpent."""
    return plan_for(reading_set.revision, Step(reading_set.step), reading_set.mains_volt, reading_set.meter_ohm)


def _key(revision: Revision, step: Step, mains_volt: float, meter_ohm: float = METER_OHM) -> tuple[object, ...]:
    return revision.document_hash, step, mains_volt, meter_ohm


# Who asks for a plan that another is solving waits for it; who asks for another does not.
@cached(LRUCache(maxsize=KEPT), key=_key, condition=Condition())
def plan_for(revision: Revision, step: Step, mains_volt: float, meter_ohm: float = METER_OHM) -> Plan:
    """The plan for a step of a revision's power-up on that mains, read with that meter. Raises NoSolution,
    BudgetSpent."""
    with budget.limit(settings.SOLVE_SECONDS):
        return plan(revision.design, step, mains_volt, meter_ohm)
