"""The long-tailed pair: a splitter from one signal to two, or a differential stage."""

from typing import Literal

from pydantic import model_validator

from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Bias
from thermionic.blocks.fields import Capacitor, CurrentSourcePart, Resistor, Sections, named
from thermionic.blocks.placing import Electrodes, Position, Setting
from thermionic.blocks.ports import BiasRef, Flow, RailRef, SignalRef
from thermionic.blocks.sketch import ANODE, AXIS, BIAS, EARTH, LOAD, RAIL, SIGNAL, Sketch
from thermionic.blocks.stages import COUPLING
from thermionic.circuit.netlist import GROUND


class LongTailedPair(Block):
    """Two tubes with their cathodes together on a long tail. Side a is driven; the grid of side b is held at the same
    steady voltage by ``second_leak`` and still for the signal by ``second_capacitor``. Without a coupling capacitor
    it stands on the anode before. ``cathode_resistor`` biases both, the grid leaks then returning to its foot.
    """

    kind: Literal["long-tailed-pair"] = "long-tailed-pair"
    input: SignalRef = named("Input")
    tubes: Sections = named("Sections, side a")
    tubes_b: Sections = named("Sections, side b")
    coupling: Capacitor | None = named("Coupling capacitor", None, first=COUPLING)
    grid_leak: Resistor | None = named("Grid leak", None, first=Resistor(ohm=1e6))
    grid_stopper: Resistor | None = named("Grid stopper", None, first=Resistor(ohm=1e3))
    second_leak: Resistor = named("Second grid's leak", Resistor(ohm=1e6))
    second_capacitor: Capacitor | None = named("Second grid's capacitor", None, first=COUPLING)
    cathode_resistor: Resistor | None = named("Bias resistor", None, first=Resistor(ohm=1e3))
    tail: Resistor | None = named("Tail resistor", None, first=Resistor(ohm=47e3, rating_watt=2.0))
    tail_source: CurrentSourcePart | None = named("Tail current source", None, first=CurrentSourcePart(ampere=3e-3))
    tail_to: BiasRef | None = named("Tail returns to", None)
    anode_load: Resistor = named("Anode load, side a")
    anode_load_b: Resistor | None = named(
        "Anode load of side b, if another", None, first=Resistor(ohm=100e3, rating_watt=2.0)
    )
    feed: RailRef = named("Fed from")

    title = "Long-tailed pair"
    about = "A splitter with its cathodes on a long tail, resistor or current source; loads may be unequal."
    group = Group.SPLITTER
    first = {
        "tubes": ["6SN7GT"],
        "tubes_b": ["6SN7GT"],
        "coupling": {"farad": 220e-9, "rating_volt": 630.0, "tolerance": 0.1},
        "grid_leak": {"ohm": 470e3},
        "second_leak": {"ohm": 470e3},
        "second_capacitor": {"farad": 220e-9, "rating_volt": 630.0},
        "cathode_resistor": {"ohm": 1.2e3},
        "tail": {"ohm": 22e3, "rating_watt": 2.0},
        "anode_load": {"ohm": 47e3, "rating_watt": 2.0},
    }
    suffixes = {"out": "anode"}

    @model_validator(mode="after")
    def _one_tail(self) -> "LongTailedPair":
        if bool(self.tail) == bool(self.tail_source):
            raise ValueError(f"{self.id}: the tail is a resistor or a current source, one of them.")
        if self.coupling and not self.grid_leak:
            raise ValueError(f"{self.id}: a grid behind a coupling capacitor needs a grid leak, or nothing holds it.")
        return self

    def ports(self) -> dict[str, Flow]:
        places = ["anode_a", "anode_b", "cathode", "grid_b", *(["foot"] if self.cathode_resistor else [])]
        return {"out": Flow.PAIR, **dict.fromkeys(places, Flow.PLACE)}

    def node(self, port: str, side: str = "") -> str:
        return super().node("second" if port == "grid_b" else port, side)

    def compile(self, bench: Bench) -> None:
        source = bench.take("input")
        at = bench.through("coupling", source, "in")
        cathode = bench.node("cathode")
        foot = bench.node("foot") if self.cathode_resistor else cathode
        held = foot if self.cathode_resistor else GROUND
        bench.fit("grid_leak", at, held)
        second = bench.node("second")
        bench.fit("second_leak", at if not self.coupling else held, second)
        bench.fit("second_capacitor", second, GROUND)
        rail, low = bench.take("feed"), bench.take("tail_to") if self.tail_to else GROUND
        knob = "cathode_resistor/ohm" if self.cathode_resistor else "tail/ohm" if self.tail else "tail_source/ampere"
        for side, sections, grid in (("a", self.tubes, at), ("b", self.tubes_b, second)):
            bench.tubes(
                sections,
                Electrodes(anode=bench.node("anode", side), grid=grid, cathode=cathode),
                source=source,
                setting=Setting(Bias.CATHODE, knob, raises=1 if knob.startswith("tail_source") else -1),
                leak="grid_leak" if side == "a" and self.grid_leak else "second_leak",
                position=Position(side=side),
            )
            load = "anode_load_b" if side == "b" and self.anode_load_b else "anode_load"
            bench.fit(load, rail, bench.node("anode", side), side)
        bench.fit("cathode_resistor", cathode, foot)
        bench.fit("tail", foot, low)
        bench.current_source("tail_source", foot, low)

    def sketch(self, pen: Sketch) -> None:
        second, foot = 2 * AXIS - SIGNAL, AXIS + 44
        pen.start("input", 0, SIGNAL)
        at = pen.lying("coupling", 0, SIGNAL, 58) or 14.0
        if not self.coupling:
            pen.wire((0, SIGNAL), (at, SIGNAL))
        leak, tube = at + 66, at + 176
        self._draw_leaks(pen, at, leak, foot, second)
        for side, start in (("a", at), ("b", leak)):
            with pen.half(side):
                after = (
                    pen.lying("grid_stopper", leak + 4, SIGNAL, 74, label=(0, -31, "middle"))
                    if self.grid_stopper
                    else leak
                )
                pen.wire((start, SIGNAL), (leak + 4 if self.grid_stopper else leak, SIGNAL))
                pen.wire((after, SIGNAL), (tube - 32, SIGNAL))
                self._draw_half(pen, side, tube)
        pen.wire((tube, SIGNAL + 32), (tube, second - 32))
        pen.volts("cathode", tube + 8, SIGNAL + 64, "bias")
        pen.dot(tube, AXIS)
        x = pen.lying("cathode_resistor", tube, AXIS, 74, label=(0, -38, "middle"))
        if self.cathode_resistor:
            pen.dot(x, AXIS)
            pen.wire((x, AXIS), (x, foot), (leak if self.coupling else at, foot))
            if pen.is_tapped("foot"):
                pen.place("foot", x, foot)
        end = pen.lying("tail" if self.tail else "tail_source", x, AXIS, 76, label=(0, -38, "middle"))
        if self.tail_to:
            pen.flag("tail_to", end, AXIS)
        else:
            pen.wire((end, AXIS), (end + 12, AXIS), (end + 12, AXIS + 8))
            pen.earth(end + 12, AXIS + 8)
        if pen.is_tapped("cathode"):
            pen.dot(tube, AXIS - 70)
            pen.wire((tube, AXIS - 70), (tube + 20, AXIS - 70))
            pen.place("cathode", tube + 20, AXIS - 70)
        pen.width = max(tube + 120, end + 40)
        for side in ("a", "b"):
            with pen.half(side):
                pen.wire((tube + 100, ANODE), (pen.width, ANODE))
                pen.end("out", pen.width, ANODE)

    def _draw_half(self, pen: Sketch, side: str, tube: float) -> None:
        sections = self.tubes if side == "a" else self.tubes_b
        pen.tube(sections, tube)
        pen.figure("heat", f"blocks/{self.id}", tube + 37, SIGNAL + 26, "heat")
        load = "anode_load_b" if side == "b" and self.anode_load_b else "anode_load"
        pen.upright(load, tube, RAIL, LOAD, ANODE, label=(15, -8, "start"))
        pen.rail("feed", tube, RAIL)
        pen.dot(tube, ANODE)
        pen.wire((tube, SIGNAL - 32), (tube, ANODE), (tube + 100, ANODE))
        pen.volts("anode", tube + 8, ANODE - 5)
        if pen.is_tapped(f"anode_{side}"):
            pen.dot(tube + 92, ANODE)
            pen.place(f"anode_{side}", tube + 92, ANODE)

    def _draw_leaks(self, pen: Sketch, at: float, leak: float, foot: float, second: float) -> None:
        """The grid leaks, and what holds the second grid."""
        if self.grid_leak:
            pen.dot(at, SIGNAL)
            pen.upright("grid_leak", at, SIGNAL, BIAS, foot if self.cathode_resistor else EARTH)
            if not self.cathode_resistor:
                pen.earth(at, EARTH)
        if not self.coupling:
            pen.dot(leak, SIGNAL)
            pen.upright("second_leak", leak, SIGNAL, AXIS - 30, second)
        elif self.cathode_resistor:
            pen.upright("second_leak", leak, foot, (foot + second) / 2, second)
        else:
            pen.upright("second_leak", leak, second, second + 64, second + 106)
            pen.earth(leak, second + 106)
        pen.dot(leak, second)
        if self.second_capacitor:
            pen.wire((leak, second), (at, second))
            pen.upright("second_capacitor", at, second, second + 64, second + 106, label=(16, 6, "start"))
            pen.earth(at, second + 106)
        if pen.is_tapped("grid_b"):
            pen.wire((leak, second), (at - 12, second))
            pen.place("grid_b", at - 12, second)
