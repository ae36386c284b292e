"""Every change to the workshop's iron, and putting a piece of it into a project."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.db import transaction
from django.http import Http404
from pydantic import BaseModel

from bold_anode.amps.models import Project
from bold_anode.amps.operations import change_design
from bold_anode.iron.models import KINDS, ShelfItem, UnknownIron
from thermionic import design as documents
from thermionic.blocks import Group
from thermionic.design import Design
from thermionic.errors import ValueRefused
from thermionic.iron.unknown import Found, Reading, Resistance, Voltage, find
from thermionic.values import Quantity, parse, written

MOST_ITEMS, MOST_UNKNOWN, MOST_READINGS = 300, 50, 200
SOURCES = ("measured", "label", "data sheet", "assumed")


@dataclass(frozen=True)
class FigureOf:
    """A figure of a kind of iron: its name, its words, what it measures, and the value of a block that it goes into
    (within the block), "" for one that is kept only."""

    name: str
    words: str
    quantity: Quantity
    into: str


_OHM, _HENRY, _FARAD = Quantity.RESISTANCE, Quantity.INDUCTANCE, Quantity.CAPACITANCE
_AMPERE, _VOLT, _WATT, _HERTZ = Quantity.CURRENT, Quantity.VOLTAGE, Quantity.POWER, Quantity.FREQUENCY
FIGURES: dict[str, tuple[FigureOf, ...]] = {
    "output": (
        FigureOf("primary_ohm", "Primary load", _OHM, "primary_ohm"),
        FigureOf("primary_henry", "Primary inductance", _HENRY, "primary_henry"),
        FigureOf("leakage_henry", "Leakage inductance", _HENRY, "leakage_henry"),
        FigureOf("primary_copper_ohm", "Primary copper", _OHM, "primary_copper_ohm"),
        FigureOf("primary_farad", "Primary's capacitance", _FARAD, "primary_farad"),
        FigureOf("watt", "Full power", _WATT, "core/watt"),
        FigureOf("hertz", "Down to", _HERTZ, "core/hertz"),
        FigureOf("ampere", "Steady current made for", _AMPERE, "core/ampere"),
    ),
    "driver": (
        FigureOf("primary_henry", "Primary inductance", _HENRY, "primary_henry"),
        FigureOf("leakage_henry", "Leakage inductance", _HENRY, "leakage_henry"),
        FigureOf("primary_copper_ohm", "Primary copper", _OHM, "primary_copper_ohm"),
        FigureOf("secondary_copper_ohm", "Secondary copper", _OHM, "secondary_copper_ohm"),
    ),
    "mains": (
        FigureOf("primary_volt", "Primary rated for", _VOLT, "primary_volt"),
        FigureOf("winding_volt", "Winding, open circuit", _VOLT, "winding_volt"),
        FigureOf("winding_ohm", "Winding resistance", _OHM, "winding_ohm"),
        FigureOf("ampere", "Rated current", _AMPERE, ""),
    ),
    "choke": (
        FigureOf("henry", "Inductance at full current", _HENRY, "henry"),
        FigureOf("copper_ohm", "Copper", _OHM, "copper_ohm"),
        FigureOf("rating_ampere", "Full current", _AMPERE, "rating_ampere"),
        FigureOf("farad", "Winding's capacitance", _FARAD, "farad"),
    ),
    "converter": (
        FigureOf("volt", "Voltage", _VOLT, "volt"),
        FigureOf("ohm", "Source resistance", _OHM, "ohm"),
        FigureOf("ampere", "Current limit", _AMPERE, ""),
    ),
}
# What a kind is put into: blocks, or parts of blocks, that have these fields.
_WHERE = {
    "output": ("primary_ohm", "taps"),
    "driver": ("ratio", "secondary_copper_ohm"),
    "mains": ("winding_volt", "winding_ohm"),
    "choke": ("henry", "rating_ampere"),
    "converter": ("volt", "ohm"),
}


def item_of(user: Any, item_id: int) -> ShelfItem:
    """The user's own piece of iron. Raises Http404."""
    item: ShelfItem | None = ShelfItem.objects.of(user).select_related("project__current").filter(pk=item_id).first()
    if item is None:
        raise Http404
    return item


