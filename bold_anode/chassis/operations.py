"""Every change to layouts: one function each, with its permission, transaction and record."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.db import transaction
from django.http import Http404

from bold_anode.amps.models import Project
from bold_anode.amps.operations import Stale, locked
from bold_anode.chassis.laying import chosen_row, of_row, plain
from bold_anode.chassis.models import ChassisLayout, KeptSize, LayoutState
from bold_anode.frame.owned import alone
from thermionic.chassis.document import Layout, LayoutRefused

MOST_LAYOUTS, MOST_STATES, MOST_SIZES = 12, 400, 200


def change_layout(
    user: Any, project_id: int, change: Callable[[Layout], tuple[Layout, str]], seen: int | None = None
) -> ChassisLayout:
    """A new state of the chosen layout: ``change`` takes the layout and returns the new one and a note.

    ``seen`` is the number of the state that was looked at. Raises Http404, Stale, and ThermionicError where the
    change is refused; then nothing is stored. Nothing is computed while a row is locked.
    """
    while True:
        project = _owned(user, project_id)
        row = chosen_row(project)
        _must_be(row, seen)
        before = of_row(project, row)
        after, note = change(before)
        with transaction.atomic():
            locked(user, project_id)
            now = chosen_row(project)
            if (now and now.current_id) != (row and row.current_id) or (now and now.pk) != (row and row.pk):
                continue
            if now is None:
                now = _make(project, before, "first arrangement", chosen=True)
            if after != before:
                _add(now, after, note)
            return now


def _owned(user: Any, project_id: int) -> Project:
    project: Project | None = Project.objects.of(user).select_related("current").filter(pk=project_id).first()
    if project is None or project.current is None:
        raise Http404
    return project


def _must_be(row: ChassisLayout | None, seen: int | None) -> None:
    if seen is not None and seen != (row.at.number if row else 0):
        raise Stale("The layout was changed in another window. Here it is as it stands now; nothing was overwritten.")


def _make(project: Project, layout: Layout, note: str, chosen: bool) -> ChassisLayout:
    row = ChassisLayout.objects.create(project=project, name=layout.name, chosen=chosen)
    _add(row, layout, note)
    return row


def _add(row: ChassisLayout, layout: Layout, note: str) -> None:
    last = row.states.order_by("-number").values_list("number", flat=True).first() or 0
    row.current = LayoutState.objects.create(
        layout=row, number=last + 1, parent=row.current, document=plain(layout), note=note[:200]
    )
    row.save()
    old = list(row.states.order_by("-number").values_list("pk", flat=True)[MOST_STATES:])
    if old:
        row.states.filter(pk__in=old).delete()


@transaction.atomic
def step_back(user: Any, project_id: int, seen: int | None = None) -> None:
    """Go back to the state that the chosen layout's was made from; stays put at the first. Raises Stale, Http404."""
    row = chosen_row(locked(user, project_id))
    _must_be(row, seen)
    if row is not None and row.at.parent is not None:
        row.current = row.at.parent
        row.save()


@transaction.atomic
def step_forward(user: Any, project_id: int, seen: int | None = None) -> None:
    """Go forward to the latest state made from the current one; stays put if there is none. Raises Stale, Http404."""
    row = chosen_row(locked(user, project_id))
    _must_be(row, seen)
    following = row.next_state() if row is not None else None
    if row is not None and following is not None:
        row.current = following
        row.save()


def keep_variant(user: Any, project_id: int, name: str, layout: Layout | None = None) -> ChassisLayout:
    """Keep the layout as it is, and go on with a copy under another name; or with ``layout``. Raises LayoutRefused
    for a name that is there already or too many, Http404."""
    project = _owned(user, project_id)
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
    row = ChassisLayout.objects.filter(project=project, pk=layout_id).first()
    if row is None:
        raise Http404
    ChassisLayout.objects.filter(project=project).update(chosen=False)
    row.chosen = True
    row.save()


@transaction.atomic
def drop_variant(user: Any, project_id: int, layout_id: int) -> None:
    """Take a layout out that is not the chosen one. Raises Http404, LayoutRefused."""
    project = locked(user, project_id)
    row = ChassisLayout.objects.filter(project=project, pk=layout_id).first()
    if row is None:
        raise Http404
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
