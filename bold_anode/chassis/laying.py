"""The layout that a project is looked at with: the stored one, or a first arrangement; with what it comes to."""

from __future__ import annotations

from dataclasses import dataclass
from threading import Lock
from typing import Any

from cachetools import LRUCache
from django.conf import settings

from bold_anode.amps.models import Project
from bold_anode.amps.solved import solved
from bold_anode.chassis.models import ChassisLayout
from thermionic import budget
from thermionic.chassis.arranging import FIRST_SCHOOL, arranged, completed
from thermionic.chassis.bodies import bodies
from thermionic.chassis.document import Layout
from thermionic.chassis.laid import Laid, lay

_kept: LRUCache[tuple[str, str], Laid] = LRUCache(maxsize=12)
_lock = Lock()


@dataclass(frozen=True)
class Standing:
    """A project's chosen layout: its row (None before the first change), the number of its state, 0 before."""

    row: ChassisLayout | None
    layout: Layout

    @property
    def number(self) -> int:
        """What a page that shows it sends along as seen."""
        return self.row.at.number if self.row else 0


def standing(project: Project) -> Standing:
    """The chosen layout of a project, with a place for what the design has gained since. Raises ThermionicError."""
    row = chosen_row(project)
    return Standing(row, of_row(project, row))


def chosen_row(project: Project) -> ChassisLayout | None:
    """The row of the chosen layout."""
    result: ChassisLayout | None = (
        ChassisLayout.objects.filter(project=project, chosen=True).select_related("current").first()
    )
    return result


def of_row(project: Project, row: ChassisLayout | None) -> Layout:
    """A row's layout, or the first arrangement; all of it placed. Raises ThermionicError."""
    amplifier = solved(project.at).amplifier
    if row is None:
        layout = Layout()
        return arranged(bodies(amplifier, layout), amplifier.design, layout, FIRST_SCHOOL)
    layout = row.at.read
    return completed(bodies(amplifier, layout), amplifier.design, layout)


def laid(project: Project, layout: Layout) -> Laid:
    """A layout with all that follows from it; computed once. Raises ThermionicError."""
    key = project.at.document_hash, layout.model_dump_json()
    with _lock:
        result: Laid | None = _kept.get(key)
    if result is None:
        with budget.limit(settings.SOLVE_SECONDS):
            result = lay(solved(project.at).amplifier, layout)
        with _lock:
            _kept[key] = result
    return result


def plain(layout: Layout) -> dict[str, Any]:
    """A layout as it is stored."""
    return layout.model_dump(mode="json")
