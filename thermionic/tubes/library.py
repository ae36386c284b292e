"""Loading the tube data files."""

from __future__ import annotations

import difflib
import tomllib
from dataclasses import dataclass, fields
from functools import cache
from importlib import resources
from typing import Any

from thermionic.devices import Triode, TriodeCoefficients
from thermionic.errors import UnknownTube
from thermionic.tubes.fitting import Point
from thermionic.tubes.stages import PublishedStage


@dataclass(frozen=True)
class Limits:
    """Design-centre maximum ratings of one section, SI units; ``unsure`` names those to be taken with care."""

    anode_v: float
    anode_w: float
    cathode_a: float
    grid_leak_fixed_bias_ohm: float
    grid_leak_cathode_bias_ohm: float
    heater_cathode_v: float
    unsure: tuple[str, ...] = ()


@dataclass(frozen=True)
class Heater:
    """Heater or filament, each envelope: volts, amperes, and whether it is itself the cathode."""

    volts: float
    amperes: float
    filament: bool


@dataclass(frozen=True)
class TubeType:
    """Everything known of one type. ``pins`` maps a pin's number to its electrode."""

    type: str
    aliases: tuple[str, ...]
    description: str
    sections: int
    base: str
    pins: dict[int, str]
    heater: Heater
    limits: Limits
    capacitances: dict[str, float]
    points: tuple[Point, ...]
    stages: tuple[PublishedStage, ...]
    coefficients: TriodeCoefficients
    note: str = ""

    def triode(self, scale: float = 1.0) -> Triode:
        """One section as a device; ``scale`` multiplies its emission (a weak tube has less than 1)."""
        return Triode(
            self.coefficients,
            grid_anode_farad=self.capacitances["grid_anode_f"],
            grid_cathode_farad=self.capacitances["grid_cathode_f"],
            anode_cathode_farad=self.capacitances["anode_cathode_f"],
            scale=scale,
        )


def _read(raw: dict[str, Any]) -> TubeType:
    limits = {**raw["limits"], "unsure": tuple(raw["limits"].get("unsure", ()))}
    return TubeType(
        type=raw["type"],
        aliases=tuple(raw["aliases"]),
        description=raw["description"],
        sections=raw["sections"],
        base=raw["base"]["name"],
        pins={int(pin): electrode for pin, electrode in raw["base"]["pins"].items()},
        heater=Heater(**raw["heater"]),
        limits=Limits(**limits),
        capacitances=raw["capacitances"],
        points=tuple(Point(**point) for point in raw["points"]),
        stages=tuple(PublishedStage(**stage) for stage in raw.get("stages", ())),
        coefficients=TriodeCoefficients(
            **{field.name: raw["coefficients"][field.name] for field in fields(TriodeCoefficients)}
        ),
        note=raw.get("note", ""),
    )


@cache
def all_types() -> dict[str, TubeType]:
    """Every type in the library, by its type number, in the order of the file names."""
    folder = resources.files("thermionic.tubes") / "data"
    files = sorted((entry for entry in folder.iterdir() if entry.name.endswith(".toml")), key=str)
    types = [_read(tomllib.loads(entry.read_text())) for entry in files]
    return {tube.type: tube for tube in types}


@cache
def _names() -> dict[str, TubeType]:
    names: dict[str, TubeType] = {}
    for tube in all_types().values():
        for name in (tube.type, *tube.aliases):
            if names.setdefault(name.upper(), tube) is not tube:
                raise AssertionError(f"two tube files claim the name {name}")
    return names


def get(name: str) -> TubeType:
    """The type known by ``name`` or an equivalent of it, in any case. Raises UnknownTube."""
    found = _names().get(name.strip().upper())
    if found:
        return found
    near = difflib.get_close_matches(name.strip().upper(), _names(), n=1)
    suggestion = f" Did you mean {near[0]}?" if near else ""
    known = ", ".join(all_types())
    raise UnknownTube(f"“{name[:40]}” is not in the tube library.{suggestion} It has {known}.")
