"""The solved result of a design: computed once, kept by the document's hash in each process, and what took long to
solve in a folder that the processes share."""

from __future__ import annotations

import pickle
import time
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from threading import BoundedSemaphore, Lock

from cachetools import LRUCache
from django.conf import settings
from django.core.cache import caches
from django.db import connection

from bold_anode.amps.models import Revision, hash_of
from bold_anode.frame.shares import SHARES
from thermionic import budget, findings
from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.design import Design
from thermionic.edition import edition
from thermionic.lazily import lazily

# Of solutions in one process, bytes: some 50 of a small amplifier, before and after an edit of a whole workshop, or
# 25 of a large one.
KEPT_BYTES = 14_000_000
# What took less to solve is solved again in another process: fetching it would hardly be sooner.
WORTH_SHARING_SECONDS = 0.4


@dataclass(frozen=True, eq=False)
class Solved:
    """A solved amplifier and what the findings say of it."""

    amplifier: SolvedAmplifier

    @lazily
    def findings(self) -> list[findings.Finding]:
        """All findings, worst first. Raises ThermionicError, of which BudgetSpent where they take too long."""
        with budget.limit(settings.SOLVE_SECONDS):
            findings_of_all_rules = findings.examine(self.amplifier)
        self.amplifier.stand_alone()
        return findings_of_all_rules

    @property
    def is_examined(self) -> bool:
        """Whether the findings have been computed already."""
        return "findings" in vars(self)

    @property
    def is_cured(self) -> bool:
        """Whether the findings and the cure of each are known."""
        return self.is_examined and all(finding.is_cure_known for finding in self.findings)

    def look_for_cures(self) -> bool:
        """Find what cures each finding, while nobody's edit waits for it; what takes too long goes without.

        False, and nothing is looked for, where this process is looking for others' already.
        """
        if not _searches.acquire(blocking=False):
            return False
        try:
            with budget.limit(settings.SOLVE_SECONDS, meanwhile=SHARES.edits_first):
                for finding in self.findings:
                    _ = finding.cure
        finally:
            _searches.release()
        return True


def _weight(found: Solved) -> int:
    """The memory that it takes, bytes, within a fifth or so: its matrices, its solutions over a period, and the names
    of its parts. Six have room, however large they are."""
    unknowns = found.amplifier.state.at.system.size
    return min(8 * unknowns * (10 * unknowns + 400) + 100_000, KEPT_BYTES // 6)


# One search for cures at a time: they can wait, and what waits holds a thread.
_searches = BoundedSemaphore(1)
_kept: LRUCache[str, Solved] = LRUCache(maxsize=KEPT_BYTES, getsizeof=_weight)
_lock = Lock()


def _recall(key: str) -> Solved | None:
    with _lock:
        result: Solved | None = _kept.get(key)
        return result


def _keep(key: str, found: Solved) -> Solved:
    with _lock:
        _kept[key] = found
    return found


def _shared_key(key: str) -> str:
    return f"{edition()}-{key}"


def _fetch(key: str) -> Solved | None:
    """What another process has solved and shared."""
    packed = caches["solutions"].get(_shared_key(key))
    return None if packed is None else _keep(key, Solved(pickle.loads(zlib.decompress(packed))))


def _share(key: str, found: Solved) -> None:
    caches["solutions"].set(_shared_key(key), zlib.compress(pickle.dumps(found.amplifier, protocol=5), 1))


@contextmanager
def _alone(key: str) -> Iterator[None]:
    """Within, no other process solves the same document, nor another thread of this one."""
    number = int(key[:15], 16)
    with connection.cursor() as cursor:
        cursor.execute("SELECT pg_advisory_lock(%s)", [number])
        try:
            yield
        finally:
            cursor.execute("SELECT pg_advisory_unlock(%s)", [number])


def solved_design(design: Design, near: Solved | None = None) -> Solved:
    """The solution of a design; ``near`` is one of a similar design to start from. Raises ThermionicError."""
    key = hash_of(design)
    result = _recall(key) or _fetch(key)
    if result is not None:
        return result
    with _alone(key):
        result = _recall(key) or _fetch(key)
        if result is not None:  # by whoever was before us
            return result
        began = time.thread_time()  # its own work: how busy the machine is does not count
        with budget.limit(settings.SOLVE_SECONDS):
            result = Solved(solve(design, near.amplifier if near else None))
            # A design that has no steady state when it is driven is refused here, before it is stored.
            _ = result.amplifier.sweep
        if time.thread_time() - began > WORTH_SHARING_SECONDS:
            _share(key, result)
        return _keep(key, result)


def solved(revision: Revision) -> Solved:
    """The solution of a stored revision. Raises ThermionicError."""
    return _recall(revision.document_hash) or solved_design(revision.design)
