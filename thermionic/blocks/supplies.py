"""What reservoirs and the sections of a supply have in common."""

from __future__ import annotations

from typing import ClassVar, Literal, Self

from pydantic import model_validator

from thermionic import devices
from thermionic.blocks.base import Block
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Rail, SeriesCapacitors, Smoothing
from thermionic.blocks.fields import Resistor, SmoothingCapacitor, named
from thermionic.blocks.ports import Flow, SectionRef
from thermionic.blocks.sketch import SUPPLY_EARTH, SUPPLY_PART, SUPPLY_RAIL, Sketch
from thermionic.circuit.netlist import GROUND

# What an electrolytic leaks when it has been in use, of what it may: a tenth, unsure by several times.
_USUALLY_LEAKS = 0.1


class Smoothed(Block):
    """A rail on a capacitor to earth, or on two in series with a balancing resistor across each, and a bleeder."""

    scope: Literal["channel", "shared"] = named("Belongs to", "shared")
    input: SectionRef = named("Behind")
    capacitor: SmoothingCapacitor = named("Smoothing capacitor")
    lower: SmoothingCapacitor | None = named(
        "Second one in series below it", None, first=SmoothingCapacitor(farad=100e-6, rating_volt=350.0)
    )
    balance: Resistor | None = named(
        "Balancing resistor across each", None, first=Resistor(ohm=150e3, rating_watt=2.0)
    )
    bleeder: Resistor | None = named("Bleeder", None, first=Resistor(ohm=220e3, rating_watt=2.0))

    suffixes = {"out": ""}

    @model_validator(mode="after")
    def _balanced(self) -> Self:
        if self.balance and not self.lower:
            raise ValueError(
                f"{self.id}: balancing resistors are for two capacitors in series. Take them out, or fit the second."
            )
        return self

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.RAIL}

    def smooth(self, bench: Bench, node: str) -> None:
        """Put in what stands between ``node`` and earth, and say what rail that is."""
        path = bench.path("capacitor")
        if self.lower is None:
            bench.fit("capacitor", node, GROUND)
        else:
            middle = bench.node("middle")
            bench.fit("capacitor", node, middle)
            bench.fit("lower", middle, GROUND)
            bench.fit("balance", node, middle, "a")
            bench.fit("balance", middle, GROUND, "b")
            for part, ends in ((self.capacitor, (node, middle)), (self.lower, (middle, GROUND))):
                leak = max(_USUALLY_LEAKS * part.leaking_ampere, 1e-9)
                bench.loose("RK", devices.Resistor(part.rating_volt / leak), *ends)
            bench.say(SeriesCapacitors(self.id, node, path, bench.path("lower"), bench.path("balance")))
        bench.fit("bleeder", node, GROUND)
        bench.say(Rail(self.id, node, path))

    def stand(self, pen: Sketch, x: float) -> float:
        """Draw that, from the rail at ``x``. Returns where the rail goes on."""
        top, middle, earth = SUPPLY_RAIL, SUPPLY_PART, SUPPLY_EARTH
        pen.dot(x, top)
        foot = earth + 90 if self.lower else earth
        pen.upright("capacitor", x, top, middle, earth, polarised=True)
        pen.upright("lower", x, earth, earth + 45, foot, polarised=True)
        pen.earth(x, foot)
        if self.balance:
            beside = x + 92
            pen.wire((x, top), (beside, top))
            pen.dot(x, earth)
            pen.wire((x, earth), (beside, earth))
            for side, ends in (("a", (top, middle, earth)), ("b", (earth, earth + 45, foot))):
                pen.side = side
                pen.upright("balance", beside, *ends)
                pen.side = ""
            pen.dot(beside, top)
            pen.dot(beside, earth)
            pen.earth(beside, foot)
            x = beside
        if self.bleeder:
            pen.wire((x, top), (x + 84, top))
            x += 84
            pen.dot(x, top)
            pen.upright("bleeder", x, top, middle, earth)
            pen.earth(x, earth)
        return x


class Section(Smoothed):
    """A part in series, named by ``series``, then a capacitor to earth."""

    series: ClassVar[str]

    def section(self, bench: Bench) -> None:
        """Compile it."""
        before, node = bench.take("input"), bench.node("out")
        bench.fit(self.series, before, node)
        bench.say(Smoothing(self.id, bench.part_of(self.series), bench.path(self.series), before, node))
        self.smooth(bench, node)

    def sketch(self, pen: Sketch) -> None:
        top = SUPPLY_RAIL
        pen.start("input", 0, top)
        x = pen.lying(self.series, 0, top, 84, label=(0, 40, "middle"))
        pen.wire((x, top), (x + 10, top))
        x += 10
        pen.flags.append(pen.own_flag(x - 44, top - 12))
        foot = SUPPLY_EARTH + (118 if self.lower else 28)
        pen.figure("ripple", self.node("out"), x, foot, "ripple", "middle")
        x = self.stand(pen, x)
        pen.wire((x, top), (x + 60, top))
        pen.end("out", x + 60, top)
        pen.width = x + 60
