"""Feedback: a resistor, a capacitor or both from one place of the design to another."""

from typing import Literal

from pydantic import model_validator

from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Loop
from thermionic.blocks.fields import Capacitor, Resistor, named
from thermionic.blocks.ports import Flow, PlaceRef
from thermionic.blocks.sketch import SIGNAL, Sketch


class Feedback(Block):
    """A resistor from ``source`` to ``into``, with a capacitor across it, or in series with it where it must not
    carry direct current."""

    kind: Literal["feedback"] = "feedback"
    source: PlaceRef = named("From")
    into: PlaceRef = named("To")
    resistor: Resistor | None = named("Resistor", None, first=Resistor(ohm=10e3))
    capacitor: Capacitor | None = named(
        "Capacitor", None, first=Capacitor(farad=330e-12, rating_volt=500.0, tolerance=0.1)
    )
    connection: Literal["parallel", "series"] = named("Capacitor is in", "parallel")

    title = "Feedback"
    about = "From a secondary or an anode to a cathode, a grid or the foot of a volume control."
    group = Group.FEEDBACK
    first = {"resistor": {"ohm": 10e3}}

    @model_validator(mode="after")
    def _something(self) -> "Feedback":
        if not (self.resistor or self.capacitor):
            raise ValueError(f"{self.id}: feedback goes through a resistor, a capacitor or both.")
        return self

    def ports(self) -> dict[str, Flow]:
        return {}

    def compile(self, bench: Bench) -> None:
        a, b = bench.take("source"), bench.take("into")
        middle = b
        if self.resistor and self.capacitor and self.connection == "series":
            middle = bench.node("between")
            bench.fit("capacitor", middle, b)
        elif self.capacitor:
            bench.fit("capacitor", a, b)
        bench.fit("resistor", a, middle)
        fitted = [name for name in ("resistor", "capacitor") if getattr(self, name)]
        side_by_side = fitted if self.connection == "parallel" else fitted[:1]
        lead = bench.path("capacitor") if self.resistor and self.connection == "parallel" else ""
        bench.say(Loop(self.id, tuple(bench.part_of(name) for name in side_by_side), lead))

    def sketch(self, pen: Sketch) -> None:
        left, right = draw_lane(pen, 170)
        y, x = pen.level, left
        pen.wire((left, y), (x, y))
        series = self.connection == "series"
        if self.resistor:
            x = pen.lying("resistor", x, y, 80, label=(0, -33, "middle"))
        if self.capacitor and (series or not self.resistor):
            x = pen.lying("capacitor", x, y, 70, label=(0, -33, "middle"))
        elif self.capacitor:
            pen.dot(left, y)
            pen.dot(x, y)
            pen.wire((left, y), (left, y + 34))
            end = pen.lying("capacitor", left, y + 34, 80, label=(0, 31, "middle"))
            pen.wire((end, y + 34), (x, y))
        pen.wire((x, y), (right, y))


def draw_lane(pen: Sketch, length: float) -> tuple[float, float]:
    """The ends of what joins two places: down into a lane where both are in one row, else with flags. Returns the x
    of both ends of what is to be filled with parts, at ``pen.level``."""
    if pen.span is None:
        names = list(pen.block.references)
        lead = 12 + max(len(getattr(pen.block, name)) for name in names) * 7.6
        pen.level = SIGNAL
        pen.flag(names[0], lead - 8, SIGNAL + 10, "end")
        if len(names) > 1:
            pen.flag(names[1], lead + length + 24, SIGNAL + 10, "start")
        pen.width = 2 * lead + length + 30
        return lead, lead + length + 20
    (x1, y1), (x2, y2) = pen.span
    y = pen.level
    pen.wire((x1, y1), (x1, y))
    pen.wire((x2, y2), (x2, y))
    left, right = min(x1, x2), max(x1, x2)
    middle = max(left, (left + right - length) / 2)
    pen.wire((left, y), (middle, y))
    return middle, right
