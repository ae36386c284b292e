"""A whole account as one zip, and back: designs with all their revisions, readings, own tubes."""

from __future__ import annotations

import io
import json
import zipfile
from datetime import datetime
from typing import Any

from django.db import transaction
from django.utils import timezone
from pydantic import AwareDatetime, BaseModel, ConfigDict, Field, ValidationError

from bold_anode.amps.models import Project, Revision, Variant, hash_of
from bold_anode.chassis import carrying as layouts
from bold_anode.chassis.carrying import CarriedLayout, CarriedSize
from bold_anode.iron.models import KINDS as IRON_KINDS
from bold_anode.iron.models import SOURCES, Origin, ShelfItem, UnknownIron
from bold_anode.iron.operations import MOST_ITEMS, MOST_UNKNOWN, figures_read, found_of
from bold_anode.powerup.models import Reading, ReadingSet
from bold_anode.rails.models import MainsReading
from bold_anode.rails.operations import HIGHEST, LOWEST, MOST_READINGS
from bold_anode.tubes.models import KINDS, OwnTube
from bold_anode.tubes.operations import MOST_TUBES
from thermionic.design import OwnTriode
from thermionic.design.reading import validate
from thermionic.errors import DesignRefused, ThermionicError
from thermionic.powerup import Step
from thermionic.text import all_readable

FORMAT = 1
MOST_BYTES = 200_000_000
MOST_FILES = 5_000
_MANIFEST, _TUBES, _IRON, _MAINS, _SIZES = "manifest.json", "tubes.json", "iron.json", "mains.json", "sizes.json"


class _Carried(BaseModel):
    """What is in the files of an export; anything else is refused."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


class _Reading(_Carried):
    point: str = Field(max_length=80)
    volt: float | None
    taken_at: AwareDatetime


class _ReadingSet(_Carried):
    revision: int
    step: Step
    channel: str = Field(max_length=20)
    mains_volt: float
    started_at: AwareDatetime
    readings: list[_Reading]


class _Revision(_Carried):
    number: int = Field(ge=1, lt=2**31)
    parent: int | None
    note: str = Field(max_length=200)
    made_at: AwareDatetime
    document: dict[str, Any]


class _Variant(_Carried):
    name: str = Field(min_length=1, max_length=60)
    revision: int
    cost: str = Field("", max_length=20)
    made_at: AwareDatetime


class _Origin(_Carried):
    path: str = Field(max_length=120)
    text: str = Field(max_length=40)
    source: str = Field(pattern="|".join(f"^{one}$" for one in SOURCES))


class _Project(_Carried):
    current: int
    previous: int | None
    created_at: AwareDatetime
    deleted_at: AwareDatetime | None
    revisions: list[_Revision] = Field(min_length=1)
    reading_sets: list[_ReadingSet]
    # Exports from before there were any have none.
    variants: list[_Variant] = []
    variant: str | None = None
    origins: list[_Origin] = Field([], max_length=500)
    layouts: list[CarriedLayout] = []


class _Figure(_Carried):
    text: str = Field(max_length=40)
    source: str = Field(alias="from", max_length=20)


class _Iron(_Carried):
    kind: str = Field(pattern="|".join(f"^{key}$" for key, _ in IRON_KINDS))
    name: str = Field(min_length=1, max_length=60)
    figures: dict[str, _Figure]
    state: str = Field(max_length=120)
    place: str = Field(max_length=120)
    made_at: AwareDatetime


class _Unknown(_Carried):
    name: str = Field(min_length=1, max_length=60)
    leads: list[str] = Field(min_length=2, max_length=16)
    readings: list[dict[str, Any]] = Field(max_length=200)
    core_cm2: float | None
    mains_volt: float
    made_at: AwareDatetime


class _MainsReading(_Carried):
    volt: float = Field(ge=LOWEST, le=HIGHEST)
    read_at: AwareDatetime


class _Tube(_Carried):
    name: str = Field(min_length=1, max_length=40)
    kind: str = Field(pattern="|".join(f"^{key}$" for key, _ in KINDS))
    points: str
    fitted: dict[str, Any]
    document: dict[str, Any]
    made_at: AwareDatetime


def packed(user: Any) -> bytes:
    """Everything in a user's workshop as a zip."""
    out = io.BytesIO()
    projects = Project.objects.filter(owner=user).order_by("pk")
    tubes = OwnTube.objects.of(user).order_by("pk")
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for place, project in enumerate(projects, start=1):
            made.writestr(f"projects/{place:04d}.json", _text(_project(project)))
        made.writestr(_TUBES, _text([_tube(tube) for tube in tubes]))
        made.writestr(_IRON, _text(_iron(user)))
        made.writestr(_MAINS, _text(_mains(user)))
        made.writestr(_SIZES, _text(layouts.carried_sizes(user)))
        manifest = {
            "format": FORMAT,
            "made_at": timezone.now().isoformat(timespec="seconds"),
            "projects": len(projects),
            "tubes": len(tubes),
        }
        made.writestr(_MANIFEST, _text(manifest))
    return out.getvalue()


