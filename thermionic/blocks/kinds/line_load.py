"""What a preamplifier drives: the next box by its input, through a cable."""

from typing import Annotated, Literal

from pydantic import Field

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Load
from thermionic.blocks.fields import Capacitor, Farads, Ohms, Resistor, Volts, named
from thermionic.blocks.ports import Flow, SignalRef
from thermionic.blocks.sketch import Says, Sketch
from thermionic.circuit.netlist import GROUND
from thermionic.values import Quantity, written


class LineLoad(Block):
    """The output socket with its capacitor and bleed resistor, a cable, and the input resistance of what follows."""

    kind: Literal["line-load"] = "line-load"
    input: SignalRef = named("Connected to")
    coupling: Capacitor | None = named(
        "Output capacitor", None, first=Capacitor(farad=2.2e-6, rating_volt=400.0, tolerance=0.1)
    )
    bleed: Resistor | None = named("Bleed resistor", None, first=Resistor(ohm=470e3))
    ohm: Ohms = named("Input resistance of what follows", 47e3)
    level_volt: Annotated[Volts, Field(gt=0, le=100)] = named("Level that what follows needs, rms", 1.0)
    cable_farad: Farads = named("Cable's capacitance", 300e-12)

    title = "Line output"
    about = "A preamplifier's output with its capacitor, the cable, and the input that it drives."
    group = Group.LOAD
    first = {"coupling": {"farad": 2.2e-6, "rating_volt": 400.0, "tolerance": 0.1}, "bleed": {"ohm": 470e3}}

    def ports(self) -> dict[str, Flow]:
        return {}

    def compile(self, bench: Bench) -> None:
        at = bench.through("coupling", bench.take("input"), "out")
        bench.fit("bleed", at, GROUND)
        name = bench.add("RL", devices.Resistor(self.ohm), at, GROUND)
        bench.add("C", devices.Capacitor(self.cable_farad), at, GROUND)
        bench.say(Load(self.id, name, at, self.ohm, power=False, line_volt=self.level_volt))

    def sketch(self, pen: Sketch) -> None:
        y = pen.level
        pen.start("input", 0, y)
        x = pen.lying("coupling", 0, y, 66)
        pen.wire((x, y), (x + 14, y))
        x += 14
        if self.bleed:
            pen.dot(x, y)
            pen.upright("bleed", x, y, y + 64, y + 100)
            pen.earth(x, y + 100)
            pen.wire((x, y), (x + 70, y))
            x += 70
        pen.wire((x, y), (x + 10, y))
        pen.mark(
            "",
            "socket-out",
            (x + 24, y),
            size=(34, 34),
            label=(-12, -32, "start"),
            says=Says(
                text=written(self.ohm, Quantity.RESISTANCE), main=f"blocks/{self.id}/ohm", spoken="line output"
            ),
        )
        pen.wire((x + 24, y + 14), (x + 24, y + 40))
        pen.earth(x + 24, y + 40)
        pen.figure("watts", self.id, x + 42, y + 5, "signal")
        pen.width = x + 112
