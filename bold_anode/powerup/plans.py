"""Power-up plans, solved once in each worker and kept."""

from __future__ import annotations

from threading import Lock

from cachetools import LRUCache

from bold_anode.amps.models import Revision
from bold_anode.powerup.models import ReadingSet
from thermionic.powerup import METER_OHM, Plan, Step, plan

KEPT = 12
_lock = Lock()
_kept: LRUCache[tuple[str, Step, float, float], Plan] = LRUCache(maxsize=KEPT)


def plan_of(reading_set: ReadingSet) -> Plan:
    """The plan that a set of readings is judged by. Raises NoSolution."""
    return plan_for(reading_set.revision, Step(reading_set.step), reading_set.mains_volt, reading_set.meter_ohm)


def plan_for(revision: Revision, step: Step, mains_volt: float, meter_ohm: float = METER_OHM) -> Plan:
    """The plan for a step of a revision's power-up on that mains, read with that meter. Raises NoSolution."""
    key = (revision.document_hash, step, mains_volt, meter_ohm)
    with _lock:  # several readings of one page must not solve the same plan side by side
        found: Plan | None = _kept.get(key)
        if found is None:
            found = _kept[key] = plan(revision.design, step, mains_volt, meter_ohm)
    return found
