"""The cascode."""

from typing import Literal

from thermionic.blocks.base import Group
from thermionic.blocks.build import Bench
from thermionic.blocks.fields import Capacitor, Resistor, named
from thermionic.blocks.ports import Flow
from thermionic.blocks.sketch import SIGNAL, Says, Sketch
from thermionic.blocks.stacked import UPPER, StackedStage
from thermionic.circuit.netlist import GROUND


class Cascode(StackedStage):
    """A common-cathode tube under a grounded-grid one, whose grid a divider of ``divider_top`` and ``divider_foot``
    from the rail holds still with ``grid_capacitor``."""

    kind: Literal["cascode"] = "cascode"
    anode_load: Resistor = named("Anode load")
    divider_top: Resistor = named("Divider, upper resistor")
    divider_foot: Resistor = named("Divider, lower resistor")
    grid_capacitor: Capacitor = named(
        "Upper grid's capacitor", Capacitor(farad=470e-9, rating_volt=400.0, tolerance=0.1)
    )

    title = "Cascode"
    about = "Much gain and little grid-anode capacitance, from two tubes in series."
    group = Group.STAGE
    first = {
        "tubes": ["ECC88"],
        "tubes_upper": ["ECC88"],
        "coupling": {"farad": 220e-9, "rating_volt": 630.0},
        "grid_leak": {"ohm": 470e3},
        "cathode_resistor": {"ohm": 470.0},
        "anode_load": {"ohm": 33e3, "rating_watt": 2.0},
        "divider_top": {"ohm": 330e3},
        "divider_foot": {"ohm": 150e3},
    }
    suffixes = {"out": "output"}

    def ports(self) -> dict[str, Flow]:
        return {**super().ports(), "out": Flow.SIGNAL}

    def compile(self, bench: Bench) -> None:
        output, grid = bench.node("out"), bench.node("upper")
        anode = self.lower(bench, output)
        rail = bench.take("feed")
        self.upper(bench, output, grid, anode, output)
        bench.fit("divider_top", rail, grid)
        bench.fit("divider_foot", grid, GROUND)
        bench.fit("grid_capacitor", grid, GROUND)
        bench.fit("anode_load", rail, output)

    def sketch(self, pen: Sketch) -> None:
        tube = self.draw_lower(pen)
        upper = UPPER + 12
        pen.mark(
            "",
            pen.kinds.get(self.tubes_upper[0], "triode"),
            (tube, upper),
            size=(66, 66),
            label=(37, -6, "start"),
            says=Says(
                text=pen.types[self.tubes_upper[0]], spoken="upper tube", designator=",".join(self.tubes_upper)
            ),
        )
        pen.wire((tube, upper + 32), (tube, SIGNAL - 32))
        pen.volts("anode", tube + 8, SIGNAL - 52)
        top, rail = upper - 48, upper - 140
        pen.upright("anode_load", tube, rail, upper - 92, top, label=(13, -6, "start"))
        pen.wire((tube, top), (tube, upper - 32))
        pen.rail("feed", tube, rail)
        pen.dot(tube, top)
        end = tube + 120
        pen.wire((tube, top), (end, top))
        pen.volts("out", tube + 62, top - 7)
        pen.end("out", end, top)
        x = tube - 70
        pen.wire((x, upper), (tube - 32, upper))
        pen.dot(x, upper)
        pen.upright("divider_top", x, rail + 14, upper - 60, upper, label=(-13, 0, "end"))
        pen.wire((x, rail + 14), (tube, rail + 14))
        pen.dot(tube, rail + 14)
        pen.wire((x, upper), (x, upper + 14))
        pen.upright("divider_foot", x, upper + 14, upper + 48, upper + 78, label=(-13, 0, "end"))
        pen.earth(x, upper + 78)
        left = x - 66
        pen.wire((x, upper), (left, upper))
        pen.upright("grid_capacitor", left, upper, upper + 48, upper + 78, label=(-16, 0, "end"))
        pen.earth(left, upper + 78)
        pen.width = end
