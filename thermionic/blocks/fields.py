"""What blocks are made of: values as a builder types them, parts, and the words that go with a field.

Numbers are SI; wherever one is read, text such as ``4k7`` is accepted too. A field's title is what every screen calls
it; a part that may be left out says beside its title what it is when first fitted.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import pi
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BaseModel, ConfigDict, Field, GetCoreSchemaHandler, GetJsonSchemaHandler
from pydantic_core import core_schema

from thermionic import devices
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
Amperes = Annotated[float, Measured(Quantity.CURRENT)]
Watts = Annotated[float, Measured(Quantity.POWER)]
Hertz = Annotated[float, Measured(Quantity.FREQUENCY)]
Metres = Annotated[float, Measured(Quantity.LENGTH)]
Decibels = Annotated[float, Measured(Quantity.LEVEL)]
Ratio = Annotated[float, Measured(Quantity.RATIO)]
Fraction = Annotated[float, Field(ge=0.0, le=1.0), Measured(Quantity.RATIO)]
Tolerance = Annotated[float, Field(ge=0.0, le=0.9), Measured(Quantity.RATIO)]
# Nodes are named after it with a suffix; two underscores running are kept for a netlist's inner nodes.
Id = Annotated[str, Field(pattern=r"^[a-z][a-z0-9]*(_[a-z0-9]+)*$", max_length=40)]


# A section of an envelope: v1.a, v1.b.
@dataclass(frozen=True)
class OfEnvelope:
    """Marks a text as a section of an envelope, ``v1.a``."""


Section = Annotated[str, OfEnvelope(), Field(pattern=r"^[a-z][a-z0-9_]*\.[a-h]$", max_length=43)]
Sections = Annotated[tuple[Section, ...], Field(min_length=1, max_length=12)]


def named(title: str, default: Any = ..., *, first: Any = None, **bounds: Any) -> Any:
    """A field with its name on the screen, and for a part that may be left out what it is ``first`` fitted as."""
    more = {"first": first.model_dump() if isinstance(first, BaseModel) else first} if first is not None else None
    return Field(default, title=title, json_schema_extra=more, **bounds)


class Model(BaseModel):
    """The base of all that a document holds: unchangeable, and nothing in it that it does not know."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False, validate_default=False)


class Component(Model):
    """A part on the drawing. ``main`` names the value that is written beside it and stepped by key."""

    @property
    def main(self) -> str:
        """The field that is its value."""
        return next(iter(type(self).model_fields))

    # The letter of its designator, and the symbol that it is drawn as.
    letter: ClassVar[str] = ""
    symbol: ClassVar[str] = ""
    # Whether, where it cannot be left out, the block's own symbol stands for it and its values are set with that.
    inside: ClassVar[bool] = False

    def device(self) -> devices.Device:
        """It as a device between two nodes. Raises TypeError for a part that is more than that."""
        raise TypeError(f"a {type(self).__name__} is not a part between two nodes")

    def turned(self, a: str, b: str) -> tuple[str, str]:
        """The two nodes in the order of its device's terminals."""
        return a, b


def tolerance_of(part: BaseModel, usual: float) -> float:
    """The tolerance that a part or a block states; ``usual`` for a part that states none. A block that states none, a
    loudspeaker or a source, is the same in every build: 0."""
    stated: float | None = getattr(part, "tolerance", None)
    if stated is None:
        return usual if isinstance(part, Component) else 0.0
    return stated


class Resistor(Component):
    """A resistor, its power rating in watts and its tolerance as a fraction."""

    ohm: Ohms = named("Resistance")
    rating_watt: Watts = named("Rating", 0.5)
    tolerance: Tolerance = named("Tolerance (fraction)", 0.05)
    letter: ClassVar = "R"
    symbol: ClassVar = "resistor"

    def device(self) -> devices.Device:
        return devices.Resistor(self.ohm)


class Capacitor(Component):
    """A capacitor, its voltage rating and its tolerance as a fraction."""

    farad: Farads = named("Capacitance")
    rating_volt: Volts = named("Rating")
    tolerance: Tolerance = named("Tolerance (fraction)", 0.2)
    letter: ClassVar = "C"
    symbol: ClassVar = "capacitor"

    def device(self) -> devices.Device:
        return devices.Capacitor(self.farad)


