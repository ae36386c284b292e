"""Reading and changing one value of a design by its path, and putting parts in and out."""

from __future__ import annotations

import types
from dataclasses import dataclass, replace
from functools import cache
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from pydantic import BaseModel

from thermionic import values
from thermionic.blocks import Block, Component, Measured
from thermionic.design import sections
from thermionic.design.document import Design, OwnTriode
from thermionic.design.graph import options
from thermionic.design.paths import Found, find, put
from thermionic.design.reading import dump, validate, with_value
from thermionic.errors import DesignRefused, ValueRefused
from thermionic.tubes import TubeType, all_types
from thermionic.values import Quantity, Series

_HIDDEN = ("id", "kind")


@dataclass(frozen=True)
class Field:
    """One value: its path, what it is called, what it measures (None for text and choices) and what it holds now;
    ``refers`` where it names a port of another block."""

    path: str
    title: str
    quantity: Quantity | None
    value: Any
    refers: bool = False

    @property
    def text(self) -> str:
        """The value as a builder writes it."""
        if self.value is None:
            return ""
        if isinstance(self.value, bool):
            return "yes" if self.value else "no"
        if self.quantity is None or not isinstance(self.value, (int, float)):
            if isinstance(self.value, tuple):
                return ", ".join(one if isinstance(one, str) else f"{one:g}" for one in self.value)
            return str(self.value)
        return values.written(self.value, self.quantity)


def field(design: Design, path: str) -> Field:
    """The value at ``path``. Raises DesignRefused if the design has none there, or more than one."""
    result = find(design, path)
    if isinstance(result.value, BaseModel) or result.owner is None or _members(result.value):
        raise DesignRefused(f"{path[:120]} is not a single value that can be changed.")
    return _field(result)


def _members(value: Any) -> bool:
    return isinstance(value, tuple) and any(isinstance(member, BaseModel) for member in value)


def _field(found: Found) -> Field:
    return Field(found.path, found.title, _quantity_of(found), found.value, _is_reference(found))


def _is_reference(found: Found) -> bool:
    return isinstance(found.owner, Block) and found.name in type(found.owner).reference_fields()


def fields_at(design: Design, path: str) -> list[Field]:
    """The single values of the part or block at ``path``, with its tubes' types. Raises DesignRefused."""
    owner = find(design, path).value
    if not isinstance(owner, BaseModel):
        raise DesignRefused(f"{design.name} has no part at {path[:120]}.")
    fields: list[Field] = []
    envelopes: list[str] = []
    for name in type(owner).model_fields:
        at = find(design, f"{path}/{name}")
        single = isinstance(at.value, (int, float, str)) or (at.value is None and not _is_part(at))
        if isinstance(at.value, Component) and at.value.inside and isinstance(owner, Block) and _is_needed(at):
            fields += [
                replace(one, title=f"{at.title}: {one.title.lower()}") for one in fields_at(design, f"{path}/{name}")
            ]
        if name in _HIDDEN or not (single or (isinstance(at.value, tuple) and not _members(at.value))):
            continue
        fields.append(_field(at))
        if _are_sections(at):
            envelopes += [section.partition(".")[0] for section in at.value or ()]
    paths = [
        f"envelopes/{envelope}/{name}"
        for envelope in dict.fromkeys(envelopes)
        for name in _of_envelope(design, envelope)
    ]
    return [*(_field(find(design, path)) for path in paths), *fields]


def _is_needed(found: Found) -> bool:
    """Whether a part cannot be left out."""
    return found.info is not None and type(None) not in _annotations(found.info.annotation)


def _of_envelope(design: Design, envelope: str) -> list[str]:
    """What can be chosen of an envelope: its type; whether two channels share it where it has several sections."""
    shared = design.channels > 1 and len(design.tube_of(envelope).section_letters) > 1
    return ["type", "split"] if shared else ["type"]


def _annotations(annotation: Any) -> list[Any]:
    """An annotation with all that it is made of."""
    origin = get_origin(annotation)
    if origin is Annotated or origin in (Union, types.UnionType, tuple):
        return [annotation, *(inner for part in get_args(annotation) for inner in _annotations(part))]
    return [annotation]


def _quantity_of(found: Found) -> Quantity | None:
    return None if found.owner is None else _quantity_of_field(type(found.owner), found.name)


@cache
def _quantity_of_field(owner: type[BaseModel], name: str) -> Quantity | None:
    info = owner.model_fields[name]
    marks = [*info.metadata, *_annotations(info.annotation)]
    return next((mark.quantity for mark in marks if isinstance(mark, Measured)), None)


def _is_part(found: Found) -> bool:
    """Whether a field holds a part of several values, there or not."""
    return found.info is not None and any(
        isinstance(annotation, type) and issubclass(annotation, BaseModel)
        for annotation in _annotations(found.info.annotation)
    )


def changed(design: Design, path: str, typed: str | float) -> Design:
    """The design with another value at ``path``, as typed or in SI units. Raises DesignRefused, ValueRefused.

    An empty text takes out a value that may be left out.
    """
    old = field(design, path)
    result = find(design, path)
    value = _read(result, old, typed)
    if not _are_sections(result):
        return with_value(design, path, value)
    raw = dump(design)
    put(raw, path, sections.moved(design, raw, old.value[0], value))
    sections.drop_unused(raw)
    return validate(raw)


