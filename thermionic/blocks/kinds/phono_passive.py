"""Phono equalisation, passive, in one network or one half of a split one."""

from typing import Literal

from thermionic.blocks.base import Group
from thermionic.blocks.fields import Capacitor, Resistor, named
from thermionic.blocks.ladders import Ladder, Series, Shunt


class PhonoPassive(Ladder):
    """The replay characteristic of IEC 60098, with time constants of 3180, 318 and 75 µs.

    All in one: a series resistor, then to earth a capacitor, and beside it another with a resistor. Split: one
    network with ``lift`` and ``low`` (3180 and 318 µs), and after the next stage one with ``high`` alone (75 µs).
    """

    kind: Literal["phono-passive"] = "phono-passive"
    coupling: Capacitor | None = named(
        "Coupling capacitor", None, first=Capacitor(farad=470e-9, rating_volt=400.0, tolerance=0.05)
    )
    series: Resistor = named("Series resistor", Resistor(ohm=220e3, tolerance=0.01))
    lift: Resistor | None = named("Resistor of the low network", None, first=Resistor(ohm=31.6e3, tolerance=0.01))
    low: Capacitor | None = named(
        "Capacitor of the low network", None, first=Capacitor(farad=10e-9, rating_volt=400.0, tolerance=0.02)
    )
    high: Capacitor | None = named(
        "Capacitor of the high network", None, first=Capacitor(farad=3.3e-9, rating_volt=400.0, tolerance=0.02)
    )

    title = "Phono equalisation, passive"
    about = "The replay curve in one network, or split over two."
    group = Group.CONTROL
    first = {
        "coupling": {"farad": 470e-9, "rating_volt": 400.0, "tolerance": 0.05},
        "lift": {"ohm": 33e3, "tolerance": 0.01},
        "low": {"farad": 10e-9, "rating_volt": 400.0, "tolerance": 0.02},
        "high": {"farad": 2.7e-9, "rating_volt": 400.0, "tolerance": 0.02},
    }

    def rungs(self) -> list[Series | Shunt]:
        return [Series(("coupling",)), Series(("series",)), Shunt(("high",)), Shunt(("lift", "low"))]
