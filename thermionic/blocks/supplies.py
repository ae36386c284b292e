"""What the sections of a supply have in common."""

from __future__ import annotations

from typing import ClassVar, Literal

from thermionic.blocks.base import Block
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Rail
from thermionic.blocks.fields import Capacitor, Resistor, named
from thermionic.blocks.ports import Flow, RailRef
from thermionic.blocks.sketch import SUPPLY_EARTH, SUPPLY_PART, SUPPLY_RAIL, Sketch
from thermionic.circuit.netlist import GROUND


class Section(Block):
    """A part in series, named by ``series``, then a capacitor to earth."""

    scope: Literal["channel", "shared"] = named("Belongs to", "shared")
    input: RailRef = named("Behind")
    capacitor: Capacitor = named("Smoothing capacitor")
    bleeder: Resistor | None = named("Bleeder", None, first=Resistor(ohm=220e3, rating_watt=2.0))

    series: ClassVar[str]
    suffixes = {"out": ""}

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.RAIL}

    def section(self, bench: Bench) -> None:
        """Compile it."""
        node = bench.node("out")
        bench.fit(self.series, bench.take("input"), node)
        bench.fit("capacitor", node, GROUND)
        bench.fit("bleeder", node, GROUND)
        bench.say(Rail(self.id, node, bench.path("capacitor")))

    def sketch(self, pen: Sketch) -> None:
        top, middle, earth = SUPPLY_RAIL, SUPPLY_PART, SUPPLY_EARTH
        pen.start("input", 0, top)
        x = pen.lying(self.series, 0, top, 84, label=(0, 40, "middle"))
        pen.wire((x, top), (x + 10, top))
        x += 10
        pen.dot(x, top)
        pen.upright("capacitor", x, top, middle, earth, polarised=True)
        pen.earth(x, earth)
        pen.flags.append(pen.own_flag(x - 44, top - 12))
        pen.figure("ripple", self.node("out"), x, earth + 28, "ripple", "middle")
        if self.bleeder:
            pen.wire((x, top), (x + 84, top))
            x += 84
            pen.dot(x, top)
            pen.upright("bleeder", x, top, middle, earth)
            pen.earth(x, earth)
        pen.wire((x, top), (x + 60, top))
        pen.end("out", x + 60, top)
        pen.width = x + 60
