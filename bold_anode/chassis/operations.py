"""Every change to layouts: one function each, with its permission, transaction and record."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.db import transaction
from django.shortcuts import get_object_or_404

from bold_anode.amps.models import Project
from bold_anode.amps.operations import locked, owned
from bold_anode.chassis.laying import chosen_row, of_row, plain
from bold_anode.chassis.models import ChassisLayout, KeptSize
from bold_anode.frame import versioned
from bold_anode.frame.owned import alone
from bold_anode.frame.versioned import must_be
from thermionic.chassis.document import Layout, LayoutRefused

MOST_LAYOUTS, MOST_STATES, MOST_SIZES = 12, 400, 200


def change_layout(
    user: Any, project_id: int, change: Callable[[Layout], tuple[Layout, str]], seen: int | None = None
) -> ChassisLayout:
    """A new state of the chosen layout: ``change`` takes the layout and returns the new one and a note.

    ``seen`` is the number of the state that was looked at. Raises Http404, Stale, and ThermionicError where the
    change is refused; then nothing is stored. Nothing is computed while a row is locked.
    """

    def look() -> tuple[Project, ChassisLayout | None, Layout]:
        project = owned(user, project_id)
        row = chosen_row(project)
        must_be(row.at.number if row else 0, seen, ChassisLayout.called)
        return project, row, of_row(project, row)

    def keep(before: tuple[Project, ChassisLayout | None, Layout], made: tuple[Layout, str]) -> ChassisLayout | None:
        project, row, layout = before
        locked(user, project_id)
        now = chosen_row(project)
        if (now and (now.pk, now.current_id)) != (row and (row.pk, row.current_id)):
            return None
        if now is None:
            now = _make(project, layout, "first arrangement", chosen=True)
        if made[0] != layout:
            _add(now, *made)
        return now

    return versioned.change(look, lambda before: change(before[2]), keep)


def _make(project: Project, layout: Layout, note: str, chosen: bool) -> ChassisLayout:
    row = ChassisLayout.objects.create(project=project, name=layout.name, chosen=chosen)
    _add(row, layout, note)
    return row


def _add(row: ChassisLayout, layout: Layout, note: str) -> None:
    row.move_to(row.add(plain(layout), note))
    old = list(row.states.order_by("-number").values_list("pk", flat=True)[MOST_STATES:])
    if old:
        row.states.filter(pk__in=old).delete()


@transaction.atomic
def undo(user: Any, project_id: int, seen: int | None = None) -> None:
    """Go back to the state that the chosen layout's was made from. Raises Stale, Http404."""
    row = chosen_row(locked(user, project_id))
    if row is not None:
        row.undo(seen)


@transaction.atomic
def redo(user: Any, project_id: int, seen: int | None = None) -> None:
    """Go forward to the latest state made from the current one. Raises Stale, Http404."""
    row = chosen_row(locked(user, project_id))
    if row is not None:
        row.redo(seen)


def keep_variant(user: Any, project_id: int, name: str, layout: Layout | None = None) -> ChassisLayout:
    """Keep the layout as it is, and go on with a copy under another name; or with ``layout``. Raises LayoutRefused
    for a name that is there already or too many, Http404."""
    project = owned(user, project_id)
    before = of_row(project, chosen_row(project))
    copy = (layout or before).model_copy(update={"name": _named(name)})
    with transaction.atomic():
        locked(user, project_id)
        row = chosen_row(project)
        rows = ChassisLayout.objects.filter(project=project)
        if row is None:
            _make(project, before, "first arrangement", chosen=False)
        if rows.filter(name=copy.name).exists():
            raise LayoutRefused(f"There is a layout called {copy.name} already; give this one another name.")
        if rows.count() >= MOST_LAYOUTS:
            raise LayoutRefused(f"A project keeps at most {MOST_LAYOUTS} layouts; take one out first.")
        rows.update(chosen=False)
        return _make(project, copy, "kept beside", chosen=True)


@transaction.atomic
def copy_layouts(original: Project, copy: Project) -> None:
    """Give a copy of a project its layouts, as they stand, with a history of their own."""
    for row in ChassisLayout.objects.filter(project=original).select_related("current"):
        own = ChassisLayout.objects.create(project=copy, name=row.name, chosen=row.chosen)
        _add(own, row.at.read, "copied")


def _named(name: str) -> str:
    short = " ".join(name.split())
    if not 1 <= len(short) <= 60:
        raise LayoutRefused("A layout's name has 1 to 60 characters.")
    return short


@transaction.atomic
def choose_variant(user: Any, project_id: int, layout_id: int) -> None:
    """Work on another layout. Raises Http404."""
    project = locked(user, project_id)
    row = get_object_or_404(ChassisLayout, project=project, pk=layout_id)
    ChassisLayout.objects.filter(project=project).update(chosen=False)
    row.chosen = True
    row.save()


@transaction.atomic
def drop_variant(user: Any, project_id: int, layout_id: int) -> None:
    """Take a layout out that is not the chosen one. Raises Http404, LayoutRefused."""
    project = locked(user, project_id)
    row = get_object_or_404(ChassisLayout, project=project, pk=layout_id)
    if row.chosen:
        raise LayoutRefused("The layout that you work on stays; choose another one first.")
    row.delete()


def keep_size(user: Any, name: str, across: float, along: float, above: float, below: float) -> KeptSize:
    """Keep a measured size in the workshop, in place of one of the same name. Raises LayoutRefused."""
    short = " ".join(name.split())
    if not 1 <= len(short) <= 60:
        raise LayoutRefused("A size that is kept has a name of 1 to 60 characters.")
    with alone(user):
        held = KeptSize.objects.of(user)
        if held.count() >= MOST_SIZES and not held.filter(name=short).exists():
            raise LayoutRefused(f"The workshop keeps at most {MOST_SIZES} sizes.")
        kept: KeptSize = KeptSize.objects.update_or_create(
            owner=user, name=short, defaults={"across": across, "along": along, "above": above, "below": below}
        )[0]
    return kept
