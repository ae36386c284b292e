"""Every change to the workshop's iron, and putting a piece of it into a project."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.db import transaction
from django.http import Http404
from django.shortcuts import get_object_or_404

from bold_anode.amps.models import Project
from bold_anode.amps.operations import change_then, locked, owned, revise
from bold_anode.frame.owned import alone
from bold_anode.iron.models import (
    KINDS,
    LEAST_CORE,
    MOST_CORE,
    MOST_LEAD_NAME,
    SOURCES,
    Origin,
    ShelfItem,
    UnknownIron,
)
from thermionic.design import Design, field
from thermionic.design.iron import FIGURES, Piece, put_in
from thermionic.errors import DesignRefused, ValueRefused
from thermionic.iron.readings import Reading, Resistance, Voltage
from thermionic.iron.unknown import find
from thermionic.values import Quantity, parse

MOST_ITEMS, MOST_UNKNOWN, MOST_READINGS = 300, 50, 200


def item_of(user: Any, item_id: int) -> ShelfItem:
    """The user's own piece of iron. Raises Http404."""
    item: ShelfItem = get_object_or_404(ShelfItem.objects.of(user).select_related("project__current"), pk=item_id)
    return item


def add_item(user: Any, kind: str, name: str, state: str, place: str, typed: dict[str, tuple[str, str]]) -> ShelfItem:
    """Put a piece of iron on the shelf; ``typed`` has a figure's text and where it came from. Raises ValueRefused."""
    if kind not in dict(KINDS):
        raise ValueRefused(f"A piece of iron is one of {', '.join(words.lower() for _, words in KINDS)}.")
    figures = figures_read(kind, typed)
    with alone(user):
        if ShelfItem.objects.of(user).count() >= MOST_ITEMS:
            raise ValueRefused(f"The shelf holds {MOST_ITEMS} pieces; take one off first.")
        item: ShelfItem = ShelfItem.objects.create(
            owner=user, kind=kind, name=_named(name), state=state.strip()[:120], place=place.strip()[:120],
            figures=figures,
        )  # fmt: skip
    return item


def change_item(
    user: Any, item_id: int, name: str, state: str, place: str, typed: dict[str, tuple[str, str]]
) -> ShelfItem:
    """Write down what is known of a piece now: a measured figure replaces an assumed one. Raises Http404,
    ValueRefused."""
    item = item_of(user, item_id)
    item.figures = figures_read(item.kind, typed)
    item.name, item.state, item.place = _named(name), state.strip()[:120], place.strip()[:120]
    item.save(update_fields=["figures", "name", "state", "place"])
    return item


def remove_item(user: Any, item_id: int) -> None:
    """Take a piece off the shelf. Raises Http404."""
    item_of(user, item_id).delete()


def _named(name: str) -> str:
    text = " ".join(name.split())
    if not 1 <= len(text) <= 60:
        raise ValueRefused("A piece of iron has a name of 1 to 60 characters.")
    return text


def figures_read(kind: str, typed: dict[str, tuple[str, str]]) -> dict[str, dict[str, str]]:
    """The figures as they are kept. Raises ValueRefused."""
    result = {}
    for figure in FIGURES[kind]:
        text, source = typed.get(figure.name, ("", ""))
        if not text.strip():
            continue
        if source not in SOURCES:
            raise ValueRefused(f"{figure.words}: say where it came from: {', '.join(SOURCES)}.")
        result[figure.name] = {"text": figure.read(text), "from": source}
    return result


def piece_of(item: ShelfItem) -> Piece:
    """A piece as the core knows it."""
    return Piece(item.name, item.kind, {name: one["text"] for name, one in item.figures.items()})


