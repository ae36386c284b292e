"""Projects in an export: every revision, the variants, and what rooms keep of them."""

from __future__ import annotations

from typing import Any

from pydantic import AwareDatetime, Field, create_model

from bold_anode.amps.models import Project, Revision, Variant, hash_of
from bold_anode.amps.variants import MOST as MOST_VARIANTS
from bold_anode.frame import carried
from bold_anode.frame.bounds import MOST_NUMBER
from bold_anode.frame.carried import Carried, ProjectPart, stored, when
from thermionic.design.reading import validate
from thermionic.errors import DesignRefused


class _Revision(Carried):
    number: int = Field(ge=1, le=MOST_NUMBER)
    parent: int | None
    note: str = Field(max_length=200)
    made_at: AwareDatetime
    document: dict[str, Any]


class CarriedProject(Carried):
    """A project, without what rooms keep of it."""

    current: int
    previous: int | None
    created_at: AwareDatetime
    deleted_at: AwareDatetime | None
    revisions: list[_Revision] = Field(min_length=1)


def schema() -> type[CarriedProject]:
    """A project with what rooms keep of it."""
    parts: Any = tuple(part.schema for part in carried.project_parts())
    whole: type[CarriedProject] = create_model("WholeProject", __base__=(*parts, CarriedProject))
    return whole


def packed(project: Project) -> dict[str, Any]:
    """A project as plain data."""
    revisions = list(project.revisions.all())
    numbers = {revision.pk: revision.number for revision in revisions}
    whole = {
        "current": numbers.get(project.current_id or 0),
        "previous": numbers.get(project.previous_id or 0),
        "created_at": when(project.created_at),
        "deleted_at": when(project.deleted_at),
        "revisions": [
            {
                "number": revision.number,
                "parent": numbers.get(revision.parent_id or 0),
                "note": revision.note,
                "made_at": when(revision.made_at),
                "document": revision.document,
            }
            for revision in revisions
        ],
    }
    for part in carried.project_parts():
        whole |= part.pack(project, numbers)
    return whole


def store(user: Any, data: Any) -> Project:
    """Put a project that was carried into a user's workshop. Raises DesignRefused."""
    project: Project = stored(Project(owner=user), created_at=data.created_at, deleted_at=data.deleted_at)
    made: dict[int, Revision] = {}
    for one in data.revisions:
        if one.number in made or (one.parent is not None and one.parent not in made):
            raise DesignRefused(f"Revision {one.number} comes twice, or before the one that it was made from.")
        revision = Revision(project=project, number=one.number, document=one.document, note=one.note)
        revision.parent = made.get(one.parent) if one.parent is not None else None
        revision.document_hash = hash_of(validate(one.document))
        made[one.number] = stored(revision, made_at=one.made_at)
    if data.current not in made:
        raise DesignRefused(f"Its current revision, {data.current}, is not among the revisions.")
    Project.objects.filter(pk=project.pk).update(current=made[data.current], previous=made.get(data.previous or 0))
    for part in carried.project_parts():
        part.store(project, made, data)
    return project


class _Variant(Carried):
    name: str = Field(min_length=1, max_length=60)
    revision: int
    cost: str = Field("", max_length=20)
    made_at: AwareDatetime


class _Variants(Carried):
    # Exports from before there were any have none.
    variants: list[_Variant] = Field([], max_length=MOST_VARIANTS)
    variant: str | None = None


def _pack_variants(project: Project, numbers: dict[int, int]) -> dict[str, Any]:
    return {
        "variants": [
            {
                "name": variant.name,
                "revision": numbers[variant.head_id],
                "cost": variant.cost,
                "made_at": when(variant.made_at),
            }
            for variant in project.variants.all()
        ],
        "variant": project.variant.name if project.variant else None,
    }


def _store_variants(project: Project, made: dict[int, Revision], data: Any) -> None:
    names = [variant.name for variant in data.variants]
    if len(set(names)) < len(names) or (data.variant is not None and data.variant not in names):
        raise DesignRefused("Its variants have one name twice, or the one that is worked on is not among them.")
    for variant in data.variants:
        if variant.revision not in made:
            raise DesignRefused(
                f"The variant {variant.name} is at revision {variant.revision}, which is not among them."
            )
        row = Variant(project=project, name=variant.name, cost=variant.cost, head=made[variant.revision])
        stored(row, made_at=variant.made_at)
        if variant.name == data.variant:
            Project.objects.filter(pk=project.pk).update(variant=row)


VARIANTS = ProjectPart(_Variants, _pack_variants, _store_variants)
