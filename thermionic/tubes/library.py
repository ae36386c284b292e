"""Loading the tube data files."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass, fields
from functools import cache
from importlib import resources
from typing import Any

from thermionic.devices import (
    Device,
    FilamentTriode,
    GasRegulator,
    Pentode,
    PentodeCoefficients,
    Triode,
    TriodeCoefficients,
    VacuumRectifier,
    Warmup,
)
from thermionic.errors import UnknownTube
from thermionic.tubes.limits import IndicatorLimits, Limits, RectifierLimits, RegulatorLimits
from thermionic.tubes.points import Cutoff, Drop, GridCurrent, Point
from thermionic.tubes.stages import OutputStage, PublishedStage

# The kinds of unit that are solved; a diode of small signals and a tuning indicator are only described.
MODELLED = ("triode", "pentode", "rectifier", "regulator")
# The base's name where it is not known here, and what is then said of its pins.
UNKNOWN_BASE = "not known here"


@dataclass(frozen=True)
class Indication:
    """What a tuning indicator shows: the grid voltages at which its light is widest and narrowest with the anode fed
    from ``supply_v`` through ``anode_load_ohm``, and the target's current at the first, A."""

    supply_v: float
    anode_load_ohm: float
    open_grid_v: float
    closed_grid_v: float
    target_a: float
    source: str = ""
    unsure: bool = False


@dataclass(frozen=True)
class Heater:
    """Heater or filament, each envelope: volts, amperes, and whether it is itself the cathode.

    A cold-cathode tube has none and is not given one.
    """

    volts: float
    amperes: float
    filament: bool

    def both_ways(self) -> tuple[Heater, Heater]:
        """A heater with a centre tap with its halves in series, and in parallel. Its file has either."""
        if self.volts > 9.0:
            return self, Heater(self.volts / 2, self.amperes * 2, self.filament)
        return Heater(self.volts * 2, self.amperes / 2, self.filament), self

    @property
    def warmup(self) -> Warmup:
        """How its cathode comes to temperature: the usual half-emission times, some 1 s for a filament and 11 s for a
        cathode with a heater. Types differ by half of that either way, so it is unsure for every type."""
        return Warmup(1.0, 1.0) if self.filament else Warmup(11.0, 0.6)


@dataclass(frozen=True)
class Envelope:
    """Greatest diameter and seated height, m, and whether the figures are unsure."""

    diameter_m: float
    height_m: float
    unsure: bool = False


@dataclass(frozen=True)
class Unit:
    """One kind of section of a tube, of which there are ``sections`` alike. ``kind`` says which fields it has."""

    name: str
    kind: str
    sections: int
    coefficients: TriodeCoefficients | PentodeCoefficients | float | None = None
    limits: Limits | None = None
    rectifier_limits: RectifierLimits | None = None
    regulator_limits: RegulatorLimits | None = None
    indicator_limits: IndicatorLimits | None = None
    indications: tuple[Indication, ...] = ()
    capacitances: dict[str, float] | None = None
    points: tuple[Point, ...] = ()
    cutoffs: tuple[Cutoff, ...] = ()
    grid_currents: tuple[GridCurrent, ...] = ()
    drops: tuple[Drop, ...] = ()
    stages: tuple[PublishedStage, ...] = ()
    outputs: tuple[OutputStage, ...] = ()
    screen_mu: float | None = None
    striking_v: float | None = None
    running_v: float | None = None
    regulation_v: float | None = None

    @property
    def grid_current_factor(self) -> float:
        """By how much its grid current may be out either way; see fitting.with_grid_current."""
        return 1.5 if self.grid_currents else 2.5