class SmoothingCapacitor(Capacitor):
    """A capacitor of a supply: what it is made of, the ripple current that it is made for (rms, at twice the mains;
    None where it is not known), and the hours that an electrolytic one lasts with that at ``celsius``."""

    made: Literal["electrolytic", "film", "oil"] = named("Made as", "electrolytic")
    ripple_ampere: Annotated[float, Field(gt=0), Measured(Quantity.CURRENT)] | None = named(
        "Ripple current that it is made for", None
    )
    hours: Annotated[float, Field(ge=100.0, le=100e3)] = named("Hours that it lasts with that", 2000.0)
    celsius: Annotated[float, Field(ge=40.0, le=150.0)] = named("At °C", 85.0)

    @property
    def leaking_ampere(self) -> float:
        """The most that it may leak at its rated volts, A: IEC 60384-4 (2016), the long-life grade's 0.006 C U and 4
        µA. What is no electrolytic does not count."""
        return 6e-3 * self.farad * self.rating_volt + 4e-6 if self.made == "electrolytic" else 0.0


class Choke(Component):
    """A choke: inductance at its full direct current, copper, that current, and the capacitance of its winding."""

    henry: Henries = named("Inductance at full current")
    copper_ohm: Ohms = named("Copper")
    rating_ampere: Annotated[Amperes, Field(gt=0)] = named("Full current", 0.1)
    farad: Annotated[float, Measured(Quantity.CAPACITANCE)] | None = named("Winding's capacitance", None)
    tolerance: Tolerance = named("Tolerance (fraction)", 0.15)
    letter: ClassVar = "L"
    symbol: ClassVar = "choke"

    def device(self) -> devices.Device:
        return devices.Transformer((devices.Winding(1.0, self.copper_ohm),), devices.Core(self.henry), self._stray)

    @property
    def _stray(self) -> tuple[tuple[int, int, float], ...]:
        return ((0, 1, self.farad),) if self.farad else ()


class Led(Component):
    """Light-emitting diodes in series, used for their steady drop: some 1.65 V each for a plain red one."""

    count: Annotated[int, Field(ge=1, le=8)] = named("In series", 1)
    letter: ClassVar = "D"
    symbol: ClassVar = "led"

    def device(self) -> devices.Device:
        return devices.LED(emission=1.8 * self.count, ohm=3.0 * self.count)


class DiodePart(Component):
    """A silicon diode of the 1 A, 1000 V class; ``reversed`` turns its cathode to the first node."""

    reverse_volt: Annotated[Volts, Field(gt=0)] = named("Reverse rating", 1000.0)
    reversed: bool = named("Turned round", False)
    letter: ClassVar = "D"
    symbol: ClassVar = "diode"

    def device(self) -> devices.Device:
        return devices.LED(saturation_ampere=7e-9, emission=1.8, ohm=0.05)  # no part of a rectifier

    def turned(self, a: str, b: str) -> tuple[str, str]:
        return (b, a) if self.reversed else (a, b)


class RectifierDiode(Component):
    """An arm of a rectifier: silicon diodes in series, each with its reverse rating, or a stack of selenium plates.
    ``ampere`` is the mean current that it is made to deliver."""

    reverse_volt: Annotated[Volts, Field(gt=0)] = named("Reverse rating of each", 1000.0)
    ampere: Annotated[Amperes, Field(gt=0)] = named("Mean current", 1.0)
    material: Literal["silicon", "selenium"] = named("Material", "silicon")
    in_series: Annotated[int, Field(ge=1, le=40)] = named("In series (diodes or plates)", 1)
    letter: ClassVar = "D"
    symbol: ClassVar = "diode"
    inside: ClassVar = True

    @property
    def total_volt(self) -> float:
        """The reverse voltage that all in series are made for, V."""
        return self.reverse_volt * self.in_series

    def arms(self, count: int = 1) -> devices.Device:
        """``count`` such arms one behind the other, as one diode."""
        count *= self.in_series
        if self.material == "selenium":
            return devices.SeleniumRectifier(plates=count)
        return devices.Diode(emission=devices.Diode().emission * count)


