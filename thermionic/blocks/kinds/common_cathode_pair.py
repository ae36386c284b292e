"""A balanced pair of common-cathode tubes: push-pull output tubes, or drivers in pairs."""

from typing import Annotated, Literal

from pydantic import Field, model_validator

from thermionic import devices
from thermionic.blocks.base import Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Bias
from thermionic.blocks.fields import Potentiometer, Sections, named
from thermionic.blocks.ports import BiasRef, Flow, PairRef
from thermionic.blocks.sketch import ANODE, AXIS, Sketch
from thermionic.blocks.stages import CathodeStage


class CommonCathodePair(CathodeStage):
    """Two halves with the same parts. ``shared_cathode`` gives both one cathode resistor; ``balance`` is a trimmer
    between the cathodes with the shared resistor on its wiper. With a cathode resistor and a bias rail the resistor
    is what the current is read on. ``mismatch`` is how much less current the tubes of side b give, as a fraction.
    """

    kind: Literal["common-cathode-pair"] = "common-cathode-pair"
    input: PairRef = named("Input")
    tubes: Sections = named("Sections, side a")
    tubes_b: Sections = named("Sections, side b")
    shared_cathode: bool = named("One cathode resistor for both", False)
    balance: Potentiometer | None = named("Balance trimmer", None, first=Potentiometer(track_ohm=100.0))
    bias_b: BiasRef | None = named("Grid leak of side b returns to", None)
    mismatch: Annotated[float, Field(ge=0.0, le=0.5)] = named("Mismatch (fraction)", 0.0)

    title = "Push-pull pair"
    about = "Output tubes in push-pull or drivers in pairs; with no load of its own, for a push-pull transformer."
    group = Group.SPLITTER
    first = {
        "tubes": ["6SN7GT"],
        "tubes_b": ["6SN7GT"],
        "coupling": {"farad": 220e-9, "rating_volt": 630.0, "tolerance": 0.1},
        "grid_leak": {"ohm": 470e3},
        "grid_stopper": {"ohm": 1e3},
        "cathode_resistor": {"ohm": 1.5e3},
        "anode_load": {"ohm": 47e3, "rating_watt": 2.0},
    }

    @model_validator(mode="after")
    def _balanced(self) -> "CommonCathodePair":
        if self.balance and not (self.shared_cathode and self.cathode_resistor):
            raise ValueError(f"{self.id}: a balance trimmer needs one cathode resistor for both.")
        if self.shared_cathode and self.cathode_return:
            raise ValueError(
                f"{self.id}: each cathode returns to a winding of its own; give each a resistor of its own."
            )
        if self.bias_b and not self.bias:
            raise ValueError(f"{self.id}: with a bias of its own for side b, say what side a returns to, too.")
        return self

    def ports(self) -> dict[str, Flow]:
        places = self.places(("_a", "_b"))
        if self.shared_cathode and self.has_cathode:
            places = {name: flow for name, flow in places.items() if not name.startswith("cathode")}
            places["common"] = Flow.PLACE
        return {"out": Flow.PAIR, **places}

    def compile(self, bench: Bench) -> None:
        for side, sections, bias in (
            ("a", self.tubes, "bias"),
            ("b", self.tubes_b, "bias_b" if self.bias_b else "bias"),
        ):
            self.half(bench, sections, side, 1.0 - (self.mismatch if side == "b" else 0.0), bias)
        if self.shared_cathode and self.has_cathode:
            common = bench.node("common")
            if self.balance:
                device = devices.Potentiometer(self.balance.track_ohm, self.balance.travel)
                bench.add(
                    "RV", device, bench.node("cathode", "a"), common, bench.node("cathode", "b"), name="balance"
                )
            super().cathode_parts(bench, common, "")

    def node(self, port: str, side: str = "") -> str:
        if port == "cathode" and self.shared_cathode and not self.balance:
            return super().node("common")
        return super().node(port, side)

    def cathode_parts(self, bench: Bench, cathode: str, side: str) -> None:
        if not self.shared_cathode:
            super().cathode_parts(bench, cathode, side)

    def _bias(self) -> Bias:
        return Bias.FIXED if self.bias else super()._bias()

    def sketch(self, pen: Sketch) -> None:
        for side, sections, bias in (
            ("a", self.tubes, "bias"),
            ("b", self.tubes_b, "bias_b" if self.bias_b else "bias"),
        ):
            with pen.half(side):
                tube = self.draw_grid(pen, bias)
                if self.shared_cathode and self.has_cathode:
                    pen.wire((tube, self.draw_filament(pen, tube)), (tube, AXIS - (22 if self.balance else 0)))
                else:
                    self.draw_cathode(pen, tube)
                end = self.draw_tube(pen, sections, tube)
                pen.end("out", end, ANODE)
        pen.width = end
        if self.shared_cathode and self.has_cathode:
            self._draw_shared(pen, tube)

    def _draw_shared(self, pen: Sketch, tube: float) -> None:
        start = tube
        if self.balance:
            pen.part("balance", tube, AXIS, label=(-13, 0, "end"))
            start = tube + 26
        else:
            pen.dot(tube, AXIS)
        name = "cathode_resistor" if self.cathode_resistor else "cathode_led"
        pen.wire((start, AXIS), (start + 10, AXIS))
        at = pen.lying(name, start + 10, AXIS, 74, label=(0, -38, "middle"))
        pen.wire((at, AXIS), (at + 12, AXIS), (at + 12, AXIS + 8))
        pen.earth(at + 12, AXIS + 8)
        pen.volts("common", tube - 6, AXIS - 30, "bias", "end")
        if self.cathode_bypass:
            pen.dot(start + 10, AXIS)
            pen.dot(at, AXIS)
            pen.wire((start + 10, AXIS), (start + 10, AXIS + 34))
            end = pen.lying("cathode_bypass", start + 10, AXIS + 34, 74, label=(0, 30, "middle"))
            pen.wire((end, AXIS + 34), (end, AXIS))
        pen.width = max(pen.width, at + 40)
