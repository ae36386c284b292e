"""The series-regulated pair (SRPP)."""

from typing import Literal

from thermionic.blocks.base import Group
from thermionic.blocks.build import Bench
from thermionic.blocks.fields import Resistor, named
from thermionic.blocks.ports import Flow
from thermionic.blocks.sketch import SIGNAL, Sketch
from thermionic.blocks.stacked import BETWEEN, RAIL_ABOVE, UPPER, StackedStage


class SeriesRegulatedPair(StackedStage):
    """A tube loaded by another that is driven across ``upper_resistor``; the output is the upper cathode."""

    kind: Literal["srpp"] = "srpp"
    upper_resistor: Resistor = named("Upper cathode resistor")

    title = "Series-regulated pair"
    about = "Two tubes in series, the upper driven by the lower's current; a low output impedance."
    group = Group.STAGE
    first = {
        "tubes": ["6SN7GT"],
        "tubes_upper": ["6SN7GT"],
        "coupling": {"farad": 220e-9, "rating_volt": 630.0},
        "grid_leak": {"ohm": 470e3},
        "cathode_resistor": {"ohm": 1e3},
        "upper_resistor": {"ohm": 1e3},
    }
    suffixes = {"out": "output"}

    def ports(self) -> dict[str, Flow]:
        return {**super().ports(), "out": Flow.SIGNAL}

    def compile(self, bench: Bench) -> None:
        output = bench.node("out")
        anode = self.lower(bench, output)
        self.upper(bench, bench.take("feed"), anode, output, output, "upper_resistor/ohm")
        bench.fit("upper_resistor", output, anode)

    def sketch(self, pen: Sketch) -> None:
        tube = self.draw_lower(pen)
        self.draw_upper(pen, tube)
        low, high = SIGNAL - 32, UPPER + 32
        pen.upright("upper_resistor", tube, high, BETWEEN, low, label=(13, 2, "start"))
        pen.dot(tube, low - 10)
        pen.wire((tube, low - 10), (tube - 52, low - 10), (tube - 52, UPPER), (tube - 32, UPPER))
        pen.wire((tube, UPPER - 32), (tube, RAIL_ABOVE))
        pen.rail("feed", tube, RAIL_ABOVE)
        end = tube + 120
        pen.dot(tube, high + 8)
        pen.wire((tube, high + 8), (end, high + 8))
        pen.volts("out", tube + 70, high + 2)
        pen.end("out", end, high + 8)
        if pen.is_tapped("anode"):
            pen.place("anode", tube - 52, low - 10)
        pen.width = end