def _are_sections(found: Found) -> bool:
    """Whether a field says which sections of envelopes a position has."""
    return isinstance(found.owner, Block) and found.name in type(found.owner).section_fields()


def _read(found: Found, old: Field, typed: str | float) -> Any:
    if isinstance(typed, str):
        text = typed.strip()
        assert found.info is not None
        if not text and not found.info.is_required() and found.info.default is None:
            return None
        if old.quantity is not None:
            return values.parse(text, old.quantity)
        kinds = _annotations(found.info.annotation)
        if bool in kinds:
            if text.lower() not in ("yes", "no", "true", "false"):
                raise ValueRefused(f"“{text[:40]}” is neither yes nor no.")
            return text.lower() in ("yes", "true")
        if isinstance(old.value, tuple):
            return [word.strip() for word in text.split(",") if word.strip()]
        if int in kinds:
            try:
                return int(text)
            except ValueError:
                raise ValueRefused(f"“{text[:40]}” is not a whole number.") from None
        if float in kinds:
            return values.parse(text, Quantity.RATIO)
        return typed
    return float(typed) if old.quantity is not None else typed


def with_own_tube(design: Design, own: OwnTriode) -> Design:
    """The design with a tube type of the builder's own in it; it takes the place of one of the same name."""
    kept = tuple(tube for tube in design.own_tubes if tube.name.upper() != own.name.upper())
    return validate(dump(design.model_copy(update={"own_tubes": (*kept, own)})))


def optional_parts(design: Design) -> dict[str, bool]:
    """The paths of parts that may be left out, and whether each is fitted."""
    result = {}
    for block in design.blocks:
        for name, info in type(block).model_fields.items():
            at = Found("", None, block, name, info)
            if _is_part(at) and not info.is_required() and info.default is None and _first(at) is not None:
                result[f"blocks/{block.id}/{name}"] = getattr(block, name) is not None
    return result


def _first(found: Found) -> Any:
    assert found.info is not None
    extra = found.info.json_schema_extra
    return extra.get("first") if isinstance(extra, dict) else None


def fit_part(design: Design, path: str, fitted: bool) -> Design:
    """The design with an optional part put in (as it is usually first fitted) or taken out. Raises DesignRefused."""
    if path not in optional_parts(design):
        raise DesignRefused(f"{path[:120]} is not a part that can be put in or left out.")
    return with_value(design, path, _first(find(design, path)) if fitted else None)


def full_up(design: Design) -> Design:
    """The design with every control that only takes away turned full up."""
    blocks = []
    for block in design.blocks:
        for path, value in block.full_up().items():
            block = _with(block, path.split("/"), value)
        blocks.append(block)
    return design.model_copy(update={"blocks": tuple(blocks)})


def _with(model: Any, way: list[str], value: Any) -> Any:
    """A model with another value at the end of a way of names; the value must be one that it may have."""
    first, *rest = way
    return model.model_copy(update={first: _with(getattr(model, first), rest, value) if rest else value})


def step_field(design: Design, path: str, steps: int, series: Series = Series.E12) -> Design:
    """The design with the value at ``path`` stepped through the preferred values."""
    old = field(design, path)
    if old.quantity not in (Quantity.RESISTANCE, Quantity.CAPACITANCE, Quantity.INDUCTANCE):
        raise ValueRefused("Only resistances, capacitances and inductances have preferred values.")
    return changed(design, path, values.step(old.value, series, steps))


def choices(design: Design, path: str) -> tuple[str, ...]:
    """The texts that a choice at ``path`` may have; empty where any value of its kind will do."""
    result = find(design, path)
    if result.info is None or result.owner is None:
        return ()
    for annotation in _annotations(result.info.annotation):
        if get_origin(annotation) is Literal:
            return tuple(str(option) for option in get_args(annotation))
    if bool in _annotations(result.info.annotation):
        return ("yes", "no")
    if _is_reference(result):
        assert isinstance(result.owner, Block)
        none = () if result.info.is_required() else ("",)
        return (*none, *options(design, result.owner, result.name))
    if _are_sections(result):
        return sections.choices(design, result.value)
    return ()


def fitting_types(design: Design, envelope_id: str) -> list[str]:
    """The types of the library with the same sort of section wherever the design uses one of this envelope."""
    used = [
        section[-1]
        for block in design.blocks
        for section in block.sections
        if section.partition(".")[0] == envelope_id
    ]
    kinds = [design.tube_of(envelope_id).section(letter).kind for letter in used]
    return [name for name, type_ in all_types().items() if _serves(type_, used, kinds)]


def _serves(type_: TubeType, letters: list[str], kinds: list[str]) -> bool:
    if any(letter not in type_.section_letters for letter in letters):
        return False
    amplifies = ("triode", "pentode")
    return all(
        (result := type_.section(letter).kind) == kind or (kind in amplifies and result in amplifies)
        for letter, kind in zip(letters, kinds, strict=True)
    )
