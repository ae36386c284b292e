"""Headphones."""

from typing import Literal

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Load
from thermionic.blocks.fields import Capacitor, Decibels, Ohms, Resistor, named
from thermionic.blocks.ports import Flow, SignalRef
from thermionic.blocks.sketch import Says, Sketch
from thermionic.circuit.netlist import GROUND
from thermionic.values import Quantity, written


class Headphones(Block):
    """One ear's resistance, through a capacitor where the output stands on a voltage, and a series resistor."""

    kind: Literal["headphones"] = "headphones"
    input: SignalRef = named("Connected to")
    coupling: Capacitor | None = named("Output capacitor", None, first=Capacitor(farad=100e-6, rating_volt=250.0))
    bleed: Resistor | None = named("Bleed resistor", None, first=Resistor(ohm=10e3))
    series: Resistor | None = named("Series resistor", None, first=Resistor(ohm=33.0, rating_watt=2.0))
    ohm: Ohms = named("Impedance", 300.0)
    sensitivity_db: Decibels = named("Sensitivity, at the ear for 1 mW", 98.0)

    title = "Headphones"
    about = "Headphones on a transformer's tap, or through a capacitor on a follower."
    group = Group.LOAD

    def ports(self) -> dict[str, Flow]:
        return {}

    def compile(self, bench: Bench) -> None:
        at = bench.through("coupling", bench.take("input"), "bled")
        bench.fit("bleed", at, GROUND)
        end = bench.through("series", at, "out")
        name = bench.add("HP", devices.Resistor(self.ohm), end, GROUND)
        bench.say(Load(self.id, name, end, self.ohm, bench.tap_ohm("input"), ear_db=self.sensitivity_db))

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
            pen.wire((x, y), (x + 64, y))
            x += 64
        x = pen.lying("series", x, y, 70)
        pen.wire((x, y), (x + 16, y), (x + 16, y + 20))
        pen.mark(
            "",
            "headphones",
            (x + 16, y + 42),
            size=(44, 44),
            label=(26, 0, "start"),
            says=Says(
                text=f"{written(self.ohm, Quantity.RESISTANCE)} Ω", main=f"blocks/{self.id}/ohm", spoken="headphones"
            ),
        )
        pen.wire((x + 16, y + 64), (x + 16, y + 76))
        pen.earth(x + 16, y + 76)
        pen.figure("watts", self.id, x + 42, y + 72, "signal")
        pen.width = x + 108
