"""The line source: a player, tuner or preamplifier by its level and output resistance."""

from typing import Literal

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Source
from thermionic.blocks.fields import Ohms, Volts, named
from thermionic.blocks.ports import Flow
from thermionic.blocks.sketch import EARTH, SIGNAL, Says, Sketch
from thermionic.values import Quantity, display


class LineInput(Block):
    """The source: its level in volts rms at full scale, and its output resistance."""

    kind: Literal["input"] = "input"
    source_volt: Volts = named("Source level, rms", 2.0)
    source_ohm: Ohms = named("Source resistance", 100.0)

    title = "Line input"
    about = "A player, tuner or preamplifier, by its level and output resistance."
    group = Group.SOURCE
    suffixes = {"out": ""}

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.SIGNAL}

    def compile(self, bench: Bench) -> None:
        emf = bench.emf()
        name = bench.source(devices.VoltageSource(0.0, self.source_volt * 2**0.5), emf)
        bench.add("R", devices.Resistor(self.source_ohm), emf, bench.node("out"), name="source_ohm")
        bench.say(Source(self.id, name, emf, self.source_volt))

    def sketch(self, pen: Sketch) -> None:
        draw_socket(pen, "source_volt", display(self.source_volt, Quantity.VOLTAGE))


def draw_socket(pen: Sketch, main: str, text: str) -> None:
    """An input socket with what comes in by it."""
    pen.mark(
        "",
        "socket",
        (26, SIGNAL),
        size=(34, 34),
        label=(-20, -34, "start"),
        says=Says(text=text, main=f"blocks/{pen.block.id}/{main}", designator="IN"),
    )
    pen.wire((26, SIGNAL + 14), (26, EARTH))
    pen.earth(26, EARTH)
    pen.wire((40, SIGNAL), (54, SIGNAL))
    pen.end("out", 54, SIGNAL)
    pen.width = 54
