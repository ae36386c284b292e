"""A loudness tap."""

from typing import Literal

from thermionic.blocks.base import Group
from thermionic.blocks.fields import Capacitor, Resistor, named
from thermionic.blocks.ladders import Ladder, Series, Shunt


class Loudness(Ladder):
    """Bass and treble lifted against the middle, as the ear wants it at low level: a series resistor with a small
    capacitor across it, and to earth a resistor with a capacitor in series."""

    kind: Literal["loudness"] = "loudness"
    series: Resistor = named("Series resistor", Resistor(ohm=100e3))
    bright: Capacitor | None = named("Capacitor across it", None, first=Capacitor(farad=180e-12, rating_volt=250.0))
    shunt: Resistor = named("Shunt resistor", Resistor(ohm=22e3))
    bass: Capacitor = named("Capacitor under it", Capacitor(farad=47e-9, rating_volt=250.0))

    title = "Loudness"
    about = "Bass and treble lifted against the middle for listening at low level."
    group = Group.CONTROL

    def rungs(self) -> list[Series | Shunt]:
        return [Series(("series", "bright")), Shunt(("shunt", "bass"))]
