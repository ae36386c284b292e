"""A stereo socket with both channels summed into one."""

from typing import Literal

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Source
from thermionic.blocks.fields import Ohms, Resistor, Volts, named
from thermionic.blocks.kinds.line_input import draw_socket
from thermionic.blocks.ports import Flow
from thermionic.blocks.sketch import SIGNAL, Sketch
from thermionic.values import Quantity, display


class HeadphoneSocket(Block):
    """The headphone output of a portable player, its two channels summed through a resistor each: driven alike, they
    are one source behind both resistors in parallel."""

    kind: Literal["headphone-socket"] = "headphone-socket"
    source_volt: Volts = named("Level of each channel, rms", 1.0)
    source_ohm: Ohms = named("Source resistance of each", 32.0)
    mixing: Resistor = named("Mixing resistors", Resistor(ohm=1e3))

    title = "Headphone socket, summed"
    about = "A portable player's two channels summed into one through a resistor each."
    group = Group.SOURCE
    suffixes = {"out": ""}

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.SIGNAL}

    def compile(self, bench: Bench) -> None:
        emf, out = bench.emf(), bench.node("out")
        name = bench.source(devices.VoltageSource(0.0, self.source_volt * 2**0.5), emf)
        for side in ("left", "right"):
            at = bench.node(side)
            bench.add("R", devices.Resistor(self.source_ohm), emf, at, name="source_ohm")
            bench.fit("mixing", at, out)
        bench.say(Source(self.id, name, emf, self.source_volt))

    def sketch(self, pen: Sketch) -> None:
        draw_socket(pen, "source_volt", f"2 × {display(self.source_volt, Quantity.VOLTAGE)}")
        x = pen.lying("mixing", 54, SIGNAL, 84)
        pen.end("out", x, SIGNAL)
        pen.width = x
