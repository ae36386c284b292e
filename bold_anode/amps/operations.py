"""Every change to projects and revisions: one function each, with its permission, transaction and record."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.db import transaction
from django.http import Http404
from django.utils import timezone

from bold_anode.amps.models import Project, Revision, Variant, hash_of
from bold_anode.amps.solved import solved, solved_design
from bold_anode.frame import carried
from bold_anode.frame.apart import apart
from thermionic import design as documents
from thermionic.design import Design
from thermionic.errors import ThermionicError


class Stale(ThermionicError):
    """The project has moved on since the page that asked for the change was drawn."""


def locked(user: Any, project_id: int, *, deleted: bool = False) -> Project:
    """The user's project, its row locked until the transaction ends. Raises Http404 for anybody else's."""
    # The lock first and by itself: a row joined to it would be read from before whatever we waited for.
    rows = Project.objects.select_for_update().filter(owner=user, deleted_at__isnull=not deleted)
    project: Project | None = rows.filter(pk=project_id).first()
    if project is None:
        raise Http404
    return project


def revise(project: Project, design: Design, note: str) -> Revision:
    last = project.revisions.order_by("-number").values_list("number", flat=True).first() or 0
    revision = Revision.objects.create(
        project=project,
        number=last + 1,
        parent=project.current,
        document=documents.dump(design),
        document_hash=hash_of(design),
        note=note[:200],
    )
    revision.is_just_made = True
    move_to(project, revision)
    return revision


def move_to(project: Project, revision: Revision | None) -> None:
    """Make a revision the current one, of the project and of the variant that is worked on."""
    project.previous, project.current = project.current, revision
    project.save()
    if project.variant_id is not None and revision is not None:
        Variant.objects.filter(pk=project.variant_id).update(head=revision)


def create_project(user: Any, design: Design, note: str = "started") -> Project:
    """A new project with a first revision. Raises ThermionicError if the design cannot be solved."""
    solved_design(design)
    with transaction.atomic():
        project = Project.objects.create(owner=user)
        revise(project, design, note)
    return project


def import_project(user: Any, content: bytes) -> Project:
    """A new project from an uploaded design file. Raises ThermionicError; then nothing is stored."""
    return create_project(user, apart(documents.load, content), "imported")


def duplicate_project(user: Any, project_id: int) -> Project:
    """A copy of the project as it stands, with a history of its own."""
    original = current_of(user, project_id).project
    design = original.at.design
    name = f"{design.name[:110]} (copy)"
    copy = create_project(user, documents.changed(design, "name", name), f"copied from {design.name}")
    for part in carried.project_parts():
        part.copy(original, copy)
    return copy


@transaction.atomic
def delete_project(user: Any, project_id: int) -> Project:
    """Put the project away; ``restore_project`` brings it back whole."""
    project = locked(user, project_id)
    project.deleted_at = timezone.now()
    project.save()
    return project


@transaction.atomic
def restore_project(user: Any, project_id: int) -> Project:
    """Undo a deletion."""
    project = locked(user, project_id, deleted=True)
    project.deleted_at = None
    project.save()
    return project


@transaction.atomic
def forget_projects(user: Any) -> None:
    """Delete every project of a user with all that belongs to it, for good."""
    projects = Project.objects.filter(owner=user)
    projects.update(current=None, previous=None, variant=None)
    Variant.objects.filter(project__owner=user).delete()
    for project in projects:
        for part in carried.project_parts():
            part.forget(project)
        for revision in project.revisions.order_by("-number"):
            revision.delete()
        project.delete()


def change_design(
    user: Any, project_id: int, change: Callable[[Design], tuple[Design, str]], seen: int | None = None
) -> Project:
    """A new revision: ``change`` takes the current design and returns the new one and a note of what changed.

    ``seen`` is the number of the revision that the user was looking at. Raises Stale if it is not the current one,
    and ThermionicError if the change is refused or leaves a circuit with no solution; then nothing is stored.

    Nothing is locked while the changed design is solved. Where the project has moved on meanwhile, the change is made
    again to what it is then, unless the user was looking at what it was before.
    """
    return change_then(user, project_id, change, revise, seen)


def change_then(
    user: Any,
    project_id: int,
    change: Callable[[Design], tuple[Design, str]],
    store: Callable[[Project, Design, str], Any],
    seen: int | None = None,
    always: bool = False,
) -> Project:
    """Like ``change_design``, with ``store`` to keep the changed design within the transaction; ``always`` stores one
    that is no other than before as well."""
    while True:
        current = current_of(user, project_id)
        _must_be(current, seen)
        now = solved(current)
        before = now.amplifier.design
        after, note = change(before)
        if after != before:
            solved_design(after, near=now)
        with transaction.atomic():
            project = locked(user, project_id)
            if project.current_id != current.pk:
                continue
            project.current = current  # which is known already
            if after != before or always:
                store(project, after, note)
            return project


def current_of(user: Any, project_id: int) -> Revision:
    """The revision that the user's project stands at. Raises Http404 for anybody else's."""
    project: Project | None = Project.objects.of(user).select_related("current").filter(pk=project_id).first()
    if project is None or project.current is None:
        raise Http404
    return project.current


def _must_be(current: Revision, seen: int | None) -> None:
    """Raise Stale if another revision was looked at."""
    if seen is not None and seen != current.number:
        raise Stale("The design was changed in another window. Here it is as it stands now; nothing was overwritten.")


@transaction.atomic
def undo(user: Any, project_id: int, seen: int | None = None) -> Project:
    """Go back to the revision that the current one was made from; stays put at the first. Raises Stale."""
    project = locked(user, project_id)
    _must_be(project.at, seen)
    if project.can_undo():
        move_to(project, project.at.parent)
    return project


@transaction.atomic
def redo(user: Any, project_id: int, seen: int | None = None) -> Project:
    """Go forward to the latest revision made from the current one; stays put if there is none. Raises Stale."""
    project = locked(user, project_id)
    _must_be(project.at, seen)
    following = project.next_revision()
    if following is not None:
        move_to(project, following)
    return project
