"""An RC section of a supply."""

from typing import Literal

from thermionic.blocks.base import Group
from thermionic.blocks.build import Bench
from thermionic.blocks.fields import Resistor, named
from thermionic.blocks.supplies import Section


class RCSection(Section):
    """A series resistor and a capacitor; stages hang on the capacitor."""

    kind: Literal["rc-section"] = "rc-section"
    resistor: Resistor = named("Series resistor")

    title = "RC section"
    about = "A series resistor and a smoothing capacitor, from which stages are fed."
    group = Group.SUPPLY
    first = {"resistor": {"ohm": 4.7e3, "rating_watt": 2.0}, "capacitor": {"farad": 47e-6, "rating_volt": 500.0}}
    series = "resistor"

    def compile(self, bench: Bench) -> None:
        self.section(bench)
