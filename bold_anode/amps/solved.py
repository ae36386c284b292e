"""The solved result of a design, computed once in each worker and kept by the document's hash."""

from __future__ import annotations

from dataclasses import dataclass
from threading import Lock

from cachetools import LRUCache
from django.conf import settings

from bold_anode.amps.models import Revision, hash_of
from thermionic import budget, findings
from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.design import Design
from thermionic.lazily import lazily

KEPT = 64


@dataclass(frozen=True, eq=False)
class Solved:
    """A solved amplifier and what the findings say of it."""

    amplifier: SolvedAmplifier

    @lazily
    def findings(self) -> list[findings.Finding]:
        """All findings, worst first."""
        return findings.examine(self.amplifier)

    @property
    def is_cured(self) -> bool:
        """Whether the cure of every finding is known."""
        return all(finding.is_cure_known for finding in self.findings)

    def look_for_cures(self) -> None:
        """Find what cures each finding; what takes too long goes without."""
        with budget.limit(settings.SOLVE_SECONDS):
            for finding in self.findings:
                _ = finding.cure


_kept: LRUCache[str, Solved] = LRUCache(maxsize=KEPT)
_lock = Lock()


def _recall(key: str) -> Solved | None:
    with _lock:
        found: Solved | None = _kept.get(key)
        return found


def solved_design(design: Design, near: Solved | None = None) -> Solved:
    """The solution of a design; ``near`` is one of a similar design to start from. Raises ThermionicError."""
    key = hash_of(design)
    found = _recall(key)
    if found is None:
        with budget.limit(settings.SOLVE_SECONDS):
            found = Solved(solve(design, near.amplifier if near else None))
            # The findings need the periodic solution; a design that has none is refused here, before it is stored.
            _ = found.findings
        with _lock:
            _kept[key] = found
    return found


def solved(revision: Revision) -> Solved:
    """The solution of a stored revision. Raises ThermionicError."""
    return _recall(revision.document_hash) or solved_design(revision.design)
