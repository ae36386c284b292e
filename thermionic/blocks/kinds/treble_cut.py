"""A single treble cut."""

from typing import Literal

from thermionic.blocks.base import Group
from thermionic.blocks.fields import Capacitor, Potentiometer, Resistor, named
from thermionic.blocks.ladders import Ladder, Series, Shunt


class TrebleCut(Ladder):
    """A capacitor and a variable resistor from the signal to earth: the less resistance, the more treble is taken."""

    kind: Literal["treble-cut"] = "treble-cut"
    series: Resistor | None = named("Series resistor", None, first=Resistor(ohm=47e3))
    control: Potentiometer = named("Control", Potentiometer(track_ohm=500e3, travel=1.0))
    capacitor: Capacitor = named("Capacitor", Capacitor(farad=4.7e-9, rating_volt=400.0))

    title = "Treble cut"
    about = "One control that takes treble to earth."
    group = Group.CONTROL

    def rungs(self) -> list[Series | Shunt]:
        return [Series(("series",)), Shunt(("control", "capacitor"))]

    def full_up(self) -> dict[str, float]:
        """What is to be set for no cut."""
        return {"control/travel": 1.0}