@dataclass(frozen=True)
class TubeType:
    """Everything known of one type. ``pins`` maps a pin's number to its electrode; ``aliases`` are equivalents under
    other naming systems, electrically alike for our purposes. What a type has in common with the one that it is a
    variant of, it has from that one's file."""

    type: str
    aliases: tuple[str, ...]
    description: str
    base: str
    pins: dict[int, str]
    heater: Heater | None
    envelope: Envelope | None
    units: tuple[Unit, ...]
    note: str = ""
    variant_of: str = ""

    @property
    def kind(self) -> str:
        """The kinds of its units, as ``triode`` or ``triode-pentode``."""
        return "-".join(dict.fromkeys(unit.kind for unit in self.units))

    def unit(self, kind: str) -> Unit:
        """Its first unit of a kind: triode, pentode, rectifier, diode, regulator or indicator. Raises UnknownTube if
        it has none."""
        for unit in self.units:
            if unit.kind == kind:
                return unit
        raise UnknownTube(f"{self.type} has no {kind} in it; it is a {self.kind}.")

    def has(self, kind: str) -> bool:
        """Whether it has a unit of that kind."""
        return any(unit.kind == kind for unit in self.units)

    @property
    def sections(self) -> int:
        """Sections of the first unit."""
        return self.units[0].sections

    def section(self, letter: str) -> Unit:
        """The unit that a section belongs to: a, b and so on through its units (a rectifier's anodes are one).

        Raises UnknownTube if it has no such section.
        """
        units = [unit for unit in self.units for _ in range(1 if unit.kind == "rectifier" else unit.sections)]
        place = ord(letter) - ord("a")
        if not 0 <= place < len(units):
            last = chr(ord("a") + len(units) - 1)
            raise UnknownTube(
                f"{self.type} has no section {letter}; it has {'a' if last == 'a' else f'a to {last}'}."
            )
        return units[place]

    @property
    def section_letters(self) -> str:
        """The letters of its sections, such as ``ab``."""
        count = sum(1 if unit.kind == "rectifier" else unit.sections for unit in self.units)
        return "abcdefgh"[:count]

    @property
    def limits(self) -> Limits:
        """The ratings of the triode, or where there is none the pentode. Raises UnknownTube for other kinds."""
        limits = self.unit("triode" if self.has("triode") else "pentode").limits
        assert limits is not None
        return limits

    def device(self, unit: Unit, scale: float = 1.0, warming: bool = False) -> Device:
        """A section of one of its units as a device; ``scale`` multiplies its emission (a weak tube has less than 1).

        A rectifier is its two anodes (a half-wave type has one of them unused), a regulator is dark. Raises
        UnknownTube for a unit that is only described: a diode, a tuning indicator.
        """
        warmup = self.heater.warmup if warming and self.heater else Warmup()
        k = unit.coefficients
        if isinstance(k, TriodeCoefficients):
            return Triode(k, *_capacitances(unit), scale, warmup)
        if isinstance(k, PentodeCoefficients):
            return Pentode(k, *_capacitances(unit), scale, warmup)
        if isinstance(k, float):
            return VacuumRectifier(k, scale, warmup)
        if unit.kind == "regulator":
            return _regulator(unit)
        raise UnknownTube(f"There is no model of the {unit.name} in a {self.type}.")

    def triode(self, scale: float = 1.0, warming: bool = False) -> Triode:
        """A section of its first triode as a device."""
        made = self.device(self.unit("triode"), scale, warming)
        assert isinstance(made, Triode)
        return made

    def filament_triode(self, scale: float = 1.0, warming: bool = False) -> FilamentTriode:
        """A directly heated triode with both ends of its filament. Raises UnknownTube if it is not one."""
        plain = self.triode(scale, warming)
        if self.heater is None or not self.heater.filament:
            raise UnknownTube(f"{self.type} has a separate cathode; it is not directly heated.")
        ohm = self.heater.volts / self.heater.amperes
        capacitances = plain.grid_anode_farad, plain.grid_cathode_farad, plain.anode_cathode_farad
        return FilamentTriode(plain.coefficients, ohm, *capacitances, plain.scale, plain.warmup)

    def pentode(self, scale: float = 1.0, warming: bool = False) -> Pentode:
        """Its pentode or beam tetrode as a device."""
        made = self.device(self.unit("pentode"), scale, warming)
        assert isinstance(made, Pentode)
        return made

    def rectifier(self, scale: float = 1.0, warming: bool = False) -> VacuumRectifier:
        """It as a rectifier of two anodes."""
        made = self.device(self.unit("rectifier"), scale, warming)
        assert isinstance(made, VacuumRectifier)
        return made

    def regulator(self, lit: bool = False) -> GasRegulator:
        """It as a gas regulator, dark unless ``lit``."""
        return _regulator(self.unit("regulator"), lit)

    def devices(self) -> dict[str, Device]:
        """A device for each of its units that there is a model of, by the unit's name."""
        return {unit.name: self.device(unit) for unit in self.units if unit.kind in MODELLED}


def _regulator(unit: Unit, lit: bool = False) -> GasRegulator:
    limits = unit.regulator_limits
    assert limits is not None
    assert unit.striking_v is not None
    assert unit.running_v is not None
    assert unit.regulation_v is not None
    ohm = unit.regulation_v / (limits.most_a - limits.least_a)
    return GasRegulator(unit.striking_v, unit.running_v, ohm, limits.least_a, limits.most_a, lit)


def _capacitances(unit: Unit) -> tuple[float, float, float]:
    assert unit.capacitances is not None
    return tuple(  # type: ignore[return-value]
        unit.capacitances[name] for name in ("grid_anode_f", "grid_cathode_f", "anode_cathode_f")
    )


def _listed(raw: dict[str, Any]) -> dict[str, Any]:
    return {**raw, "unsure": tuple(raw.get("unsure", ()))}


