"""The document's models. Numbers are SI; wherever one is read, text such as ``4k7`` is accepted too."""

from __future__ import annotations

from dataclasses import dataclass, fields
from typing import Annotated, Any, Literal, Union

from pydantic import BaseModel, ConfigDict, Field, GetCoreSchemaHandler, GetJsonSchemaHandler, model_validator
from pydantic_core import core_schema

from thermionic.devices import TriodeCoefficients
from thermionic.tubes import Limits, TubeType, Unit, get, library_names
from thermionic.values import Quantity, check, parse


@dataclass(frozen=True)
class Measured:
    """Marks a field as a value of one quantity: a number, or text as a builder types it."""

    quantity: Quantity

    def read(self, typed: Any) -> float:
        """The SI value of what was given. Raises ValueError."""
        if isinstance(typed, str):
            return parse(typed, self.quantity)
        if isinstance(typed, bool) or not isinstance(typed, (int, float)):
            raise ValueError(f"A {self.quantity.title} is a number or text like {self.quantity.value.example}.")
        if isinstance(typed, int) and abs(typed) > 10**12:
            raise ValueError(f"No {self.quantity.title} is that large.")
        check(float(typed), self.quantity)
        return float(typed)

    def __get_pydantic_core_schema__(self, source: Any, handler: GetCoreSchemaHandler) -> core_schema.CoreSchema:
        return core_schema.no_info_before_validator_function(self.read, handler(source))

    def __get_pydantic_json_schema__(
        self, schema: core_schema.CoreSchema, handler: GetJsonSchemaHandler
    ) -> dict[str, Any]:
        return {"anyOf": [{"type": "number"}, {"type": "string"}], "description": self.quantity.unit}


Ohms = Annotated[float, Measured(Quantity.RESISTANCE)]
Farads = Annotated[float, Measured(Quantity.CAPACITANCE)]
Henries = Annotated[float, Measured(Quantity.INDUCTANCE)]
Volts = Annotated[float, Measured(Quantity.VOLTAGE)]
Watts = Annotated[float, Measured(Quantity.POWER)]
Hertz = Annotated[float, Measured(Quantity.FREQUENCY)]
Metres = Annotated[float, Measured(Quantity.LENGTH)]
Decibels = Annotated[float, Measured(Quantity.LEVEL)]
Fraction = Annotated[float, Field(ge=0.0, le=1.0), Measured(Quantity.RATIO)]
Tolerance = Annotated[float, Field(ge=0.0, le=0.9), Measured(Quantity.RATIO)]
# Nodes are named after it with a suffix; two underscores running are kept for a netlist's inner nodes.
Id = Annotated[str, Field(pattern=r"^[a-z][a-z0-9]*(_[a-z0-9]+)*$", max_length=40)]
# What a stage's own nodes end in.
STAGE_NODES = ("in", "grid", "anode", "cathode", "ht")
Name = Annotated[str, Field(min_length=1, max_length=120)]
TubeName = Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9 ./-]*$", max_length=40)]
_CAPACITANCES = ("grid_anode_f", "grid_cathode_f", "anode_cathode_f")
_OWN_CATHODE_A = 0.1  # not measured: far above what the anode's rating lets it carry


