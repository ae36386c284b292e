"""Power-up plans, solved once in each worker and kept."""

from __future__ import annotations

from threading import Lock

from cachetools import LRUCache

from bold_anode.amps.models import Revision
from thermionic.powerup import Plan, Step, plan

KEPT = 12
_lock = Lock()
_kept: LRUCache[tuple[str, Step, float], Plan] = LRUCache(maxsize=KEPT)


def plan_for(revision: Revision, step: Step, mains_volt: float) -> Plan:
    """The plan for a step of a revision's power-up on that mains. Raises NoSolution."""
    key = (revision.document_hash, step, mains_volt)
    with _lock:  # several readings of one page must not solve the same plan side by side
        found: Plan | None = _kept.get(key)
        if found is None:
            found = _kept[key] = plan(revision.design, step, mains_volt)
    return found
