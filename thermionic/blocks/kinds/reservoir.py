"""The reservoir: the first capacitor behind a rectifier, with its bleeder."""

from typing import Literal

from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Rail
from thermionic.blocks.fields import Capacitor, Resistor, named
from thermionic.blocks.ports import Flow, RailRef
from thermionic.blocks.sketch import SUPPLY_EARTH, SUPPLY_PART, SUPPLY_RAIL, Sketch
from thermionic.circuit.netlist import GROUND


class Reservoir(Block):
    """A capacitor on the rail that it takes, with a bleeder across it."""

    kind: Literal["reservoir"] = "reservoir"
    scope: Literal["channel", "shared"] = named("Belongs to", "shared")
    input: RailRef = named("Behind")
    capacitor: Capacitor = named("Reservoir capacitor")
    bleeder: Resistor | None = named("Bleeder", None, first=Resistor(ohm=220e3, rating_watt=2.0))

    title = "Reservoir"
    about = "The first capacitor behind a rectifier, with its bleeder."
    group = Group.SUPPLY
    first = {"capacitor": {"farad": 47e-6, "rating_volt": 500.0}, "bleeder": {"ohm": 220e3, "rating_watt": 3.0}}
    suffixes = {"out": ""}

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.RAIL}

    def compile(self, bench: Bench) -> None:
        node = bench.node("out")
        bench.join(bench.take("input"), node)
        bench.fit("capacitor", node, GROUND)
        bench.fit("bleeder", node, GROUND)
        bench.say(Rail(self.id, node, bench.path("capacitor")))

    def sketch(self, pen: Sketch) -> None:
        top, middle, earth = SUPPLY_RAIL, SUPPLY_PART, SUPPLY_EARTH
        x = 36
        pen.start("input", 0, top)
        pen.wire((0, top), (x, top))
        pen.dot(x, top)
        pen.upright("capacitor", x, top, middle, earth, polarised=True)
        pen.earth(x, earth)
        pen.volts("out", 2, top - 10)
        pen.figure("ripple", self.node("out"), 66, top - 10, "ripple")
        if self.bleeder:
            pen.wire((x, top), (x + 78, top))
            x += 78
            pen.dot(x, top)
            pen.upright("bleeder", x, top, middle, earth)
            pen.earth(x, earth)
        pen.wire((x, top), (x + 70, top))
        pen.end("out", x + 70, top)
        pen.width = x + 70
