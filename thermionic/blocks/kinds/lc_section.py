"""An LC section of a supply."""

from typing import Literal

from thermionic.blocks.base import Group
from thermionic.blocks.build import Bench
from thermionic.blocks.fields import Choke, named
from thermionic.blocks.supplies import Section


class LCSection(Section):
    """A smoothing choke and a capacitor; stages hang on the capacitor."""

    kind: Literal["lc-section"] = "lc-section"
    choke: Choke = named("Choke")

    title = "LC section"
    about = "A smoothing choke and a capacitor, from which stages are fed."
    group = Group.SUPPLY
    first = {
        "choke": {"henry": 5.0, "copper_ohm": 80.0, "rating_ampere": 0.2},
        "capacitor": {"farad": 100e-6, "rating_volt": 500.0},
    }
    series = "choke"

    def compile(self, bench: Bench) -> None:
        self.section(bench)
