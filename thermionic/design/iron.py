"""Iron in hand: what can be known of a piece of each kind, where it has a place in a design, and putting it there."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from pydantic import BaseModel

from thermionic.blocks import Group
from thermionic.design.document import Design
from thermionic.design.editing import changed, fit_part, optional_parts
from thermionic.design.paths import find
from thermionic.design.reading import dump, validate
from thermionic.errors import ValueRefused
from thermionic.values import Quantity, display, parse, written

_MOST_TAPS = 8


@dataclass(frozen=True)
class FigureOf:
    """A figure of a kind of iron: its name, its words, what it measures (None: one of ``choices``, or without those
    the loads that taps are meant for), and the value of a block that it goes into (within the block), "" for one that
    is kept only."""

    name: str
    words: str
    quantity: Quantity | None
    into: str
    choices: tuple[str, ...] = ()

    @property
    def unit(self) -> str:
        """What it is in, "" for a choice."""
        if self.quantity:
            return self.quantity.unit
        return "" if self.choices else "Ω each"

    def read(self, text: str) -> str:
        """The figure as it is kept. Raises ValueRefused."""
        try:
            if self.quantity:
                return written(parse(text, self.quantity), self.quantity)
            if self.choices:
                if text not in self.choices:
                    raise ValueRefused(f"one of {', '.join(self.choices)}.")
                return text
            ohms = [parse(word, Quantity.RESISTANCE) for word in text.replace(";", ",").split(",") if word.strip()]
            if not 1 <= len(ohms) <= _MOST_TAPS or min(ohms) < 0.1 or max(ohms) > 9999:
                raise ValueRefused(f"1 to {_MOST_TAPS} loads of 0.1 to 9999 Ω, such as 4, 8, 16.")
            return ", ".join(f"{ohm:.3f}".rstrip("0").rstrip(".") for ohm in sorted(set(ohms)))
        except ValueRefused as refusal:
            raise ValueRefused(f"{self.words}: {refusal}") from None

    def said(self, text: str) -> str:
        """A figure that is kept, with its unit."""
        if self.quantity:
            return display(parse(text, self.quantity), self.quantity)
        return text if self.choices else f"{text} Ω"


_OHM, _HENRY, _FARAD = Quantity.RESISTANCE, Quantity.INDUCTANCE, Quantity.CAPACITANCE
_AMPERE, _VOLT, _WATT, _HERTZ = Quantity.CURRENT, Quantity.VOLTAGE, Quantity.POWER, Quantity.FREQUENCY
PUSH_PULL, SINGLE_ENDED = "push-pull", "single-ended"
FIGURES: dict[str, tuple[FigureOf, ...]] = {
    "output": (
        FigureOf("primary_ohm", "Primary load", _OHM, "primary_ohm"),
        FigureOf("sides", "Primary", None, "", (PUSH_PULL, SINGLE_ENDED)),
        FigureOf("taps", "Taps for", None, "taps"),
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
        FigureOf("ampere", "Rated current", _AMPERE, "rating_ampere"),
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


@dataclass(frozen=True)
class Piece:
    """A piece of iron in hand: its name, its kind, and what is known of it, by name as text."""

    name: str
    kind: str
    figures: Mapping[str, str]

    def number(self, name: str) -> float | None:
        """A figure of it, None where it is not known."""
        quantity = next((figure.quantity for figure in FIGURES[self.kind] if figure.name == name), None)
        return parse(self.figures[name], quantity) if quantity and name in self.figures else None


def places_for(design: Design, kind: str) -> list[tuple[str, str]]:
    """Where a kind of iron can go in a design: paths of blocks or parts, with their words."""
    wanted = set(_WHERE[kind])
    result = []
    for block in design.blocks:
        fields = type(block).model_fields
        if wanted <= set(fields) and (kind != "converter" or block.group is Group.SUPPLY):
            result.append((f"blocks/{block.id}", block.label))
        for name, info in fields.items():
            part = getattr(block, name)
            if isinstance(part, BaseModel) and wanted <= set(type(part).model_fields):
                result.append((f"blocks/{block.id}/{name}", f"{block.label}, {str(info.title).lower()}"))
    return result


def put_in(design: Design, path: str, piece: Piece) -> Design:
    """The design with a piece at ``path``: what is known of it goes in field by field, what is not stays as it was
    assumed, but for a core's rating, which is another core's. Raises DesignRefused, ValueRefused."""
    if path not in dict(places_for(design, piece.kind)):
        raise ValueRefused(f"{piece.name} has no place at {path[:60]} in {design.name}.")
    if piece.figures.get("sides") == SINGLE_ENDED and getattr(find(design, path).value, "push_pull", False):
        raise ValueRefused(
            f"{piece.name} is single-ended, without a centre tap; {design.name} is push-pull there and needs one."
        )
    known = [figure for figure in FIGURES[piece.kind] if figure.into and figure.name in piece.figures]
    core = f"{path}/core"
    if core in optional_parts(design):
        design = fit_part(design, core, any(one.into.startswith("core/") for one in known))
    for one in known:
        if one.quantity:
            design = changed(design, f"{path}/{one.into}", piece.figures[one.name])
        else:
            design = with_taps(design, path, piece.figures[one.name])
    return design


def with_taps(design: Design, path: str, text: str) -> Design:
    """The design with an output transformer's taps for the loads named; what hangs on a tap that is gone hangs on the
    nearest. The copper up to a tap that is new follows its turns, which go as the root of the load."""
    raw = dump(design)
    block: dict[str, Any] = next(block for block in raw["blocks"] if f"blocks/{block['id']}" == path)
    old = {float(tap["id"]): tap for tap in block["taps"]}
    new = []
    for name in text.split(", "):
        near = _nearest(float(name), list(old))
        kept = old[near]
        new.append({**kept, "id": name, "copper_ohm": kept["copper_ohm"] * (float(name) / near) ** 0.5})
    block["taps"] = new
    for tap in old.values():
        if tap["id"] not in {one["id"] for one in new}:
            nearest = _nearest(float(tap["id"]), [float(one["id"]) for one in new])
            to = next(one["id"] for one in new if float(one["id"]) == nearest)
            rewire(raw, f"{block['id']}.{tap['id']}", f"{block['id']}.{to}")
    return validate(raw)


def rewire(raw: dict[str, Any], port: str, to: str) -> None:
    """Every block of a design as plain data that hangs on a port hangs on another."""
    for block in raw["blocks"]:
        for name, value in block.items():
            if value == port:
                block[name] = to


def _nearest(ohm: float, among: list[float]) -> float:
    return min(among, key=lambda one: abs(np.log(one / ohm)))


def value_at(design: Design, path: str, name: str) -> float | None:
    """A number of the block or part at ``path``, None where it has none."""
    value = getattr(find(design, path).value, name, None)
    return float(value) if isinstance(value, (int, float)) else None