class _Model(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class Resistor(_Model):
    """A resistor, its power rating in watts and its tolerance as a fraction."""

    ohm: Ohms
    rating_watt: Watts = 0.5
    tolerance: Tolerance = 0.05


class Capacitor(_Model):
    """A capacitor, its voltage rating and its tolerance as a fraction."""

    farad: Farads
    rating_volt: Volts
    tolerance: Tolerance = 0.2


class Brief(_Model):
    """What the amplifier is for.

    ``loudspeaker_db`` is the loudspeaker's sound pressure level at 1 m for 1 W, ``listening_db`` the peak level
    wanted at the listener's distance, dB re 20 uPa; ``mains_volt`` the house voltage, rms.
    """

    loudspeaker_db: Decibels = 90.0
    listening_metre: Metres = 2.5
    listening_db: Decibels = 95.0
    mains_volt: Volts = 230.0
    mains_hertz: Annotated[Hertz, Field(ge=16.0, le=400.0)] = 50.0


class Input(_Model):
    """The source: its level in volts rms at full scale, and its output resistance."""

    id: Id
    kind: Literal["input"]
    source_volt: Volts
    source_ohm: Ohms = 100.0


class VolumeControl(_Model):
    """A volume potentiometer; ``travel`` is the fraction of its resistance below the wiper."""

    id: Id
    kind: Literal["volume"]
    track_ohm: Ohms
    travel: Fraction = 1.0


class _Stage(_Model):
    """What every triode stage has at its grid and cathode. ``feed`` names the supply section it hangs on."""

    id: Id
    tube: Annotated[str, Field(min_length=1, max_length=20)]
    coupling: Capacitor | None = None
    grid_leak: Resistor | None = None
    grid_stopper: Resistor | None = None
    cathode_resistor: Resistor
    cathode_bypass: Capacitor | None = None
    feed: Id

    @model_validator(mode="after")
    def _grid_is_held(self) -> _Stage:
        if self.coupling and not self.grid_leak:
            raise ValueError(f"{self.id}: a grid behind a coupling capacitor needs a grid leak, or nothing holds it.")
        return self


class TriodeStage(_Stage):
    """A common-cathode triode voltage stage with cathode bias."""

    kind: Literal["triode-stage"]
    anode_load: Resistor


class TriodeOutput(_Stage):
    """A single-ended triode output stage with cathode bias; the next block is its transformer."""

    kind: Literal["triode-output"]


class OutputTransformer(_Model):
    """A single-ended output transformer.

    ``primary_ohm`` is the load that the primary shows when a loudspeaker of ``tap_ohm`` hangs on the tap of that
    name; ``taps_ohm`` lists all taps. The copper resistances are DC.
    """

    id: Id
    kind: Literal["output-transformer"]
    primary_ohm: Ohms
    taps_ohm: Annotated[tuple[Ohms, ...], Field(min_length=1, max_length=6)]
    tap_ohm: Ohms
    primary_henry: Henries
    leakage_henry: Henries
    primary_copper_ohm: Ohms
    secondary_copper_ohm: Ohms

    @model_validator(mode="after")
    def _tap_exists(self) -> OutputTransformer:
        if self.tap_ohm not in self.taps_ohm:
            taps = ", ".join(f"{tap:g} Ω" for tap in self.taps_ohm)
            raise ValueError(f"{self.id} has no {self.tap_ohm:g} Ω tap; it has {taps}.")
        return self

    @property
    def turns_ratio(self) -> float:
        """Primary turns over those of the tap in use."""
        return float((self.primary_ohm / self.tap_ohm) ** 0.5)


class Loudspeaker(_Model):
    """The loudspeaker, as a resistance."""

    id: Id
    kind: Literal["loudspeaker"]
    ohm: Ohms


Block = Annotated[
    Union[Input, VolumeControl, TriodeStage, TriodeOutput, OutputTransformer, Loudspeaker],
    Field(discriminator="kind"),
]


class HTSection(_Model):
    """One RC section of the HT supply; stages hang on its capacitor."""

    id: Id
    resistor: Resistor
    capacitor: Capacitor


class HTSupply(_Model):
    """Mains transformer winding, silicon bridge, reservoir, then RC sections.

    ``winding_volt`` is the winding's open-circuit voltage, rms, with ``primary_volt`` on the primary;
    ``winding_ohm`` its resistance including the primary's as seen from it. ``bleeder`` is across the reservoir.
    """

    rectifier: Literal["silicon-bridge"] = "silicon-bridge"
    primary_volt: Annotated[Volts, Field(gt=0)] = 230.0
    winding_volt: Annotated[Volts, Field(gt=0)]
    winding_ohm: Ohms
    reservoir: Capacitor
    bleeder: Resistor | None = None
    sections: Annotated[tuple[HTSection, ...], Field(min_length=1, max_length=8)]


class OwnTriode(_Model):
    """A triode type of the builder's own, fitted to points that they measured; it travels with the design.

    The coefficients are those of thermionic.devices.TriodeCoefficients. ``points`` is how many it was fitted to and
    ``rms_error`` the root mean square of their errors in anode current, as a fraction.
    """

    name: TubeName
    coefficients: dict[str, float]
    anode_volt: Volts
    anode_watt: Watts
    points: Annotated[int, Field(ge=1, le=100_000)] = 1
    rms_error: Annotated[float, Field(ge=0.0, le=100.0)] = 0.0

    @model_validator(mode="after")
    def _usable(self) -> OwnTriode:
        known = {entry.name for entry in fields(TriodeCoefficients)}
        if set(self.coefficients) != known:
            raise ValueError(f"{self.name} needs the coefficients {', '.join(sorted(known))}.")
        if not all(1e-12 < value < 1e12 for value in self.coefficients.values()):
            raise ValueError(f"A coefficient of {self.name} is out of all reason.")
        if self.name.upper() in library_names():
            raise ValueError(f"{self.name} is a type of the library; call your own otherwise.")
        return self

    @property
    def type(self) -> TubeType:
        """It as the library has its types. Its capacitances are not measured and taken as a small triode's."""
        limits = Limits(self.anode_volt, self.anode_watt, _OWN_CATHODE_A, 0.5e6, 1e6, 90.0, system="as given",
                        unsure=("cathode_a", "grid_leak_fixed_bias_ohm", "grid_leak_cathode_bias_ohm"))  # fmt: skip
        unit = Unit("triode", "triode", 1, TriodeCoefficients(**self.coefficients), limits,
                    capacitances=dict.fromkeys(_CAPACITANCES, 2e-12))  # fmt: skip
        return TubeType(self.name, (), "of your own, as measured", "", {}, None, None, (unit,))


class Design(_Model):
    """One amplifier. ``channels`` identical channels share the HT supply."""

    format: Literal["bold-anode-design"] = "bold-anode-design"
    version: Literal[1] = 1
    name: Name
    notes: Annotated[str, Field(max_length=4000)] = ""
    channels: Annotated[int, Field(ge=1, le=2)] = 1
    brief: Brief = Brief()
    chain: Annotated[tuple[Block, ...], Field(min_length=4, max_length=12)]
    supply: HTSupply
    own_tubes: Annotated[tuple[OwnTriode, ...], Field(max_length=24)] = ()

    @model_validator(mode="after")
    def _hangs_together(self) -> Design:
        kinds = [block.kind for block in self.chain]
        if kinds[0] != "input":
            raise ValueError("The chain must begin with an input.")
        if kinds[-3:] != ["triode-output", "output-transformer", "loudspeaker"]:
            raise ValueError("The chain must end with an output stage, its output transformer and a loudspeaker.")
        middle = set(kinds[1:-3]) - {"volume", "triode-stage"}
        if middle:
            raise ValueError(
                f"Between the input and the output stage only volume controls and triode stages fit, "
                f"not {', '.join(sorted(middle))}."
            )
        sections = [section.id for section in self.supply.sections]
        names = [block.id for block in self.chain] + sections
        for name in names:
            if names.count(name) > 1:
                raise ValueError(f"Two blocks are called {name}; every id must be its own.")
        taken = {f"{block.id}_{node}" for block in self.stages for node in STAGE_NODES}
        clash = (taken | {"source", "reservoir"}) & set(names)
        if clash:
            raise ValueError(f"{clash.pop()} is the name of a node of the circuit; call it otherwise.")
        for block in self.chain:
            feed = getattr(block, "feed", None)
            if feed is not None and feed not in sections:
                raise ValueError(
                    f"{block.id} is fed from “{feed}”, which is no section of the supply; "
                    f"there is {', '.join(sections)}."
                )
        return self

    def tube(self, name: str) -> TubeType:
        """The triode type that a stage names: one of the design's own, else the library's. Raises UnknownTube."""
        for own in self.own_tubes:
            if own.name.upper() == name.strip().upper():
                return own.type
        return get(name, "triode")

    def block(self, block_id: str) -> Block:
        """The block of that id. Raises KeyError."""
        for block in self.chain:
            if block.id == block_id:
                return block
        raise KeyError(block_id)

    @property
    def stages(self) -> tuple[TriodeStage | TriodeOutput, ...]:
        """The tube stages, in signal order."""
        return tuple(block for block in self.chain if isinstance(block, (TriodeStage, TriodeOutput)))

    @property
    def output_stage(self) -> TriodeOutput:
        """The output stage."""
        return next(block for block in self.chain if isinstance(block, TriodeOutput))

    @property
    def transformer(self) -> OutputTransformer:
        """The output transformer."""
        return next(block for block in self.chain if isinstance(block, OutputTransformer))

    @property
    def loudspeaker(self) -> Loudspeaker:
        """The loudspeaker."""
        return next(block for block in self.chain if isinstance(block, Loudspeaker))

    @property
    def source(self) -> Input:
        """The input block."""
        return next(block for block in self.chain if isinstance(block, Input))
