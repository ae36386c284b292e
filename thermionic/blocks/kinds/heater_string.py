"""Heaters: which are fed from where, side by side or in series, and what holds them off earth."""

from typing import TYPE_CHECKING, Annotated, Literal

from pydantic import Field, field_validator, model_validator

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import HeaterFeed, HeaterUse
from thermionic.blocks.fields import Capacitor, Fraction, Ohms, Resistor, named
from thermionic.blocks.heaters import Link, chains
from thermionic.blocks.ports import Flow, HeaterFeedRef, RailRef, split
from thermionic.blocks.sketch import SUPPLY_EARTH, SUPPLY_PART, SUPPLY_RAIL, Says, Sketch
from thermionic.circuit.netlist import GROUND

if TYPE_CHECKING:
    from collections.abc import Callable

    from thermionic.tubes import TubeType
    from thermionic.tubes.library import Heater

# Two heaters whose rated currents differ by less are one current: the makers' own spread.
SAME_CURRENT = 0.06


class HeaterString(Block):
    """Heaters on a winding (AC) or a rail (DC), behind a dropping resistor if there is one.

    ``tubes`` says how they are wired; in a stereo design each channel's bottles are so wired, and the channels side
    by side or in series. ``halves`` is how heaters with a centre tap are connected. AC is held near earth by the
    winding's centre tap, two balance resistors, a balance pot or one end; ``elevation`` lifts that point to the
    middle of a divider from a rail. In the whole circuit each heater is the resistance that it has at its rated
    voltage.
    """

    kind: Literal["heater-string"] = "heater-string"
    scope: Literal["channel", "shared"] = named("Belongs to", "shared")
    input: HeaterFeedRef = named("Fed from")
    tubes: Annotated[str, Field(max_length=200)] = named("Tubes (a comma: side by side, +: in series)")
    channels: Literal["side by side", "in series"] = named("Channels", "side by side")
    halves: Literal["series", "parallel"] = named("Heaters with a centre tap in", "series")
    dropping: Resistor | None = named("Dropping resistor", None, first=Resistor(ohm=0.22, rating_watt=5.0))
    reference: Literal["centre tap", "balance resistors", "balance pot", "one end", "none"] = named(
        "Held by", "centre tap"
    )
    balance_ohm: Annotated[Ohms, Field(ge=1.0)] = named("Balance resistors, each, or pot", 100.0)
    travel: Fraction = named("Balance pot's position (0 to 1)", 0.5)
    elevation: RailRef | None = named("Lifted by", None)
    upper: Resistor | None = named("Divider's upper resistor", None, first=Resistor(ohm=220e3))
    lower: Resistor | None = named("Divider's lower resistor", None, first=Resistor(ohm=47e3))
    bypass: Capacitor | None = named("Divider's bypass", None, first=Capacitor(farad=22e-6, rating_volt=100.0))

    title = "Heater string"
    about = "Heaters side by side or in series, on a winding or a rail, and what holds them off earth."
    group = Group.SUPPLY
    first = {"tubes": "v1"}

    @field_validator("tubes")
    @classmethod
    def _wired(cls, written: str) -> str:
        chains(written)
        return written

    @model_validator(mode="after")
    def _lifted(self) -> "HeaterString":
        if self.elevation and not (self.upper and self.lower):
            raise ValueError(
                f"{self.id}: what lifts its heaters is a divider; it needs its upper and lower resistor."
            )
        return self

    @property
    def chains(self) -> tuple[tuple[Link, ...], ...]:
        """The chains as they are wired in one channel."""
        return chains(self.tubes)

    @property
    def in_words(self) -> str:
        return self.tubes

    def ports(self) -> dict[str, Flow]:
        return {}

    def heater(self, type_: "TubeType") -> "Heater | None":
        """The heater of a type as it is connected here: volts and amperes."""
        heater = type_.heater
        if heater is None or "heater centre tap" not in type_.pins.values():
            return heater
        series, parallel = heater.both_ways()
        return series if self.halves == "series" else parallel

    def unfit(self, tube_of: "Callable[[str], TubeType]") -> str:
        for chain in self.chains:
            for link in chain:
                try:
                    type_ = tube_of(link.envelope)
                except KeyError:
                    return f"{self.id}: there is no tube {link.envelope} whose heater it could feed."
                if type_.heater is None:
                    return f"{self.id}: {link.envelope.upper()} ({type_.type}) has no heater."
        return ""

    def compile(self, bench: Bench) -> None:
        fed_by_ac = bench.is_winding("input")
        end = bench.winding_end("input", whole=True) if fed_by_ac else bench.take("input")
        source, end = end, bench.through("dropping", end, "hot")
        held = GROUND
        if self.elevation:
            held = bench.node("held")
            bench.fit("upper", bench.take("elevation"), held)
            bench.fit("lower", held, GROUND)
            bench.fit("bypass", held, GROUND)
        dropping = (bench.path("dropping"), self.dropping.ohm) if self.dropping else ("", 0.0)
        winding = bench.winding("input").block if fed_by_ac else ""
        bench.say(HeaterFeed(self.id, source, *dropping, winding, self.reference, held, split(self.input)[0]))
        copies = bench.channels if self.scope == "shared" else 1
        in_series = self.channels == "in series"
        for place, chain in enumerate(self.chains):
            at = end
            links = [(link, copy) for copy in range(copies if in_series else 1) for link in chain]
            for step, (link, copy) in enumerate(links, start=1):
                below = GROUND if step == len(links) else bench.node(f"h{place + 1}_{step}")
                heater = self.heater(bench.type_of(f"{link.envelope}.a"))
                assert heater is not None  # ``unfit`` has seen to it
                count = 1 if in_series or bench.is_split(link.envelope) else copies
                part = bench.loose("RH", devices.Resistor(heater.volts / heater.amperes / count), at, below)
                if link.shunt_ohm:
                    bench.loose("RS", devices.Resistor(link.shunt_ohm / count), at, below)
                rated = heater.volts, heater.amperes, link.shunt_ohm
                bench.say(HeaterUse(self.id, link.envelope, part, count, *rated, place, copy))
                at = below

    def sketch(self, pen: Sketch) -> None:
        top, middle, earth = SUPPLY_RAIL, SUPPLY_PART, SUPPLY_EARTH
        pen.start("input", 0, middle)
        pen.wire((0, middle), (10, middle), (10, top))
        x = pen.lying("dropping", 10, top, 84, label=(0, 36, "middle")) + 24
        pen.wire((x - 24, top), (x, top))
        for place, chain in enumerate(self.chains):
            if place:
                pen.wire((x - 58, top), (x, top))
                pen.dot(x - 58, top)
            pen.wire((x, top), (x, middle - 20))
            text = "+".join(link.envelope.upper() for link in chain)
            pen.mark(
                "",
                "heater",
                (x, middle),
                size=(36, 40),
                label=(20, 4, "start"),
                says=Says(
                    text=text, main=f"blocks/{self.id}/tubes", spoken="heaters", designator=" ", count=len(chain)
                ),
            )
            pen.wire((x, middle + 20), (x, earth))
            pen.earth(x, earth)
            x += 58 + 8.0 * max(len(text) - 3, 0)
        if self.elevation:
            pen.rail("elevation", x + 16, top)
            x += 16
            pen.upright("upper", x, top, middle, earth)
            pen.dot(x, earth)
            pen.upright("lower", x, earth, earth + 40, earth + 82)
            pen.earth(x, earth + 82)
            pen.volts("held", x + 8, earth - 6, "bias")
            if self.bypass:
                pen.wire((x, earth), (x + 74, earth))
                x += 74
                pen.upright("bypass", x, earth, earth + 40, earth + 82)
                pen.earth(x, earth + 82)
            x += 70
        pen.width = x + 20
