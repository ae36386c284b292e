"""Variants: several designs kept beside each other in one project, one of them chosen."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.db import transaction
from django.shortcuts import get_object_or_404

from bold_anode.amps.models import Project, Variant
from bold_anode.amps.operations import change_then, locked, owned, revise
from thermionic.design import Design
from thermionic.errors import ValueRefused

MOST, MOST_COST = 12, 20
FIRST = "As it was"


def keep(
    user: Any,
    project_id: int,
    name: str,
    change: Callable[[Design], tuple[Design, str]] | None = None,
    seen: int | None = None,
) -> Project:
    """A new variant, from the current design or a change of it, which is worked on from now on; the line that was
    worked on stays as a variant of its own. Raises ValueRefused, Stale, ThermionicError."""
    owned(user, project_id)  # whose it is comes before what it is to be called
    wanted = _named(name)

    def store(project: Project, design: Design, note: str) -> None:
        if project.variants.count() >= MOST:
            raise ValueRefused(f"A project keeps up to {MOST} variants; delete one first.")
        if project.variant is None:
            project.variant = Variant.objects.create(project=project, name=_free(project, FIRST), head=project.at)
        project.variant = Variant.objects.create(project=project, name=_free(project, wanted), head=project.at)
        if note:
            revise(project, design, note)
        else:
            project.save()

    return change_then(user, project_id, change or (lambda design: (design, "")), store, seen, always=True)


@transaction.atomic
def choose(user: Any, project_id: int, variant_id: int) -> Project:
    """Work on another variant. Raises Http404."""
    project = locked(user, project_id)
    variant = variant_of(project, variant_id)
    project.variant = variant
    project.move_to(variant.head)
    return project


@transaction.atomic
def rename(user: Any, project_id: int, variant_id: int, name: str, cost: str = "") -> Project:
    """Give a variant another name, and say what it costs. Raises Http404, ValueRefused."""
    project = locked(user, project_id)
    variant = variant_of(project, variant_id)
    wanted = _named(name)
    if project.variants.filter(name=wanted).exclude(pk=variant.pk).exists():
        raise ValueRefused(f"There is a variant called {wanted} already.")
    variant.name, variant.cost = wanted, " ".join(cost.split())
    if len(variant.cost) > MOST_COST:
        raise ValueRefused(f"What a variant costs is written in up to {MOST_COST} characters, such as 240.")
    variant.save()
    return project


@transaction.atomic
def drop(user: Any, project_id: int, variant_id: int) -> Project:
    """Delete a variant; its revisions stay in the project's history. Raises Http404, ValueRefused for the one that
    is worked on."""
    project = locked(user, project_id)
    variant = variant_of(project, variant_id)
    if project.variant_id == variant.pk:
        raise ValueRefused(f"{variant.name} is the variant that is worked on; choose another first.")
    variant.delete()
    return project


def variant_of(project: Project, variant_id: int) -> Variant:
    """A variant of a project. Raises Http404."""
    variant: Variant = get_object_or_404(project.variants.select_related("head"), pk=variant_id)
    return variant


def _named(name: str) -> str:
    text = " ".join(name.split())
    if not 1 <= len(text) <= 60:
        raise ValueRefused("A variant has a name of 1 to 60 characters.")
    return text


def _free(project: Project, wanted: str) -> str:
    taken = set(project.variants.values_list("name", flat=True))
    if wanted not in taken:
        return wanted
    return next(name for number in range(2, 100) if (name := f"{wanted[:56]} {number}") not in taken)
