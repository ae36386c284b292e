"""A pad: a fixed divider."""

from typing import Literal

from thermionic.blocks.base import Group
from thermionic.blocks.fields import Resistor, named
from thermionic.blocks.ladders import Ladder, Series, Shunt


class Pad(Ladder):
    """A series and a shunt resistor that take a fixed part of the signal."""

    kind: Literal["pad"] = "pad"
    series: Resistor = named("Series resistor", Resistor(ohm=47e3))
    shunt: Resistor = named("Shunt resistor", Resistor(ohm=10e3))

    title = "Pad"
    about = "Two resistors that take a fixed part of the signal."
    group = Group.CONTROL

    def rungs(self) -> list[Series | Shunt]:
        return [Series(("series",)), Shunt(("shunt",))]
