"""A microphone, with its step-up transformer if it has one."""

from typing import Annotated, Literal

from pydantic import Field

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Source
from thermionic.blocks.fields import Ohms, Volts, named
from thermionic.blocks.kinds.line_input import draw_socket
from thermionic.blocks.ports import Flow
from thermionic.blocks.sketch import Sketch
from thermionic.values import Quantity, display


class Microphone(Block):
    """A microphone by its level (rms, at the loudest) and resistance; ``ratio`` is its transformer's step-up, taken
    as ideal."""

    kind: Literal["microphone"] = "microphone"
    source_volt: Volts = named("Level at the loudest, rms", 5e-3)
    source_ohm: Ohms = named("Resistance", 200.0)
    ratio: Annotated[float, Field(ge=1.0, le=50.0)] = named("Transformer's step-up", 1.0)

    title = "Microphone"
    about = "A microphone by its level and resistance, with a step-up transformer if wanted."
    group = Group.SOURCE
    suffixes = {"out": ""}

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.SIGNAL}

    def compile(self, bench: Bench) -> None:
        emf = bench.emf()
        volt = self.source_volt * self.ratio
        name = bench.source(devices.VoltageSource(0.0, volt * 2**0.5), emf)
        bench.add("R", devices.Resistor(self.source_ohm * self.ratio**2), emf, bench.node("out"), name="source_ohm")
        bench.say(Source(self.id, name, emf, volt))

    def sketch(self, pen: Sketch) -> None:
        draw_socket(pen, "source_volt", display(self.source_volt, Quantity.VOLTAGE))
