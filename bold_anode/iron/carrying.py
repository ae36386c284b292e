"""The workshop's iron in an export, and where the values of a project's iron came from."""

from __future__ import annotations

from typing import Any

from pydantic import AwareDatetime, Field

from bold_anode.amps.models import Project, Revision
from bold_anode.frame.carried import AccountPart, Carried, ProjectPart, checked, stored, when
from bold_anode.iron.models import KINDS, SOURCES, Origin, ShelfItem, UnknownIron
from bold_anode.iron.operations import MOST_ITEMS, MOST_READINGS, MOST_UNKNOWN, figures_read
from thermionic.errors import DesignRefused, ThermionicError

_SOURCES = "|".join(f"^{source}$" for source in SOURCES)


class _Figure(Carried):
    text: str = Field(max_length=40)
    source: str = Field(alias="from", max_length=20)


class _Piece(Carried):
    kind: str = Field(pattern="|".join(f"^{key}$" for key, _ in KINDS))
    name: str = Field(min_length=1, max_length=60)
    figures: dict[str, _Figure]
    state: str = Field(max_length=120)
    place: str = Field(max_length=120)
    made_at: AwareDatetime


class _Unknown(Carried):
    name: str = Field(min_length=1, max_length=60)
    leads: list[str] = Field(min_length=2, max_length=16)
    readings: list[dict[str, Any]] = Field(max_length=MOST_READINGS)
    core_cm2: float | None
    mains_volt: float
    made_at: AwareDatetime


class _Iron(Carried):
    shelf: list[_Piece] = Field(max_length=MOST_ITEMS)
    unknown: list[_Unknown] = Field(max_length=MOST_UNKNOWN)


def _pack(user: Any) -> dict[str, Any]:
    """The shelf and the transformers being identified; which project holds a piece is not carried."""
    return {
        "shelf": [
            {
                "kind": shelf_item.kind,
                "name": shelf_item.name,
                "figures": shelf_item.figures,
                "state": shelf_item.state,
                "place": shelf_item.place,
                "made_at": when(shelf_item.made_at),
            }
            for shelf_item in ShelfItem.objects.of(user).order_by("pk")
        ],
        "unknown": [
            {
                "name": unknown_iron.name,
                "leads": unknown_iron.leads,
                "readings": unknown_iron.readings,
                "core_cm2": unknown_iron.core_cm2,
                "mains_volt": unknown_iron.mains_volt,
                "made_at": when(unknown_iron.made_at),
            }
            for unknown_iron in UnknownIron.objects.of(user).order_by("pk")
        ],
    }


def _store(user: Any, iron: _Iron) -> int:
    held = (
        ShelfItem.objects.of(user).count() + len(iron.shelf),
        UnknownIron.objects.of(user).count() + len(iron.unknown),
    )
    if held[0] > MOST_ITEMS or held[1] > MOST_UNKNOWN:
        raise DesignRefused(f"The shelf holds {MOST_ITEMS} pieces and {MOST_UNKNOWN} unknown ones; take some off.")
    for one in iron.shelf:
        typed = {name: (known.text, known.source) for name, known in one.figures.items()}
        try:
            figures = figures_read(one.kind, typed)
        except ThermionicError as refusal:
            raise DesignRefused(f"{one.name}: {refusal}") from None
        row = ShelfItem(owner=user, figures=figures, **one.model_dump(exclude={"made_at", "figures"}))
        stored(row, made_at=one.made_at)
    for other in iron.unknown:
        stored(UnknownIron(owner=user, **other.model_dump(exclude={"made_at"})), made_at=other.made_at)
    return len(iron.shelf) + len(iron.unknown)


# Exports from before there was any have no iron.
def _forget(user: Any) -> None:
    ShelfItem.objects.of(user).delete()
    UnknownIron.objects.of(user).delete()


IRON = AccountPart("iron.json", _Iron, {"shelf": [], "unknown": []}, _pack, _store, _forget)


class _Origin(Carried):
    path: str = Field(max_length=120)
    text: str = Field(max_length=40)
    source: str = Field(pattern=_SOURCES)


class _Origins(Carried):
    origins: list[_Origin] = Field([], max_length=500)


def _pack_origins(project: Project, numbers: dict[int, int]) -> dict[str, Any]:
    return {"origins": list(Origin.objects.filter(project=project).order_by("path").values("path", "text", "source"))}


def _store_origins(project: Project, made: dict[int, Revision], data: Any) -> None:
    origins = {origin.path: origin for origin in data.origins}
    rows = [Origin(project=project, **origin.model_dump()) for origin in origins.values()]
    for row in rows:
        checked(row)
    Origin.objects.bulk_create(rows)


ORIGINS = ProjectPart(_Origins, _pack_origins, _store_origins)
