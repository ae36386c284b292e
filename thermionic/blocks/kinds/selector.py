"""An input selector."""

from typing import Annotated, Literal

from pydantic import Field, model_validator

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Wafer
from thermionic.blocks.fields import Ohms, named
from thermionic.blocks.ports import Flow, SignalRef
from thermionic.blocks.sketch import Says, Sketch


class Selector(Block):
    """A rotary switch of up to four inputs, of which ``position`` is on; the others are left with what loads them."""

    kind: Literal["selector"] = "selector"
    input: SignalRef = named("Input 1")
    input_2: SignalRef | None = named("Input 2", None)
    input_3: SignalRef | None = named("Input 3", None)
    input_4: SignalRef | None = named("Input 4", None)
    position: Annotated[int, Field(ge=1, le=4)] = named("Position", 1)
    contact_ohm: Ohms = named("Contact resistance", 0.05)

    title = "Selector"
    about = "A switch between up to four inputs."
    group = Group.CONTROL
    suffixes = {"out": ""}

    @model_validator(mode="after")
    def _there(self) -> "Selector":
        if self.position > 1 and getattr(self, f"input_{self.position}") is None:
            raise ValueError(f"{self.id}: there is nothing on position {self.position}.")
        return self

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.SIGNAL}

    def compile(self, bench: Bench) -> None:
        out, contacts = bench.node("out"), []
        for place in range(1, 5):
            name = "input" if place == 1 else f"input_{place}"
            if getattr(self, name):
                ohm = self.contact_ohm if place == self.position else 1e9
                contacts.append(bench.add("SW", devices.Resistor(ohm), bench.take(name), out))
        bench.say(Wafer(self.id, tuple(contacts)))

    def sketch(self, pen: Sketch) -> None:
        y = pen.level
        pen.start("input", 0, y)
        pen.wire((0, y), (18, y))
        pen.mark(
            "",
            "switch",
            (40, y),
            size=(52, 34),
            label=(0, -30, "middle"),
            says=Says(text=f"position {self.position}", main=f"blocks/{self.id}/position", spoken="selector"),
        )
        for row, name in enumerate(("input_2", "input_3", "input_4"), start=1):
            if getattr(self, name):
                pen.flag(name, 22, y + 22 * row, "start")
        pen.wire((62, y), (96, y))
        pen.end("out", 96, y)
        pen.width = 96
