"""An extra part between any two places: what no block foresees can still be built and solved."""

from typing import Literal

from pydantic import model_validator

from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.fields import Capacitor, Choke, DiodePart, Potentiometer, Resistor, named
from thermionic.blocks.kinds.feedback import draw_lane
from thermionic.blocks.ports import Flow, PlaceRef
from thermionic.blocks.sketch import Sketch
from thermionic.circuit.netlist import GROUND

_PARTS = ("control", "resistor", "capacitor", "choke", "diode")


class ExtraPart(Block):
    """A resistor, capacitor, choke or diode from one place to another, or to earth; several in series. With a
    ``control``, a variable resistor of which ``travel`` is in use, it is a treble cut in a grid's return or between
    the grids of a pair; a resistor and a capacitor compensate a transformer's primary."""

    kind: Literal["extra-part"] = "extra-part"
    a: PlaceRef = named("From")
    b: PlaceRef | None = named("To (earth if nothing)", None)
    control: Potentiometer | None = named("Control", None, first=Potentiometer(track_ohm=250e3, travel=1.0))
    resistor: Resistor | None = named("Resistor", None, first=Resistor(ohm=10e3))
    capacitor: Capacitor | None = named("Capacitor", None, first=Capacitor(farad=1e-9, rating_volt=630.0))
    choke: Choke | None = named("Choke", None, first=Choke(henry=1.0, copper_ohm=50.0))
    diode: DiodePart | None = named("Diode", None, first=DiodePart())

    title = "Extra part"
    about = "A resistor, capacitor, choke or diode between any two places: a cut, compensation, a snubber."
    group = Group.FEEDBACK
    first = {"capacitor": {"farad": 1e-9, "rating_volt": 630.0}}

    @model_validator(mode="after")
    def _something(self) -> "ExtraPart":
        if not self._fitted:
            raise ValueError(f"{self.id}: fit a control, a resistor, a capacitor, a choke or a diode.")
        return self

    @property
    def _fitted(self) -> list[str]:
        return [name for name in _PARTS if getattr(self, name) is not None]

    def ports(self) -> dict[str, Flow]:
        return {}

    def full_up(self) -> dict[str, float]:
        """What is to be set for the least of it."""
        return {"control/travel": 1.0} if self.control and self.capacitor else {}

    def compile(self, bench: Bench) -> None:
        at, end = bench.take("a"), bench.take("b") if self.b else GROUND
        for place, name in enumerate(self._fitted, start=1):
            following = end if place == len(self._fitted) else bench.node(f"n{place}")
            bench.fit(name, at, following)
            at = following

    def sketch(self, pen: Sketch) -> None:
        left, right = draw_lane(pen, 84.0 * len(self._fitted))
        x, y = left, pen.level
        for name in self._fitted:
            x = pen.lying(name, x, y, 84, label=(0, -36, "middle"))
        pen.wire((x, y), (right, y))
        if not self.b:
            pen.earth(right, y)