def _text(data: Any) -> str:
    return json.dumps(data, indent=1, ensure_ascii=False) + "\n"


def _when(moment: datetime | None) -> str | None:
    return moment.isoformat() if moment else None


def _project(project: Project) -> dict[str, Any]:
    revisions = list(project.revisions.all())
    numbers = {revision.pk: revision.number for revision in revisions}
    return {
        "current": numbers.get(project.current_id or 0),
        "previous": numbers.get(project.previous_id or 0),
        "created_at": _when(project.created_at),
        "deleted_at": _when(project.deleted_at),
        "revisions": [
            {
                "number": revision.number,
                "parent": numbers.get(revision.parent_id or 0),
                "note": revision.note,
                "made_at": _when(revision.made_at),
                "document": revision.document,
            }
            for revision in revisions
        ],
        "reading_sets": [
            {
                "revision": numbers[one.revision_id],
                "step": one.step,
                "channel": one.channel,
                "mains_volt": one.mains_volt,
                "started_at": _when(one.started_at),
                "readings": [
                    {"point": reading.point, "volt": reading.volt, "taken_at": _when(reading.taken_at)}
                    for reading in one.readings.all()
                ],
            }
            for one in project.reading_sets.order_by("pk").prefetch_related("readings")
        ],
        "variants": [
            {"name": one.name, "revision": numbers[one.head_id], "cost": one.cost, "made_at": _when(one.made_at)}
            for one in project.variants.all()
        ],
        "variant": project.variant.name if project.variant else None,
        "layouts": layouts.carried(project),
        "origins": list(Origin.objects.filter(project=project).order_by("path").values("path", "text", "source")),
    }


def _iron(user: Any) -> dict[str, Any]:
    """The shelf and the transformers being found out; which project holds a piece is not carried."""
    return {
        "shelf": [
            {"kind": one.kind, "name": one.name, "figures": one.figures, "state": one.state, "place": one.place,
             "made_at": _when(one.made_at)}
            for one in ShelfItem.objects.of(user).order_by("pk")
        ],
        "unknown": [
            {"name": one.name, "leads": one.leads, "readings": one.readings, "core_cm2": one.core_cm2,
             "mains_volt": one.mains_volt, "made_at": _when(one.made_at)}
            for one in UnknownIron.objects.of(user).order_by("pk")
        ],
    }  # fmt: skip


def _mains(user: Any) -> list[dict[str, Any]]:
    return [{"volt": one.volt, "read_at": _when(one.read_at)} for one in MainsReading.objects.of(user).order_by("pk")]


def _tube(tube: OwnTube) -> dict[str, Any]:
    return {
        "name": tube.name,
        "kind": tube.kind,
        "points": tube.points,
        "fitted": tube.fitted,
        "document": tube.document,
        "made_at": _when(tube.made_at),
    }


def unpack(user: Any, content: Any) -> tuple[int, int]:
    """Put an export into a user's workshop, beside what is there: how many projects and tubes came.

    All or nothing. A tube that is in the drawer already by that name stays as it is there. Raises DesignRefused.
    """
    projects, tubes, shelf, unknown, mains, sizes = _read(content)
    with transaction.atomic():
        for project in projects:
            _store(user, project)
        _store_iron(user, shelf, unknown)
        _store_mains(user, mains)
        layouts.store_sizes(user, sizes)
        return len(projects), _store_tubes(user, tubes)