def use_item(user: Any, project_id: int, item_id: int, path: str, seen: int | None = None) -> Project:
    """Put a piece from the shelf into a project: its figures into the design, and it held by that project.

    Raises Http404, Stale, ThermionicError.
    """
    item = item_of(user, item_id)
    if item.project_id not in (None, project_id) and item.project and item.project.deleted_at is None:
        raise ValueRefused(f"{item.name} is in {item.project.name} already; take it out there first.")

    def change(design: Design) -> tuple[Design, str]:
        return put_in(design, path, piece_of(item)), f"{item.name} from the shelf"

    def store(project: Project, design: Design, note: str) -> None:
        now = ShelfItem.objects.select_for_update().filter(pk=item.pk).first()
        if now is None or (now.figures, now.project_id) != (item.figures, item.project_id):
            raise ValueRefused(f"{item.name} was changed in another window. Load the shelf again, then use it.")
        if design != project.at.design:
            revise(project, design, note)
        now.project = project
        now.save(update_fields=["project"])
        for figure in FIGURES[item.kind]:
            if figure.quantity and figure.into and figure.name in item.figures:
                _keep_origin(project, f"{path}/{figure.into}", item.figures[figure.name]["from"])

    return change_then(user, project_id, change, store, seen, always=True)


def say_origin(user: Any, project_id: int, path: str, source: str) -> Project:
    """Say where a value of the iron in a project came from. Raises Http404, DesignRefused, ValueRefused."""
    if source not in SOURCES:
        owned(user, project_id)
        raise ValueRefused(f"A value came from one of {', '.join(SOURCES)}.")
    with transaction.atomic():
        project = locked(user, project_id)
        _keep_origin(project, path, source)
    return project


def _keep_origin(project: Project, path: str, source: str) -> None:
    value = field(project.at.design, path)
    if value.quantity is None:
        raise ValueRefused(f"{value.title} is no figure of a piece of iron, which could be measured or read off it.")
    text = value.text
    Origin.objects.update_or_create(project=project, path=path, defaults={"text": text, "source": source})


def origins_of(project: Project) -> dict[str, str]:
    """Where values of a project's design came from, by their path; of those only that still stand as they were."""
    design, result = project.at.design, {}
    for origin in Origin.objects.filter(project=project):
        try:
            if field(design, origin.path).text == origin.text:
                result[origin.path] = origin.source
        except DesignRefused:  # the design has no such part now
            continue
    return result


@transaction.atomic
def put_back(user: Any, item_id: int) -> None:
    """A piece of iron is held by no project any more. Raises Http404."""
    item = item_of(user, item_id)
    item.project = None
    item.save(update_fields=["project"])


# Unknown transformers.


def unknown_of(user: Any, unknown_id: int) -> UnknownIron:
    """The user's own unknown transformer. Raises Http404."""
    result: UnknownIron = get_object_or_404(UnknownIron.objects.of(user), pk=unknown_id)
    return result


def begin_unknown(user: Any, name: str, leads: str) -> UnknownIron:
    """Begin to find a transformer out, its leads' names divided by commas or spaces. Raises ValueRefused."""
    names = [word for word in leads.replace(",", " ").split() if word]
    if any(len(name) > MOST_LEAD_NAME for name in names):
        raise ValueRefused(f"A lead's name has up to {MOST_LEAD_NAME} characters.")
    find(names, [])
    with alone(user):
        if UnknownIron.objects.of(user).count() >= MOST_UNKNOWN:
            raise ValueRefused(f"{MOST_UNKNOWN} unknown transformers are kept; delete one first.")
        made: UnknownIron = UnknownIron.objects.create(owner=user, name=_named(name), leads=names)
    return made


def read_unknown(user: Any, unknown_id: int, typed: dict[str, str]) -> UnknownIron:
    """Keep a reading: ``ohms`` between ``a`` and ``b`` ("open" for none), or ``volts`` there with ``applied`` on
    ``on_a`` and ``on_b``. Raises Http404, ValueRefused."""
    unknown_of(user, unknown_id)  # whose it is comes before what was typed
    reading = _reading(typed)

    def change(unknown: UnknownIron) -> list[dict[str, Any]]:
        if len(unknown.readings) >= MOST_READINGS:
            raise ValueRefused(f"{MOST_READINGS} readings are kept; delete one first.")
        find(unknown.leads, [*unknown.read, reading])
        return [*unknown.readings, plain(reading)]

    return _change_readings(user, unknown_id, change)


