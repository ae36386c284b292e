"""Reading and changing one value of a design by its path.

A path is the names on the way to a value, joined by slashes, with blocks and supply sections by their id:
``chain/output/cathode_resistor/ohm``, ``supply/sections/ht1/capacitor/farad``, ``brief/mains_volt``.
"""

from __future__ import annotations

import types
from dataclasses import dataclass
from typing import Annotated, Any, Literal, Union, get_args, get_origin

from pydantic import BaseModel

from thermionic import values
from thermionic.design.document import Design, Measured, OwnTriode, VolumeControl
from thermionic.design.reading import dump, validate
from thermionic.errors import DesignRefused, ValueRefused
from thermionic.values import Quantity, Series


@dataclass(frozen=True)
class Field:
    """One value: its path, what it measures (None for text and choices) and what it holds now."""

    path: str
    quantity: Quantity | None
    value: Any

    @property
    def text(self) -> str:
        """The value as a builder writes it."""
        if self.quantity is None or not isinstance(self.value, (int, float)):
            return str(self.value)
        return values.written(self.value, self.quantity)


def field(design: Design, path: str) -> Field:
    """The value at ``path``. Raises DesignRefused if the design has none there."""
    at: Any = design
    quantity: Quantity | None = None
    for step in path.split("/"):
        if isinstance(at, tuple):
            at = next((item for item in at if getattr(item, "id", None) == step), None)
            found = at is not None
        else:
            found = isinstance(at, BaseModel) and step in type(at).model_fields
            if found:
                quantity = _quantity_of(type(at), step)
                at = getattr(at, step)
        if not found:
            raise DesignRefused(f"{design.name} has nothing at {path[:120]}.")
    if isinstance(at, (BaseModel, tuple)):
        raise DesignRefused(f"{path[:120]} is not a single value that can be changed.")
    return Field(path, quantity, at)


def fields_at(design: Design, path: str) -> list[Field]:
    """The single values of the part or block at ``path``, ids and kinds left out. Raises DesignRefused."""
    at: Any = design
    for step in path.split("/"):
        at = next((i for i in at if i.id == step), None) if isinstance(at, tuple) else getattr(at, step, None)
    if not isinstance(at, BaseModel):
        raise DesignRefused(f"{design.name} has no part at {path[:120]}.")
    return [
        Field(f"{path}/{name}", _quantity_of(type(at), name), getattr(at, name))
        for name in type(at).model_fields
        if name not in ("id", "kind", "rectifier") and isinstance(getattr(at, name), (int, float, str))
    ]


def _quantity_of(model: type[BaseModel], name: str) -> Quantity | None:
    info = model.model_fields[name]
    marks: list[Any] = list(info.metadata)
    pending = [info.annotation]
    while pending:
        annotation = pending.pop()
        origin = get_origin(annotation)
        if origin is Annotated:
            marks += get_args(annotation)[1:]
        elif origin in (Union, types.UnionType):
            pending += get_args(annotation)
    return next((mark.quantity for mark in marks if isinstance(mark, Measured)), None)


def changed(design: Design, path: str, typed: str | float) -> Design:
    """The design with another value at ``path``, as typed or in SI units. Raises DesignRefused, ValueRefused."""
    old = field(design, path)
    value: Any = typed
    if old.quantity is not None:
        value = values.parse(typed, old.quantity) if isinstance(typed, str) else float(typed)
    elif isinstance(old.value, int) and isinstance(typed, str):
        try:
            value = int(typed)
        except ValueError:
            raise ValueRefused(f"“{typed[:40]}” is not a whole number.") from None
    raw = dump(design)
    *way, last = path.split("/")
    _walk(raw, way)[last] = value
    return validate(raw)


def with_own_tube(design: Design, own: OwnTriode) -> Design:
    """The design with a tube type of the builder's own in it; it takes the place of one of the same name."""
    kept = tuple(tube for tube in design.own_tubes if tube.name.upper() != own.name.upper())
    return validate(dump(design.model_copy(update={"own_tubes": (*kept, own)})))


# What is put in where an optional part is first fitted.
_FIRST_FITTED: dict[str, dict[str, float]] = {
    "cathode_bypass": {"farad": 100e-6, "rating_volt": 100.0},
    "grid_stopper": {"ohm": 1e3},
    "grid_leak": {"ohm": 220e3},
    "bleeder": {"ohm": 220e3, "rating_watt": 2.0},
}


def optional_parts(design: Design) -> dict[str, bool]:
    """The paths of parts that may be left out, and whether each is fitted."""
    paths = [
        f"chain/{stage.id}/{name}"
        for stage in design.stages
        for name in ("grid_leak", "grid_stopper", "cathode_bypass")
    ]
    found = {}
    for path in [*paths, "supply/bleeder"]:
        owner = design.supply if path.startswith("supply") else design.block(path.split("/")[1])
        found[path] = getattr(owner, path.rsplit("/", 1)[1]) is not None
    return found


def fit_part(design: Design, path: str, fitted: bool) -> Design:
    """The design with an optional part put in (with a usual value) or taken out. Raises DesignRefused."""
    if path not in optional_parts(design):
        raise DesignRefused(f"{path[:120]} is not a part that can be put in or left out.")
    raw = dump(design)
    *way, last = path.split("/")
    _walk(raw, way)[last] = _FIRST_FITTED[last] if fitted else None
    return validate(raw)


def _walk(raw: Any, way: list[str]) -> Any:
    """Down the plain document, by names and ids."""
    for step in way:
        raw = next(item for item in raw if item["id"] == step) if isinstance(raw, list) else raw[step]
    return raw


def full_up(design: Design) -> Design:
    """The design with its volume controls full up."""
    for block in design.chain:
        if isinstance(block, VolumeControl):
            design = changed(design, f"chain/{block.id}/travel", 1.0)
    return design


def step_field(design: Design, path: str, steps: int, series: Series = Series.E12) -> Design:
    """The design with the value at ``path`` stepped through the preferred values."""
    old = field(design, path)
    if old.quantity not in (Quantity.RESISTANCE, Quantity.CAPACITANCE, Quantity.INDUCTANCE):
        raise ValueRefused("Only resistances, capacitances and inductances have preferred values.")
    return changed(design, path, values.step(old.value, series, steps))


def choices(design: Design, path: str) -> tuple[str, ...]:
    """The texts that a choice at ``path`` may have; empty where any value of its kind will do."""
    *way, last = path.split("/")
    at: Any = design
    for step in way:
        at = next(item for item in at if item.id == step) if isinstance(at, tuple) else getattr(at, step)
    annotation = type(at).model_fields[last].annotation
    if get_origin(annotation) is Literal:
        return tuple(str(option) for option in get_args(annotation))
    if last == "tap_ohm":
        return tuple(values.written(tap, Quantity.RESISTANCE) for tap in at.taps_ohm)
    if last == "feed":
        return tuple(section.id for section in design.supply.sections)
    return ()
