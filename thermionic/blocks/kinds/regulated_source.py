"""A regulated source of given volts."""

from typing import Annotated, Literal

from pydantic import Field

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Rail
from thermionic.blocks.fields import Ohms, Volts, named
from thermionic.blocks.ports import Flow
from thermionic.blocks.sketch import SUPPLY_EARTH, SUPPLY_PART, SUPPLY_RAIL, Says, Sketch
from thermionic.circuit.netlist import GROUND
from thermionic.values import Quantity, display


class RegulatedSource(Block):
    """A rail of ``volt`` behind ``ohm``, without ripple: a regulator or laboratory supply taken as it is. A
    negative one is a bias."""

    kind: Literal["regulated-source"] = "regulated-source"
    scope: Literal["channel", "shared"] = named("Belongs to", "shared")
    volt: Volts = named("Voltage")
    ohm: Annotated[Ohms, Field(gt=0)] = named("Source resistance", 1.0)

    title = "Regulated source"
    about = "A rail or bias of given volts, without ripple."
    group = Group.SUPPLY
    first = {"volt": 250.0}
    suffixes = {"out": ""}

    @property
    def in_words(self) -> str:
        return display(self.volt, Quantity.VOLTAGE)

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.RAIL if self.volt >= 0 else Flow.BIAS}

    def knob(self, port: str) -> str:
        return "volt"

    def compile(self, bench: Bench) -> None:
        bench.add("VS", devices.Thevenin(self.volt, self.ohm), bench.node("out"), GROUND)
        bench.say(Rail(self.id, bench.node("out"), bias=self.volt < 0))

    def sketch(self, pen: Sketch) -> None:
        top, earth = SUPPLY_RAIL, SUPPLY_EARTH
        pen.mark(
            "",
            "box",
            (44, SUPPLY_PART),
            size=(60, 44),
            label=(38, 6, "start"),
            says=Says(
                text=display(self.volt, Quantity.VOLTAGE), main=f"blocks/{self.id}/volt", spoken="regulated source"
            ),
        )
        pen.wire((44, SUPPLY_PART - 22), (44, top), (110, top))
        pen.wire((44, SUPPLY_PART + 22), (44, earth))
        pen.earth(44, earth)
        pen.flags.append(pen.own_flag(20, top - 12))
        pen.end("out", 110, top)
        pen.width = 200