class ZenerPart(Component):
    """Zener diodes in series: the volts of all together, and the slope of each ten of them."""

    volt: Annotated[Volts, Field(gt=1.0)] = named("Volts, all together")
    ampere: Annotated[Amperes, Field(gt=0)] = named("At", 2e-3)
    letter: ClassVar = "D"
    symbol: ClassVar = "zener"

    def device(self) -> devices.Device:
        return devices.Zener(self.volt, self.ampere, max(10.0, self.volt))

    def turned(self, a: str, b: str) -> tuple[str, str]:
        return b, a  # its cathode is the positive end


class PassTransistor(Component):
    """A MOSFET in series with a rail, by its ratings: volts from drain to source, watts with its case at 25 °C and
    150 °C inside, and the heat-sink that it is on."""

    rating_volt: Annotated[Volts, Field(gt=0)] = named("Voltage rating", 600.0)
    rating_watt: Annotated[Watts, Field(gt=0)] = named("Watts, case at 25 °C", 75.0)
    sink_kelvin_per_watt: Annotated[float, Field(gt=0.05, le=200.0)] = named("Heat-sink, K/W", 4.0)
    threshold_volt: Annotated[Volts, Field(gt=0.5, le=10.0)] = named("Gate's threshold", 3.5)
    letter: ClassVar = "Q"
    symbol: ClassVar = "mosfet"

    def device(self) -> devices.Device:
        return devices.Mosfet(threshold_volt=self.threshold_volt)

    def junction_celsius(self, watt: float, ambient: float = 45.0) -> float:
        """The temperature inside with ``watt`` in it, °C, in a chassis at ``ambient``."""
        return ambient + watt * (self.sink_kelvin_per_watt + 125.0 / self.rating_watt)


class FusePart(Component):
    """A fuse by its rated current; ``speed`` says how much of a surge it stands."""

    ampere: Annotated[Amperes, Field(gt=0)] = named("Rated current")
    speed: Literal["quick", "time-lag"] = named("Speed", "time-lag")
    letter: ClassVar = "FU"
    symbol: ClassVar = "fuse"

    def fuse(self) -> devices.Fuse:
        """It as it melts. The integral is the middle of the wide bands that IEC 60127-2 leaves at ten times the rated
        current (time-lag 20 to 300 ms, quick under 20 ms): unsure by a factor of three. The drop is that of usual
        types, 0.25 V at the rated current."""
        melting = (8.0 if self.speed == "time-lag" else 0.8) * self.ampere**2
        return devices.Fuse(self.ampere, melting, 0.25 / self.ampere)

    def device(self) -> devices.Device:
        return devices.Resistor(0.25 / self.ampere)


class ThermistorPart(Component):
    """An inrush limiter: its resistance at 25 °C and the current that it is made for, at which it is taken to be
    175 K warmer."""

    cold_ohm: Annotated[Ohms, Field(gt=0)] = named("Cold resistance")
    ampere: Annotated[Amperes, Field(gt=0)] = named("Greatest current", 3.0)
    letter: ClassVar = "RT"
    symbol: ClassVar = "thermistor"

    def device(self) -> devices.Device:
        hot = devices.Thermistor(self.cold_ohm).ohm_at(175.0)
        loss = self.ampere**2 * hot / 175.0
        # The time constant of usual discs is about a minute, whatever their size.
        return devices.Thermistor(self.cold_ohm, loss_w_per_k=loss, heat_j_per_k=60.0 * loss)


class Potentiometer(Component):
    """A potentiometer or trimmer; ``travel`` is the fraction of the track's resistance below the wiper. Between two
    nodes it is a variable resistor, what is below the wiper in use."""

    track_ohm: Ohms = named("Track")
    travel: Fraction = named("Position (0 to 1)", 0.5)
    letter: ClassVar = "RV"
    symbol: ClassVar = "potentiometer"

    def device(self) -> devices.Device:
        return devices.Resistor(max(self.travel, 1e-4) * self.track_ohm)


