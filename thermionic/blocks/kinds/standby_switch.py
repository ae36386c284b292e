"""A standby switch in a rail."""

from typing import Annotated, Literal

from pydantic import Field

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Rail, Standby
from thermionic.blocks.fields import Resistor, Volts, named
from thermionic.blocks.ports import Flow, RailRef
from thermionic.blocks.sketch import SUPPLY_RAIL, Says, Sketch

_CONTACTS_OHM = 0.05


class StandbySwitch(Block):
    """Contacts in a rail that the builder closes some time after the mains. ``bypass`` across them fills what is
    behind slowly. Everything is computed with it closed; only the way from the switch on, and the discharge, know it
    open."""

    kind: Literal["standby-switch"] = "standby-switch"
    scope: Literal["channel", "shared"] = named("Belongs to", "shared")
    input: RailRef = named("Behind")
    closes_second: Annotated[float, Field(ge=0.0, le=600.0)] = named("Closed after the mains by, s", 30.0)
    breaks_volt: Annotated[Volts, Field(gt=0)] = named("DC volts that it can break", 250.0)
    bypass: Resistor | None = named("Across its contacts", None, first=Resistor(ohm=47e3, rating_watt=5.0))

    title = "Standby switch"
    about = "Contacts in a rail, closed when the heaters are warm."
    group = Group.SUPPLY
    suffixes = {"out": ""}

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.RAIL}

    def compile(self, bench: Bench) -> None:
        before, behind = bench.take("input"), bench.node("out")
        name = bench.loose("S", devices.Contact(_CONTACTS_OHM, closes_at=self.closes_second), before, behind)
        bench.fit("bypass", before, behind)
        bench.say(Standby(self.id, name, self.closes_second, self.breaks_volt, before, behind))
        bench.say(Rail(self.id, behind))

    def sketch(self, pen: Sketch) -> None:
        top = SUPPLY_RAIL
        pen.start("input", 0, top)
        x = 20.0
        pen.wire((0, top), (x, top))
        if self.bypass:
            pen.dot(x, top)
            pen.wire((x, top), (x, top + 44))
            end = pen.lying("bypass", x, top + 44, 84, label=(0, 34, "middle"))
            pen.wire((end, top + 44), (end, top))
            pen.dot(end, top)
        pen.wire((x, top), (x + 28, top))
        pen.mark(
            "",
            "switch",
            (x + 42, top),
            size=(30, 28),
            label=(0, -22, "middle"),
            says=Says(text=f"after {self.closes_second:g} s", main=f"blocks/{self.id}/closes_second", designator=" "),
        )
        pen.wire((x + 56, top), (x + 84, top))
        pen.flags.append(pen.own_flag(x + 100, top - 12))
        pen.wire((x + 84, top), (x + 210, top))
        pen.end("out", x + 210, top)
        pen.width = x + 210