def add_item(user: Any, kind: str, name: str, state: str, place: str, typed: dict[str, tuple[str, str]]) -> ShelfItem:
    """Put a piece of iron on the shelf; ``typed`` has a figure's text and where it came from. Raises ValueRefused."""
    if kind not in dict(KINDS):
        raise ValueRefused(f"A piece of iron is one of {', '.join(words.lower() for _, words in KINDS)}.")
    if ShelfItem.objects.of(user).count() >= MOST_ITEMS:
        raise ValueRefused(f"The shelf holds {MOST_ITEMS} pieces; take one off first.")
    figures = _figures(kind, typed)
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
    item.figures = _figures(item.kind, typed)
    item.name, item.state, item.place = _named(name), state.strip()[:120], place.strip()[:120]
    item.save()
    return item


def remove_item(user: Any, item_id: int) -> None:
    """Take a piece off the shelf. Raises Http404."""
    item_of(user, item_id).delete()


def _named(name: str) -> str:
    text = " ".join(name.split())
    if not 1 <= len(text) <= 60:
        raise ValueRefused("A piece of iron has a name of 1 to 60 characters.")
    return text


def _figures(kind: str, typed: dict[str, tuple[str, str]]) -> dict[str, dict[str, str]]:
    """The figures as they are kept. Raises ValueRefused."""
    found = {}
    for one in FIGURES[kind]:
        text, source = typed.get(one.name, ("", ""))
        if not text.strip():
            continue
        if source not in SOURCES:
            raise ValueRefused(f"{one.words}: say where it came from: {', '.join(SOURCES)}.")
        try:
            value = parse(text, one.quantity)
        except ValueRefused as refusal:
            raise ValueRefused(f"{one.words}: {refusal}") from None
        found[one.name] = {"text": written(value, one.quantity), "from": source}
    return found


def places_for(design: Design, kind: str) -> list[tuple[str, str]]:
    """Where a kind of iron can go in a design: paths of blocks or parts, with their words."""
    wanted = set(_WHERE[kind])
    found = []
    for block in design.blocks:
        fields = type(block).model_fields
        if wanted <= set(fields) and (kind != "converter" or block.group is Group.SUPPLY):
            found.append((f"blocks/{block.id}", block.label))
        for name, info in fields.items():
            part = getattr(block, name)
            if isinstance(part, BaseModel) and wanted <= set(type(part).model_fields):
                found.append((f"blocks/{block.id}/{name}", f"{block.label}, {str(info.title).lower()}"))
    return found


def use_item(user: Any, project_id: int, item_id: int, path: str, seen: int | None = None) -> Project:
    """Put a piece from the shelf into a project: its figures into the design, and it held by that project.

    Raises Http404, Stale, ThermionicError.
    """
    item = item_of(user, item_id)
    if item.project_id not in (None, project_id) and item.project and item.project.deleted_at is None:
        raise ValueRefused(f"{item.name} is in {item.project.name} already; take it out there first.")

    def change(design: Design) -> tuple[Design, str]:
        if path not in dict(places_for(design, item.kind)):
            raise ValueRefused(f"{item.name} has no place at {path[:60]} in {design.name}.")
        after = design
        if any(one.into.startswith("core/") and one.name in item.figures for one in FIGURES[item.kind]):
            after = documents.fit_part(after, f"{path}/core", True)
        for one in FIGURES[item.kind]:
            if one.into and one.name in item.figures:
                after = documents.changed(after, f"{path}/{one.into}", item.figures[one.name]["text"])
        return after, f"{item.name} from the shelf"

    project = change_design(user, project_id, change, seen)
    ShelfItem.objects.filter(pk=item.pk).update(project=project)
    return project


