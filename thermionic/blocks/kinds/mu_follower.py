"""The mu follower."""

from typing import Literal

from thermionic.blocks.base import Group
from thermionic.blocks.build import Bench
from thermionic.blocks.fields import Capacitor, Resistor, named
from thermionic.blocks.ports import Flow
from thermionic.blocks.sketch import SIGNAL, Says, Sketch
from thermionic.blocks.stacked import UPPER, StackedStage

_RAIL = UPPER - 96


class MuFollower(StackedStage):
    """A tube whose anode load is bootstrapped by a follower above it: ``load`` stands between the lower anode and the
    foot of ``upper_resistor``, which biases the upper tube; ``upper_coupling`` and ``upper_leak`` hold its grid."""

    kind: Literal["mu-follower"] = "mu-follower"
    load: Resistor = named("Load resistor")
    upper_resistor: Resistor = named("Upper bias resistor")
    upper_coupling: Capacitor = named(
        "Upper coupling capacitor", Capacitor(farad=100e-9, rating_volt=400.0, tolerance=0.1)
    )
    upper_leak: Resistor = named("Upper grid leak", Resistor(ohm=1e6))

    title = "Mu follower"
    about = "Gain of nearly mu, and a follower's output."
    group = Group.STAGE
    first = {
        "tubes": ["6SN7GT"],
        "tubes_upper": ["6SN7GT"],
        "coupling": {"farad": 220e-9, "rating_volt": 630.0},
        "grid_leak": {"ohm": 470e3},
        "cathode_resistor": {"ohm": 1e3},
        "load": {"ohm": 22e3, "rating_watt": 1.0},
        "upper_resistor": {"ohm": 1e3},
    }
    suffixes = {"out": "output"}

    def ports(self) -> dict[str, Flow]:
        return {**super().ports(), "out": Flow.SIGNAL}

    def compile(self, bench: Bench) -> None:
        output, foot, grid = bench.node("out"), bench.node("foot"), bench.node("upper")
        anode = self.lower(bench, output)
        bench.fit("upper_coupling", anode, grid)
        bench.fit("upper_leak", grid, foot)
        self.upper(bench, bench.take("feed"), grid, output, output, "upper_resistor/ohm")
        bench.fit("upper_resistor", output, foot)
        bench.fit("load", foot, anode)

    def sketch(self, pen: Sketch) -> None:
        tube = self.draw_lower(pen)
        # The upper tube a storey higher: two resistors stand between.
        storey = 84
        upper = UPPER - storey
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
        low, foot, high = SIGNAL - 32, SIGNAL - 118, upper + 32
        pen.upright("load", tube, foot, SIGNAL - 76, low, label=(13, 2, "start"))
        pen.upright("upper_resistor", tube, high, high + 42, foot, label=(13, 2, "start"))
        pen.dot(tube, foot)
        pen.dot(tube, low - 8)
        x = tube - 96
        pen.wire((tube, low - 8), (x, low - 8))
        pen.upright("upper_coupling", x, foot, SIGNAL - 86, low - 8, label=(-14, 0, "end"))
        pen.wire((x, foot), (x, upper), (tube - 32, upper))
        y = upper + 66
        pen.dot(x, y)
        at = pen.lying("upper_leak", x, y, 64, label=(-40, 0, "end"))
        pen.wire((at, y), (at, foot), (tube, foot))
        pen.wire((tube, upper - 32), (tube, _RAIL - storey))
        pen.rail("feed", tube, _RAIL - storey)
        end = tube + 120
        pen.dot(tube, high + 8)
        pen.wire((tube, high + 8), (end, high + 8))
        pen.volts("out", tube + 70, high + 2)
        pen.end("out", end, high + 8)
        pen.width = end
