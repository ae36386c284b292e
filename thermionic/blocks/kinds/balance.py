"""The balance control, as one channel has it."""

from typing import Literal

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.fields import Fraction, Ohms, Resistor, named
from thermionic.blocks.ports import Flow, SignalRef
from thermionic.blocks.sketch import Says, Sketch
from thermionic.circuit.netlist import GROUND
from thermionic.values import Quantity, written


class Balance(Block):
    """A series resistor, and from there a potentiometer to earth that takes the more the further it is turned away
    from this channel: ``travel`` is the fraction of the track that is left to it."""

    kind: Literal["balance"] = "balance"
    input: SignalRef = named("Input")
    series: Resistor = named("Series resistor", Resistor(ohm=22e3))
    track_ohm: Ohms = named("Track", 250e3)
    travel: Fraction = named("Position (0 to 1)", 0.5)

    title = "Balance"
    about = "A control that takes from one channel for the other."
    group = Group.CONTROL
    suffixes = {"out": ""}

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.SIGNAL}

    def full_up(self) -> dict[str, float]:
        """What is to be set for the least attenuation."""
        return {"travel": 1.0}

    def compile(self, bench: Bench) -> None:
        out = bench.node("out")
        bench.fit("series", bench.take("input"), out)
        ohm = max(self.track_ohm * self.travel, self.track_ohm / 1e4)
        bench.add("RV", devices.Resistor(ohm), out, GROUND)

    def sketch(self, pen: Sketch) -> None:
        y = pen.level
        pen.start("input", 0, y)
        x = pen.lying("series", 0, y, 84)
        pen.wire((x, y), (x + 20, y))
        x += 20
        pen.dot(x, y)
        pen.wire((x, y), (x, y + 30))
        text = f"{written(self.track_ohm, Quantity.RESISTANCE)} {self.travel:.0%}"
        pen.mark(
            "",
            "potentiometer",
            (x, y + 52),
            size=(44, 52),
            label=(-26, 20, "end"),
            says=Says(text=text, main=f"blocks/{self.id}/track_ohm", spoken="balance control"),
        )
        pen.wire((x + 26, y + 52), (x + 34, y + 52), (x + 34, y + 74), (x, y + 74))
        pen.wire((x, y + 74), (x, y + 88))
        pen.earth(x, y + 88)
        pen.wire((x, y), (x + 48, y))
        pen.end("out", x + 48, y)
        pen.width = x + 48