@transaction.atomic
def put_back(user: Any, item_id: int) -> None:
    """A piece of iron is held by no project any more. Raises Http404."""
    item = item_of(user, item_id)
    item.project = None
    item.save()


# Unknown transformers.


def unknown_of(user: Any, unknown_id: int) -> UnknownIron:
    """The user's own unknown transformer. Raises Http404."""
    found: UnknownIron | None = UnknownIron.objects.of(user).filter(pk=unknown_id).first()
    if found is None:
        raise Http404
    return found


def begin_unknown(user: Any, name: str, leads: str) -> UnknownIron:
    """Begin to find a transformer out, its leads' names divided by commas or spaces. Raises ValueRefused."""
    names = [one for one in leads.replace(",", " ").split() if one]
    if any(len(one) > 20 for one in names):
        raise ValueRefused("A lead's name has up to 20 characters.")
    find(names, [])
    if UnknownIron.objects.of(user).count() >= MOST_UNKNOWN:
        raise ValueRefused(f"{MOST_UNKNOWN} unknown transformers are kept; delete one first.")
    found: UnknownIron = UnknownIron.objects.create(owner=user, name=_named(name), leads=names)
    return found


def read_unknown(user: Any, unknown_id: int, typed: dict[str, str]) -> UnknownIron:
    """Keep a reading: ``ohms`` between ``a`` and ``b`` ("open" for none), or ``volts`` there with ``applied`` on
    ``on_a`` and ``on_b``. Raises Http404, ValueRefused."""
    unknown = unknown_of(user, unknown_id)
    if len(unknown.readings) >= MOST_READINGS:
        raise ValueRefused(f"{MOST_READINGS} readings are kept; delete one first.")
    a, b = typed.get("a", ""), typed.get("b", "")
    reading: Reading
    if typed.get("kind") == "volts":
        applied = _number(typed.get("applied", ""), _VOLT, "The voltage that is on")
        joined = (typed["join_a"], typed["join_b"]) if typed.get("join_a") and typed.get("join_b") else None
        volt = _number(typed.get("volts", ""), _VOLT, "The reading")
        reading = Voltage(typed.get("on_a", ""), typed.get("on_b", ""), applied, a, b, volt, joined)
    else:
        text = typed.get("ohms", "").strip().lower()
        ohm = None if text in ("open", "ol", "∞", "inf") else _number(text, _OHM, "The reading")
        reading = Resistance(a, b, ohm)
    find(unknown.leads, [*readings_of(unknown), reading])
    unknown.readings = [*unknown.readings, plain(reading)]
    unknown.save()
    return unknown


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
    unknown = unknown_of(user, unknown_id)
    if not 0 <= place < len(unknown.readings):
        raise Http404
    unknown.readings = [one for at, one in enumerate(unknown.readings) if at != place]
    unknown.save()
    return unknown


def describe_unknown(user: Any, unknown_id: int, core: str, mains: str) -> UnknownIron:
    """Keep the core's size, cm² ("" for unknown), and the mains. Raises Http404, ValueRefused."""
    unknown = unknown_of(user, unknown_id)
    unknown.core_cm2 = None
    if core.strip():
        try:
            size = float(core.strip().replace(",", "."))
        except ValueError:
            size = 0.0
        if not 0.2 <= size <= 200.0:
            raise ValueRefused("The core's middle limb is 0.2 to 200 cm²: its width times the stack's height.")
        unknown.core_cm2 = size
    unknown.mains_volt = _number(mains, _VOLT, "The mains")
    unknown.save()
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


def readings_of(unknown: UnknownIron) -> list[Reading]:
    """Its readings."""
    return [
        Voltage(**{**one, "joined": tuple(one["joined"]) if one["joined"] else None}) if "volt" in one
        else Resistance(**one)
        for one in unknown.readings
    ]  # fmt: skip


def found_of(unknown: UnknownIron) -> Found:
    """What its readings tell."""
    return find(unknown.leads, readings_of(unknown))