def _read(
    content: Any,
) -> tuple[list[_Project], list[_Tube], list[_Iron], list[_Unknown], list[_MainsReading], list[CarriedSize]]:
    try:
        with zipfile.ZipFile(content) as given:
            if len(given.filelist) > MOST_FILES or sum(one.file_size for one in given.filelist) > MOST_BYTES:
                raise DesignRefused(
                    f"The file unpacks to more than {MOST_FILES} files or {MOST_BYTES / 1e6:.0f} MB, which is more "
                    "than is read."
                )
            manifest = _parsed(given, _MANIFEST)
            if not isinstance(manifest, dict) or manifest.get("format") != FORMAT:
                raise DesignRefused("The file was exported by a later version of Bold Anode than this one.")
            names = sorted(one.filename for one in given.filelist if one.filename.startswith("projects/"))
            projects = [_checked(name, _Project, _parsed(given, name)) for name in names]
            tubes = _parsed(given, _TUBES)
            if not isinstance(tubes, list):
                raise DesignRefused(f"{_TUBES} is no list of tubes.")
            # Exports from before there was any have no iron.
            iron = _parsed(given, _IRON) if _IRON in given.namelist() else {"shelf": [], "unknown": []}
            if not isinstance(iron, dict) or not all(isinstance(iron.get(one), list) for one in ("shelf", "unknown")):
                raise DesignRefused(f"{_IRON} holds no shelf.")
            mains = _parsed(given, _MAINS) if _MAINS in given.namelist() else []
            if not isinstance(mains, list) or len(mains) > MOST_READINGS:
                raise DesignRefused(f"{_MAINS} is no log of at most {MOST_READINGS} readings.")
            sizes = _parsed(given, _SIZES) if _SIZES in given.namelist() else []
            if not isinstance(sizes, list):
                raise DesignRefused(f"{_SIZES} is no list of sizes.")
            return (
                projects,
                [_checked(_TUBES, _Tube, tube) for tube in tubes],
                [_checked(_IRON, _Iron, one) for one in iron["shelf"]],
                [_checked(_IRON, _Unknown, one) for one in iron["unknown"]],
                [_checked(_MAINS, _MainsReading, one) for one in mains],
                [_checked(_SIZES, CarriedSize, one) for one in sizes],
            )
    except (zipfile.BadZipFile, KeyError, OSError, RuntimeError, EOFError, ValueError):  # damaged, locked, or no zip
        raise DesignRefused(
            "The file is no export of a workshop: choose the .zip that Export everything gave."
        ) from None


def _parsed(given: zipfile.ZipFile, name: str) -> Any:
    data = json.loads(given.read(name))
    all_readable(data)
    return data


def _checked(name: str, kind: type[Any], data: Any) -> Any:
    try:
        return kind.model_validate(data)
    except ValidationError as fault:
        first = fault.errors()[0]
        where = ".".join(str(step) for step in first["loc"])
        raise DesignRefused(f"{name}, {where or 'at its top'}: {first['msg']}.") from None


def _store(user: Any, carried: _Project) -> None:
    project = Project.objects.create(owner=user)
    made: dict[int, Revision] = {}
    for one in carried.revisions:
        if one.number in made or (one.parent is not None and one.parent not in made):
            raise DesignRefused(f"Revision {one.number} comes twice, or before the one that it was made from.")
        design = validate(one.document)
        made[one.number] = Revision.objects.create(
            project=project,
            number=one.number,
            parent=made.get(one.parent) if one.parent is not None else None,
            document=one.document,
            document_hash=hash_of(design),
            note=one.note,
        )
        Revision.objects.filter(pk=made[one.number].pk).update(made_at=one.made_at)
    if carried.current not in made:
        raise DesignRefused(f"Its current revision, {carried.current}, is not among the revisions.")
    Project.objects.filter(pk=project.pk).update(
        current=made[carried.current],
        previous=made.get(carried.previous or 0),
        created_at=carried.created_at,
        deleted_at=carried.deleted_at,
    )
    for one_set in carried.reading_sets:
        _store_readings(project, made, one_set)
    _store_variants(project, made, carried)
    layouts.store(project, carried.layouts)
    origins = {one.path: one for one in carried.origins}
    Origin.objects.bulk_create(Origin(project=project, **one.model_dump()) for one in origins.values())


