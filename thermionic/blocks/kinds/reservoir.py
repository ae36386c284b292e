"""The reservoir: the first capacitor behind a rectifier, with its bleeder."""

from typing import Literal

from thermionic.blocks.base import Group
from thermionic.blocks.build import Bench
from thermionic.blocks.fields import SmoothingCapacitor, named
from thermionic.blocks.sketch import SUPPLY_RAIL, Sketch
from thermionic.blocks.supplies import Smoothed


class Reservoir(Smoothed):
    """A capacitor on the rail that it takes, or two in series, with a bleeder across."""

    kind: Literal["reservoir"] = "reservoir"
    capacitor: SmoothingCapacitor = named("Reservoir capacitor")

    title = "Reservoir"
    about = "The first capacitor behind a rectifier, with its bleeder."
    group = Group.SUPPLY
    first = {"capacitor": {"farad": 47e-6, "rating_volt": 500.0}, "bleeder": {"ohm": 220e3, "rating_watt": 3.0}}

    def compile(self, bench: Bench) -> None:
        node = bench.node("out")
        bench.join(bench.take("input"), node)
        self.smooth(bench, node)

    def sketch(self, pen: Sketch) -> None:
        top, x = SUPPLY_RAIL, 36.0
        pen.start("input", 0, top)
        pen.wire((0, top), (x, top))
        pen.volts("out", 2, top - 10)
        pen.figure("ripple", self.node("out"), 66, top - 10, "ripple")
        x = self.stand(pen, x)
        pen.wire((x, top), (x + 70, top))
        pen.end("out", x + 70, top)
        pen.width = x + 70
