"""The mains side: inlet, switch, fuse, and what limits the inrush."""

from typing import Annotated, Literal

from pydantic import Field

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import MainsSide
from thermionic.blocks.fields import Capacitor, FusePart, Ohms, Resistor, ThermistorPart, named
from thermionic.blocks.ports import Flow
from thermionic.blocks.sketch import SUPPLY_EARTH, SUPPLY_PART, SUPPLY_RAIL, Says, Sketch
from thermionic.circuit.netlist import GROUND
from thermionic.values import Quantity, display


class MainsInlet(Block):
    """The house's mains behind ``wall_ohm`` of its wiring, then a fuse, a thermistor and a resistor in series.

    ``line_capacitor`` is across the line, class X: a short in it is a short of the mains, which the fuse clears.
    ``earth_capacitor`` is from line to protective earth, class Y: a short in it makes the chassis live, and what
    flows in it flows through whoever touches an unearthed one. Both count by that current alone; what they keep
    away, radio frequency, is not computed.
    """

    kind: Literal["mains-inlet"] = "mains-inlet"
    scope: Literal["channel", "shared"] = named("Belongs to", "shared")
    wall_ohm: Annotated[Ohms, Field(ge=0.01)] = named("House wiring", 0.4)
    switched: Literal["one pole", "both poles"] = named("Switch in", "both poles")
    fuse: FusePart | None = named("Fuse", None, first=FusePart(ampere=1.0))
    thermistor: ThermistorPart | None = named("Inrush thermistor", None, first=ThermistorPart(cold_ohm=22.0))
    series: Resistor | None = named("Series resistor", None, first=Resistor(ohm=10.0, rating_watt=10.0))
    line_capacitor: Capacitor | None = named(
        "Across the line (class X)", None, first=Capacitor(farad=100e-9, rating_volt=310.0)
    )
    earth_capacitor: Capacitor | None = named(
        "From line to earth (class Y)", None, first=Capacitor(farad=2.2e-9, rating_volt=300.0)
    )

    title = "Mains inlet"
    about = "Inlet, switch, fuse and inrush limiter: what a mains transformer hangs on."
    group = Group.SUPPLY
    first = {"fuse": {"ampere": 1.0}}

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.MAINS}

    def compile(self, bench: Bench) -> None:
        volt, hertz = bench.mains
        wall, at = bench.node("emf"), bench.node("wall")
        mains = bench.add("VM", devices.MainsSource(volt * 2**0.5, hertz, folded=True), wall, GROUND)
        bench.loose("RH", devices.Resistor(self.wall_ohm), wall, at)
        for name in ("fuse", "thermistor", "series"):
            at = bench.through(name, at, f"behind_{name}")
        bench.join(bench.node("out"), at)
        line = bench.path("line_capacitor") if self.line_capacitor else ""
        bench.say(MainsSide(self.id, mains, line, bench.path("earth_capacitor") if self.earth_capacitor else ""))

    def sketch(self, pen: Sketch) -> None:
        top, middle, earth = SUPPLY_RAIL, SUPPLY_PART, SUPPLY_EARTH
        volt = f"{display(self.wall_ohm, Quantity.RESISTANCE)} wiring"
        pen.mark(
            "",
            "inlet",
            (24, middle),
            size=(44, 44),
            label=(-18, 66, "start"),
            says=Says(text=volt, main=f"blocks/{self.id}/wall_ohm", spoken="mains inlet", designator=" "),
        )
        pen.wire((24, middle - 22), (24, top), (56, top))
        pen.symbol("switch", 70, top)
        pen.wire((24, middle + 22), (24, earth), (56, earth))
        if self.switched == "both poles":
            pen.symbol("switch", 70, earth)
        else:
            pen.wire((56, earth), (84, earth))
        x = 84.0
        for name in ("fuse", "thermistor", "series"):
            x = pen.lying(name, x, top, 84, label=(0, 34, "middle"))
        for name, letter, foot in (("line_capacitor", "CX", earth), ("earth_capacitor", "CY", middle + 34)):
            part = getattr(self, name)
            if part is None:
                continue
            pen.wire((x, top), (x + 84, top))
            x += 84
            pen.dot(x, top)
            pen.wire((x, top), (x, middle - 6))
            pen.wire((x, middle + 6), (x, foot))
            pen.mark(
                name,
                "capacitor",
                (x, middle),
                size=(30, 56),
                says=Says(
                    text=display(part.farad, Quantity.CAPACITANCE),
                    main=f"blocks/{self.id}/{name}/farad",
                    designator=letter,
                ),
            )
            if name == "line_capacitor":
                pen.dot(x, foot)
            else:
                pen.earth(x, foot)
        if self.line_capacitor or self.earth_capacitor:
            pen.wire((x, top), (x + 66, top))
            x += 66
        pen.wire((84, earth), (x + 24, earth), (x + 24, middle + 6), (x + 36, middle + 6))
        pen.wire((x, top), (x + 24, top), (x + 24, middle - 6), (x + 36, middle - 6))
        pen.end("out", x + 36, middle)
        pen.width = x + 36