def _triode_coefficients(raw: dict[str, Any]) -> TriodeCoefficients:
    return TriodeCoefficients(**{field.name: raw[field.name] for field in fields(TriodeCoefficients)})


def _coefficients(kind: str, raw: dict[str, Any]) -> TriodeCoefficients | PentodeCoefficients | float | None:
    if kind == "triode":
        return _triode_coefficients(raw)
    if kind == "pentode":
        names = [field.name for field in fields(PentodeCoefficients) if field.name != "space"]
        own = {name: raw[name] for name in names}
        return PentodeCoefficients(_triode_coefficients(raw), **own)
    return float(raw["perveance"]) if kind == "rectifier" else None


def read_unit(raw: dict[str, Any]) -> Unit:
    """One ``[[units]]`` table; without coefficients where they are still to be fitted."""
    kind = raw["kind"]
    limits = raw.get("limits")
    kinds: dict[str, type] = {
        "rectifier": RectifierLimits, "regulator": RegulatorLimits, "indicator": IndicatorLimits
    }  # fmt: skip
    made = kinds.get(kind, Limits)(**_listed(limits)) if limits else None
    return Unit(
        name=raw["name"],
        kind=kind,
        sections=raw.get("sections", 1),
        coefficients=_coefficients(kind, raw["coefficients"]) if "coefficients" in raw else None,
        limits=made if isinstance(made, Limits) else None,
        rectifier_limits=made if isinstance(made, RectifierLimits) else None,
        regulator_limits=made if isinstance(made, RegulatorLimits) else None,
        indicator_limits=made if isinstance(made, IndicatorLimits) else None,
        indications=tuple(Indication(**one) for one in raw.get("indications", ())),
        capacitances=raw.get("capacitances"),
        points=tuple(Point(**point) for point in raw.get("points", ())),
        cutoffs=tuple(Cutoff(**cutoff) for cutoff in raw.get("cutoffs", ())),
        grid_currents=tuple(GridCurrent(**one) for one in raw.get("grid_currents", ())),
        drops=tuple(Drop(**drop) for drop in raw.get("drops", ())),
        stages=tuple(PublishedStage(**stage) for stage in raw.get("stages", ())),
        outputs=tuple(OutputStage(**stage) for stage in raw.get("outputs", ())),
        **{name: raw.get(name) for name in ("screen_mu", "striking_v", "running_v", "regulation_v")},
    )


def _read(raw: dict[str, Any]) -> TubeType:
    return TubeType(
        type=raw["type"],
        aliases=tuple(raw["aliases"]),
        description=raw["description"],
        base=raw["base"]["name"],
        pins={int(pin): electrode for pin, electrode in raw["base"]["pins"].items()},
        heater=Heater(**raw["heater"]) if "heater" in raw else None,
        envelope=Envelope(**raw["envelope"]) if "envelope" in raw else None,
        units=tuple(read_unit(unit) for unit in raw["units"]),
        note=raw.get("note", ""),
        variant_of=raw.get("variant_of", ""),
    )


def _merged(base: dict[str, Any], own: dict[str, Any]) -> dict[str, Any]:
    """A variant's table over that of the type that it varies: what it says counts, at every depth."""
    both = {name: _merged(base[name], own[name]) for name in own if isinstance(base.get(name), dict)}
    return {**base, **own, **both}


def _variant(base: dict[str, Any], own: dict[str, Any]) -> dict[str, Any]:
    """A type whose file says only what differs from another's: of a unit, under the unit's name."""
    differing = own.pop("units", {})
    strange = set(differing) - {unit["name"] for unit in base["units"]}
    if strange:
        raise AssertionError(f"{own['type']} varies {', '.join(strange)}, which {base['type']} has not")
    units = [_merged(unit, differing.get(unit["name"], {})) for unit in base["units"]]
    pins = {"base": own.pop("base")} if "base" in own else {}
    merged: dict[str, Any] = {**_merged({**base, "note": "", "aliases": []}, own), "units": units, **pins}
    return merged


@cache
def all_types() -> dict[str, TubeType]:
    """Every type in the library, by its type number, in the order of the file names."""
    folder = resources.files("thermionic.tubes") / "data"
    files = sorted((entry for entry in folder.iterdir() if entry.name.endswith(".toml")), key=str)
    raws = [tomllib.loads(entry.read_text()) for entry in files]
    whole = {raw["type"]: raw for raw in raws if "variant_of" not in raw}
    types = [_read(_variant(whole[raw["variant_of"]], raw) if "variant_of" in raw else raw) for raw in raws]
    return {tube.type: tube for tube in types}


@cache
def types_with(kind: str) -> dict[str, TubeType]:
    """The types that have a unit of a kind, by type number."""
    return {name: tube for name, tube in all_types().items() if tube.has(kind)}
