"""What the editor of a part offers for each of its values."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from bold_anode.tubes.models import OwnTube
from thermionic import design as documents
from thermionic import tubes
from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks import Flow, split
from thermionic.design import Design, Field
from thermionic.values import Quantity, display


@dataclass(frozen=True)
class TubeChoice:
    """A tube type that can go into an envelope: its name, its other names, and what would no longer fit."""

    name: str
    names: str
    differs: str


@dataclass(frozen=True)
class Row:
    """One value. ``choices`` are what may be chosen, value and words; ``tubes`` what a list to search in has, and
    ``also`` the paths of the envelopes that change with it; ``picked`` whether its other end can be pointed at in
    the drawing. ``number`` says that it is one, and ``prefixes`` what a keyboard of digits lacks for it."""

    path: str
    label: str
    text: str
    choices: tuple[tuple[str, str], ...] = ()
    tubes: tuple[TubeChoice, ...] = ()
    picked: bool = False
    also: tuple[str, ...] = ()
    number: bool = False
    prefixes: tuple[str, ...] = ()


# The prefixes that builders write before the unit.
_PREFIXES: dict[Quantity | None, tuple[str, ...]] = {
    Quantity.RESISTANCE: ("k", "M"),
    Quantity.CAPACITANCE: ("p", "n", "µ"),
    Quantity.INDUCTANCE: ("µ", "m"),
    Quantity.CURRENT: ("µ", "m"),
    Quantity.VOLTAGE: ("m", "k"),
    Quantity.FREQUENCY: ("k",),
}


def rows(user: Any, amplifier: SolvedAmplifier, fields: list[Field]) -> list[Row]:
    """What the editor shows of the values of a part; like tubes of a stage are changed together."""
    tubes_in = [field for field in fields if _is_tube(field)]
    result = []
    for text in dict.fromkeys(field.text for field in tubes_in):
        like = [field.path for field in tubes_in if field.text == text]
        result.append(_tubes(user, amplifier.design, text, like))
    return result + [_row(amplifier, field) for field in fields if not _is_tube(field)]


def _is_tube(field: Field) -> bool:
    return field.path.startswith("envelopes/") and field.path.endswith("/type")


def _tubes(user: Any, design: Design, text: str, paths: list[str]) -> Row:
    names = [path.removeprefix("envelopes/").removesuffix("/type") for path in paths]
    label = f"Tube{'s' if len(names) > 1 else ''} {', '.join(names).upper()}"
    return Row(paths[0], label, text, tubes=(*_own(user, design), *_library(design, names[0])), also=tuple(paths[1:]))


def _row(amplifier: SolvedAmplifier, field: Field) -> Row:
    design = amplifier.design
    label = f"{field.title}, {field.quantity.unit}" if field.quantity and field.quantity.value.infix else field.title
    choices = documents.choices(design, field.path)
    if not choices:
        number = field.quantity is not None or isinstance(field.value, (int, float))
        return Row(field.path, label, field.text, number=number, prefixes=_PREFIXES.get(field.quantity, ()))
    if field.refers:
        return Row(
            field.path, label, field.text, tuple((choice, _end(amplifier, choice)) for choice in choices), picked=True
        )
    if isinstance(field.value, tuple):
        return Row(field.path, label, field.text, tuple((choice, _section(design, choice)) for choice in choices))
    return Row(field.path, label, field.text, tuple((choice, choice) for choice in choices))


def _own(user: Any, design: Design) -> list[TubeChoice]:
    names = [tube.name for tube in design.own_tubes] + [tube.name for tube in OwnTube.objects.triodes_of(user)]
    return [TubeChoice(name, "", "your own") for name in dict.fromkeys(names)]


def _library(design: Design, envelope: str) -> list[TubeChoice]:
    """The types of the library that can go into an envelope, those first that simply go in."""
    now = design.tube_of(envelope)
    letters = [section[-1] for block in design.blocks for section in block.sections if section[:-2] == envelope]
    tube_choices = []
    for name in documents.fitting_types(design, envelope):
        other = tubes.get(name)
        differs = "; ".join(tubes.differences(now, other, letters[0] if letters else "a"))
        tube_choices.append(TubeChoice(name, ", ".join(other.aliases), differs))
    return sorted(tube_choices, key=lambda one: (bool(one.differs), one.differs.count(";")))


def _end(amplifier: SolvedAmplifier, reference: str) -> str:
    """The other end of a reference in words: whose it is, and a rail's voltage."""
    if not reference:
        return "nothing"
    producer, port = split(reference)
    block = amplifier.design.block(producer)
    words = block.label if port == "out" else f"{block.label}, {port.replace('_', ' ')}"
    if block.ports()[port] in (Flow.RAIL, Flow.BIAS):
        words += f", {display(amplifier.voltage(block.node(port)), Quantity.VOLTAGE)}"
    return words


def _section(design: Design, section: str) -> str:
    """A section in words."""
    envelope, _, letter = section.partition(".")
    if not letter:
        return "a bottle of its own"
    type_ = design.tube_of(envelope)
    several = len(type_.section_letters) > 1
    return f"{envelope.upper()}{letter if several else ''} ({type_.type})"
