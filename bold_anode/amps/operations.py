"""Every change to projects and revisions: one function each, with its permission, transaction and record."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.db import transaction
from django.shortcuts import get_object_or_404
from django.utils import timezone

from bold_anode.amps.models import Project, Revision, Variant, hash_of
from bold_anode.amps.solved import Solved, solved, solved_design
from bold_anode.frame import carried, versioned
from bold_anode.frame.apart import apart
from thermionic import design as documents
from thermionic.design import Design


def owned(user: Any, project_id: int) -> Project:
    """The user's project with its current and previous revision. Raises Http404 for anybody else's."""
    projects = Project.objects.of(user).filter(current__isnull=False).select_related("current", "previous")
    project: Project = get_object_or_404(projects, pk=project_id)
    return project


def locked(user: Any, project_id: int, *, deleted: bool = False) -> Project:
    """The user's project, its row locked until the transaction ends. Raises Http404 for anybody else's."""
    # The lock first and by itself: a row joined to it would be read from before whatever we waited for.
    rows = Project.objects.select_for_update().filter(owner=user, deleted_at__isnull=not deleted)
    project: Project = get_object_or_404(rows, pk=project_id)
    return project


def revise(project: Project, design: Design, note: str) -> Revision:
    """A new revision, which becomes the current one."""
    revision = project.add(documents.dump(design), note, document_hash=hash_of(design))
    project.move_to(revision)
    return revision


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
    original = owned(user, project_id)
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

    def look() -> tuple[Revision, Solved]:
        current = owned(user, project_id)
        current.must_be_at(seen)
        return current.at, solved(current.at)

    def make(before: tuple[Revision, Solved]) -> tuple[Design, str]:
        design = before[1].amplifier.design
        after, note = change(design)
        if after != design:
            solved_design(after, near=before[1])
        return after, note

    def keep(before: tuple[Revision, Solved], made: tuple[Design, str]) -> Project | None:
        current, now = before
        project = locked(user, project_id)
        if project.current_id != current.pk:
            return None
        project.current = current  # which is known already
        if made[0] != now.amplifier.design or always:
            store(project, *made)
        return project

    return versioned.change(look, make, keep)


@transaction.atomic
def undo(user: Any, project_id: int, seen: int | None = None) -> Project:
    """Go back to the revision that the current one was made from; stays put at the first. Raises Stale."""
    project = locked(user, project_id)
    project.undo(seen)
    return project


@transaction.atomic
def redo(user: Any, project_id: int, seen: int | None = None) -> Project:
    """Go forward to the latest revision made from the current one; stays put if there is none. Raises Stale."""
    project = locked(user, project_id)
    project.redo(seen)
    return project
