"""Phono equalisation in a feedback loop."""

from typing import Literal

from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Loop
from thermionic.blocks.fields import Capacitor, Resistor, named
from thermionic.blocks.kinds.feedback import draw_lane
from thermionic.blocks.ports import Flow, PlaceRef
from thermionic.blocks.sketch import Sketch


class PhonoFeedback(Block):
    """The replay characteristic of IEC 60098 as feedback: a blocking capacitor, then a resistor and a capacitor in
    parallel for 3180 and 318 µs, and another two for 75 µs, from a follower or an anode to the first cathode."""

    kind: Literal["phono-feedback"] = "phono-feedback"
    source: PlaceRef = named("From")
    into: PlaceRef = named("To")
    blocking: Capacitor = named("Blocking capacitor", Capacitor(farad=470e-9, rating_volt=400.0, tolerance=0.1))
    low_resistor: Resistor = named("Low network, resistor", Resistor(ohm=1e6, tolerance=0.01))
    low: Capacitor = named("Low network, capacitor", Capacitor(farad=3.3e-9, rating_volt=400.0, tolerance=0.02))
    high_resistor: Resistor = named("High network, resistor", Resistor(ohm=82e3, tolerance=0.01))
    high: Capacitor = named("High network, capacitor", Capacitor(farad=910e-12, rating_volt=400.0, tolerance=0.02))

    title = "Phono equalisation, in feedback"
    about = "The replay curve as the feedback from an output to the first cathode."
    group = Group.FEEDBACK

    def ports(self) -> dict[str, Flow]:
        return {}

    def compile(self, bench: Bench) -> None:
        a, b = bench.take("source"), bench.take("into")
        first, second = bench.node("n1"), bench.node("n2")
        bench.fit("blocking", first, a)
        bench.fit("low_resistor", first, second)
        bench.fit("low", first, second)
        bench.fit("high_resistor", second, b)
        bench.fit("high", second, b)
        bench.say(Loop(self.id, (bench.part_of("blocking"),)))

    def sketch(self, pen: Sketch) -> None:
        left, right = draw_lane(pen, 250)
        y = pen.level
        x = pen.lying("blocking", left, y, 70, label=(0, -33, "middle"))
        for resistor, capacitor in (("low_resistor", "low"), ("high_resistor", "high")):
            start = x
            pen.dot(start, y)
            x = pen.lying(resistor, start, y, 80, label=(0, -33, "middle"))
            pen.dot(x, y)
            pen.wire((start, y), (start, y + 30))
            pen.lying(capacitor, start, y + 30, 80, label=(0, 32, "middle"))
            pen.wire((x, y + 30), (x, y))
            x += 10
            pen.wire((x - 10, y), (x, y))
        pen.wire((x, y), (right, y))