def _store_variants(project: Project, made: dict[int, Revision], carried: _Project) -> None:
    names = [one.name for one in carried.variants]
    if len(set(names)) < len(names) or (carried.variant is not None and carried.variant not in names):
        raise DesignRefused("Its variants have one name twice, or the one that is worked on is not among them.")
    for one in carried.variants:
        if one.revision not in made:
            raise DesignRefused(f"The variant {one.name} is at revision {one.revision}, which is not among them.")
        stored = Variant.objects.create(project=project, name=one.name, cost=one.cost, head=made[one.revision])
        Variant.objects.filter(pk=stored.pk).update(made_at=one.made_at)
        if one.name == carried.variant:
            Project.objects.filter(pk=project.pk).update(variant=stored)


def _store_readings(project: Project, made: dict[int, Revision], carried: _ReadingSet) -> None:
    if carried.revision not in made:
        raise DesignRefused(f"Readings belong to revision {carried.revision}, which is not among the revisions.")
    stored = ReadingSet.objects.create(
        project=project,
        revision=made[carried.revision],
        step=carried.step.value,
        channel=carried.channel,
        mains_volt=carried.mains_volt,
    )
    ReadingSet.objects.filter(pk=stored.pk).update(started_at=carried.started_at)
    rows = Reading.objects.bulk_create(
        Reading(reading_set=stored, point=one.point, volt=one.volt) for one in carried.readings
    )
    for row, one in zip(rows, carried.readings, strict=True):
        row.taken_at = one.taken_at
    Reading.objects.bulk_update(rows, ["taken_at"])


def _store_iron(user: Any, shelf: list[_Iron], unknown: list[_Unknown]) -> None:
    held = ShelfItem.objects.of(user).count() + len(shelf), UnknownIron.objects.of(user).count() + len(unknown)
    if held[0] > MOST_ITEMS or held[1] > MOST_UNKNOWN:
        raise DesignRefused(f"The shelf holds {MOST_ITEMS} pieces and {MOST_UNKNOWN} unknown ones; take some off.")
    for one in shelf:
        figures = figures_read(one.kind, {name: (known.text, known.source) for name, known in one.figures.items()})
        item = ShelfItem.objects.create(owner=user, figures=figures, **one.model_dump(exclude={"made_at", "figures"}))
        ShelfItem.objects.filter(pk=item.pk).update(made_at=one.made_at)
    for other in unknown:
        stored = UnknownIron(owner=user, **other.model_dump(exclude={"made_at"}))
        try:
            found_of(stored)
        except (ThermionicError, TypeError, KeyError):
            raise DesignRefused(f"{_IRON}, {other.name}: its readings cannot be read.") from None
        stored.save()
        UnknownIron.objects.filter(pk=stored.pk).update(made_at=other.made_at)


def _store_mains(user: Any, carried: list[_MainsReading]) -> None:
    if MainsReading.objects.of(user).count() + len(carried) > MOST_READINGS:
        raise DesignRefused(f"The log of the mains holds {MOST_READINGS} readings; take some out first.")
    MainsReading.objects.bulk_create(MainsReading(owner=user, **one.model_dump()) for one in carried)


def _store_tubes(user: Any, carried: list[_Tube]) -> int:
    have = {name.upper() for name in OwnTube.objects.of(user).values_list("name", flat=True)}
    count = 0
    for one in carried:
        if one.name.upper() in have:
            continue
        if len(have) >= MOST_TUBES:
            raise DesignRefused(f"The drawer holds {MOST_TUBES} types of your own; take some out first.")
        if one.kind == "triode":
            _checked(f"{_TUBES}, {one.name}", OwnTriode, one.document)
        have.add(one.name.upper())
        tube = OwnTube.objects.create(owner=user, **one.model_dump(exclude={"made_at"}))
        OwnTube.objects.filter(pk=tube.pk).update(made_at=one.made_at)
        count += 1
    return count
