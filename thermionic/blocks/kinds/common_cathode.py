"""The common-cathode stage, triode or pentode, from a microphone's first stage to a single-ended output tube."""

from typing import Literal

from thermionic.blocks.base import Group
from thermionic.blocks.build import Bench
from thermionic.blocks.fields import Resistor, Sections, named
from thermionic.blocks.ports import Flow, SignalRef
from thermionic.blocks.sketch import ANODE, BIAS, CATHODE, EARTH, Sketch
from thermionic.blocks.stages import CathodeStage


class CommonCathode(CathodeStage):
    """One tube position: grid in, anode out. ``cathode_foot`` is the part of the cathode's resistance that is not
    bypassed, next to earth, where feedback comes in."""

    kind: Literal["common-cathode"] = "common-cathode"
    input: SignalRef = named("Input")
    tubes: Sections = named("Sections")
    cathode_foot: Resistor | None = named("Unbypassed part", None, first=Resistor(ohm=100.0))

    title = "Common-cathode stage"
    about = (
        "Triode or pentode, any bias and load; with no load of its own, an output or driver tube for a transformer."
    )
    group = Group.STAGE
    first = {
        "tubes": ["6SN7GT"],
        "coupling": {"farad": 220e-9, "rating_volt": 630.0, "tolerance": 0.1},
        "grid_leak": {"ohm": 470e3},
        "grid_stopper": {"ohm": 1e3},
        "cathode_resistor": {"ohm": 1.5e3},
        "anode_load": {"ohm": 47e3, "rating_watt": 2.0},
    }

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.SIGNAL, **self.places(), **({"foot": Flow.PLACE} if self.cathode_foot else {})}

    @property
    def has_cathode(self) -> bool:
        return bool(self.cathode_foot) or super().has_cathode

    def compile(self, bench: Bench) -> None:
        self.half(bench, self.tubes)

    def cathode_parts(self, bench: Bench, cathode: str, side: str) -> None:
        upper = self.cathode_resistor or self.cathode_led
        foot = below = self.foot(bench)
        if self.cathode_foot:
            foot = bench.node("foot") if upper else cathode
        bench.fit("cathode_resistor", cathode, foot)
        bench.fit("cathode_led", cathode, foot)
        bench.fit("cathode_bypass", cathode, foot)
        bench.fit("cathode_foot", foot, below) if foot != below else None

    def node(self, port: str, side: str = "") -> str:
        if port == "foot" and not (self.cathode_resistor or self.cathode_led):
            return super().node("cathode")
        return super().node(port, side)

    def draw_cathode(self, pen: Sketch, tube: float) -> None:
        if not self.cathode_foot:
            super().draw_cathode(pen, tube)
            return
        name = "cathode_resistor" if self.cathode_resistor else "cathode_led" if self.cathode_led else ""
        low = EARTH + 58 if name else EARTH
        top = self.draw_filament(pen, tube)
        if name:
            pen.upright(name, tube, top, BIAS, EARTH - 16, label=(-15, 2, "end"))
            pen.upright("cathode_foot", tube, EARTH - 16, EARTH + 20, low, label=(-15, 2, "end"))
        else:
            pen.upright("cathode_foot", tube, top, BIAS, low, label=(-15, 2, "end"))
        self.draw_foot(pen, tube, low)
        joint = max(top, CATHODE + 6)
        pen.volts("cathode", tube - (30 if self.filament else 8), CATHODE + 4, "bias", "end")
        if self.cathode_bypass and name:
            right = tube + (72 if self.filament else 40)
            pen.dot(tube, joint)
            pen.dot(tube, EARTH - 16)
            pen.wire((tube, joint), (right, joint))
            pen.upright("cathode_bypass", right, joint, BIAS, EARTH - 16, polarised=True, label=(16, 4, "start"))
            pen.wire((right, EARTH - 16), (tube, EARTH - 16))
        for port, y in (("foot", EARTH - 16 if name else joint), ("cathode", joint)):
            if pen.is_tapped(port):
                x = tube + (112 if port == "cathode" else 100)
                pen.wire((tube, y), (x, y))
                pen.dot(tube, y)
                pen.place(port, x, y)

    def sketch(self, pen: Sketch) -> None:
        tube = self.draw_grid(pen)
        self.draw_cathode(pen, tube)
        pen.width = self.draw_tube(pen, self.tubes, tube)
        pen.end("out", pen.width, ANODE)