def _change_readings(
    user: Any, unknown_id: int, change: Callable[[UnknownIron], list[dict[str, Any]]]
) -> UnknownIron:
    """Keep changed readings. Where others were kept while the change was worked out, it is made again to those.
    Raises Http404 and what ``change`` raises."""
    while True:
        unknown = unknown_of(user, unknown_id)
        readings = change(unknown)
        same = UnknownIron.objects.of(user).filter(pk=unknown.pk, readings=unknown.readings)
        if same.update(readings=readings):
            unknown.readings = readings
            return unknown


def _reading(typed: dict[str, str]) -> Reading:
    """A reading as typed. Raises ValueRefused."""
    a, b = typed.get("a", ""), typed.get("b", "")
    if typed.get("kind") == "volts":
        applied = _number(typed.get("applied", ""), Quantity.VOLTAGE, "The voltage that is on")
        joined = (typed["join_a"], typed["join_b"]) if typed.get("join_a") and typed.get("join_b") else None
        volt = _number(typed.get("volts", ""), Quantity.VOLTAGE, "The reading")
        return Voltage(typed.get("on_a", ""), typed.get("on_b", ""), applied, a, b, volt, joined)
    text = typed.get("ohms", "").strip().lower()
    ohm = None if text in ("open", "ol", "∞", "inf") else _number(text, Quantity.RESISTANCE, "The reading")
    return Resistance(a, b, ohm)


def _number(text: str, quantity: Quantity, what: str) -> float:
    """A reading as typed; a bare 0 is one. Raises ValueRefused."""
    if text.strip() in ("0", "0.0", "0.00"):
        return 0.0
    try:
        return parse(text, quantity)
    except ValueRefused as refusal:
        raise ValueRefused(f"{what}: {refusal}") from None


def take_back(user: Any, unknown_id: int, place: int) -> UnknownIron:
    """Delete a reading. Raises Http404."""
    meant: list[dict[str, Any]] = []

    def change(unknown: UnknownIron) -> list[dict[str, Any]]:
        if not 0 <= place < len(unknown.readings):
            raise Http404
        if meant and meant[0] != unknown.readings[place]:
            raise ValueRefused("The readings were changed in another window. Load the page again, then delete it.")
        meant.append(unknown.readings[place])
        return [one for at, one in enumerate(unknown.readings) if at != place]

    return _change_readings(user, unknown_id, change)


def describe_unknown(user: Any, unknown_id: int, core: str, mains: str) -> UnknownIron:
    """Keep the core's size, cm² ("" for unknown), and the mains. Raises Http404, ValueRefused."""
    unknown = unknown_of(user, unknown_id)
    unknown.core_cm2 = None
    if core.strip():
        try:
            size = float(core.strip().replace(",", "."))
        except ValueError:
            size = 0.0
        if not LEAST_CORE <= size <= MOST_CORE:
            raise ValueRefused(
                f"The core's middle limb is {LEAST_CORE:g} to {MOST_CORE:g} cm²: its width times the stack's height."
            )
        unknown.core_cm2 = size
    unknown.mains_volt = _number(mains, Quantity.VOLTAGE, "The mains")
    unknown.save(update_fields=["core_cm2", "mains_volt"])
    return unknown


def forget_unknown(user: Any, unknown_id: int) -> None:
    """Delete an unknown transformer. Raises Http404."""
    unknown_of(user, unknown_id).delete()


def plain(reading: Reading) -> dict[str, Any]:
    """A reading as it is kept."""
    if isinstance(reading, Resistance):
        return {"a": reading.a, "b": reading.b, "ohm": reading.ohm}
    return {
        "on_a": reading.on_a, "on_b": reading.on_b, "applied": reading.applied,
        "a": reading.a, "b": reading.b, "volt": reading.volt, "joined": reading.joined,
    }  # fmt: skip