class FilamentSupply(Component):
    """How the filament of a directly heated tube is fed: its cathode circuit begins at the wiper of a balance pot, or
    at the winding's centre tap.

    The filament is taken to give from its middle. Off balance, ``travel`` - 0.5 of its AC volts are in series with
    the cathode; what is left of them in balance, at twice the mains frequency, is not computed.
    """

    track_ohm: Ohms = named("Balance pot", 100.0)
    travel: Fraction = named("Position (0 to 1)", 0.5)
    returns: Literal["balance pot", "centre tap"] = named("Cathode at the", "balance pot")
    fed: Literal["AC", "DC"] = named("Fed with", "AC")
    letter: ClassVar = "RV"
    symbol: ClassVar = "filament-balance"

    @property
    def ohm(self) -> float:
        """Between the filament's middle and the cathode circuit, Ω: the two parts of the track side by side."""
        return self.travel * (1 - self.travel) * self.track_ohm if self.returns == "balance pot" else 0.0

    @property
    def unbalance(self) -> float:
        """The part of the filament's AC volts that is in series with the cathode."""
        return self.travel - 0.5 if self.returns == "balance pot" and self.fed == "AC" else 0.0


class CurrentSourcePart(Component):
    """A two-transistor or cascoded silicon current source set to ``ampere``.

    Computed as a bipolar transistor with its base held at ``reference_volt`` and an emitter resistor.
    """

    ampere: Annotated[Amperes, Field(gt=1e-5, le=1.0)] = named("Current")
    reference_volt: Annotated[Volts, Field(ge=1.0, le=50.0)] = named("Reference at its base", 5.0)
    rating_volt: Annotated[Volts, Field(gt=0)] = named("Voltage rating", 300.0)
    letter: ClassVar = "Q"
    symbol: ClassVar = "current-source"


class Tap(Model):
    """A secondary tap: the load meant for it, and the copper from the common end up to it."""

    id: Annotated[str, Field(pattern=r"^[0-9]{1,4}(\.[0-9]{1,3})?$")]
    copper_ohm: Ohms = named("Copper up to it")

    @property
    def ohm(self) -> float:
        """The load meant for it, Ω: what it is called."""
        return float(self.id)


class CoreRating(Model):
    """How far a signal transformer's core goes: ``watt`` down to ``hertz``, with ``ampere`` of steady current in the
    primary, at which its inductance is given."""

    watt: Annotated[Watts, Field(gt=0)] = named("Full power")
    hertz: Hertz = named("Down to")
    ampere: Annotated[float, Field(ge=0.0), Measured(Quantity.CURRENT)] | None = named(
        "Steady current made for", None
    )

    def core(self, henry: float, primary_ohm: float) -> devices.Core:
        """The core as the whole primary sees it, which has ``henry`` for small signals at the steady current that it
        is made for and shows ``primary_ohm``.

        Full power at the lowest frequency, on top of the steady current, is taken to be where the core wants twice
        the magnetising current that a straight line gives: a rule of thumb for where a maker's rating ends.
        """
        swing = (2.0 * self.watt * primary_ohm) ** 0.5 / (2.0 * pi * self.hertz)
        steady = henry * (self.ampere or 0.0)
        knee = swing + steady
        core = devices.Core(henry, knee)
        # di/dF is (1 + (2m + 1) (F/knee)^2m) / henry.
        return replace(core, henry=henry * (1.0 + (2 * core.power + 1) * (steady / knee) ** (2 * core.power)))


class DriverModel(Model):
    """A moving-coil driver in its box, by its small-signal constants: see thermionic.devices.Driver."""

    coil_henry: Henries = named("Voice coil inductance", 0.4e-3)
    resonance_hertz: Hertz = named("Resonance", 55.0)
    mechanical_q: Annotated[Ratio, Field(gt=0.05)] = named("Mechanical Q", 4.0)
    electrical_q: Annotated[Ratio, Field(gt=0.05)] = named("Electrical Q", 0.5)
