"""The cathodyne: equal loads in anode and cathode of one tube."""

from typing import Literal

from pydantic import model_validator

from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Bias
from thermionic.blocks.fields import Capacitor, Resistor, Sections, named
from thermionic.blocks.placing import Electrodes, Setting
from thermionic.blocks.ports import Flow, RailRef, SignalRef
from thermionic.blocks.sketch import ANODE, AXIS, LOAD, RAIL, SIGNAL, Sketch
from thermionic.blocks.stages import COUPLING
from thermionic.circuit.netlist import GROUND


class Cathodyne(Block):
    """A splitter of one tube: side a from its anode, side b from its cathode. Without a coupling capacitor its grid
    stands on the anode before; with one it needs a bias resistor, to whose foot the grid leak returns."""

    kind: Literal["cathodyne"] = "cathodyne"
    input: SignalRef = named("Input")
    tubes: Sections = named("Sections")
    coupling: Capacitor | None = named("Coupling capacitor", None, first=COUPLING)
    grid_leak: Resistor | None = named("Grid leak", None, first=Resistor(ohm=1e6))
    grid_stopper: Resistor | None = named("Grid stopper", None, first=Resistor(ohm=1e3))
    cathode_resistor: Resistor | None = named("Bias resistor", None, first=Resistor(ohm=1.5e3))
    anode_load: Resistor = named("Anode load")
    cathode_load: Resistor = named("Cathode load")
    feed: RailRef = named("Fed from")

    title = "Cathodyne"
    about = "A splitter of one tube with equal loads in anode and cathode; gain under one to each side."
    group = Group.SPLITTER
    first = {
        "tubes": ["6SN7GT"],
        "coupling": {"farad": 220e-9, "rating_volt": 630.0, "tolerance": 0.1},
        "grid_leak": {"ohm": 470e3},
        "cathode_resistor": {"ohm": 1.2e3},
        "anode_load": {"ohm": 33e3, "rating_watt": 2.0, "tolerance": 0.01},
        "cathode_load": {"ohm": 33e3, "rating_watt": 2.0, "tolerance": 0.01},
    }

    @model_validator(mode="after")
    def _held(self) -> "Cathodyne":
        if self.coupling and not (self.grid_leak and self.cathode_resistor):
            raise ValueError(
                f"{self.id}: behind a coupling capacitor the grid needs a grid leak, and a bias resistor "
                "whose foot it "
                "returns to."
            )
        return self

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.PAIR, **dict.fromkeys(["anode", "cathode"], Flow.PLACE)}

    def node(self, port: str, side: str = "") -> str:
        if port == "out":
            return super().node("anode" if side == "a" else "cathode")
        return super().node(port, side)

    def compile(self, bench: Bench) -> None:
        source = bench.take("input")
        at = bench.through("coupling", source, "in")
        anode, cathode = bench.node("anode"), bench.node("cathode")
        foot = bench.node("foot") if self.cathode_resistor else cathode
        if self.grid_leak:
            bench.fit("grid_leak", at, foot if self.cathode_resistor else GROUND)
        bench.tubes(
            self.tubes,
            Electrodes(anode=anode, grid=at, cathode=cathode),
            source=source,
            setting=Setting(Bias.CATHODE, "cathode_resistor/ohm" if self.cathode_resistor else "cathode_load/ohm"),
            leak="grid_leak" if self.grid_leak else "",
        )
        bench.fit("anode_load", bench.take("feed"), anode)
        bench.fit("cathode_resistor", cathode, foot)
        bench.fit("cathode_load", foot, GROUND)

    def sketch(self, pen: Sketch) -> None:
        pen.start("input", 0, SIGNAL)
        at = pen.lying("coupling", 0, SIGNAL, 58) or 14.0
        if not self.coupling:
            pen.wire((0, SIGNAL), (at, SIGNAL))
        after = pen.lying("grid_stopper", at + 50, SIGNAL, 74, label=(0, -31, "middle")) if self.grid_stopper else at
        pen.wire((at, SIGNAL), (at + 50 if self.grid_stopper else at, SIGNAL))
        tube = at + 160
        pen.wire((after, SIGNAL), (tube - 32, SIGNAL))
        pen.tube(self.tubes, tube)
        pen.figure("heat", f"blocks/{self.id}", tube + 37, SIGNAL + 26, "heat")
        pen.upright("anode_load", tube, RAIL, LOAD, ANODE, label=(15, -8, "start"))
        pen.rail("feed", tube, RAIL)
        pen.dot(tube, ANODE)
        pen.wire((tube, SIGNAL - 32), (tube, ANODE))
        pen.volts("anode", tube + 8, ANODE - 5)
        end, y = tube + 120, 2 * AXIS - ANODE
        # The cathode's side: the bias resistor, then the load, the way out on the row of side b.
        low = SIGNAL + 32
        if self.cathode_resistor:
            pen.upright("cathode_resistor", tube, low, 250, 300, label=(15, 0, "start"))
            low = 300
            pen.dot(tube, low)
            if self.grid_leak:
                pen.dot(at, SIGNAL)
                pen.upright("grid_leak", at, SIGNAL, 234, low)
                pen.wire((at, low), (tube, low))
        elif self.grid_leak:
            pen.dot(at, SIGNAL)
            pen.upright("grid_leak", at, SIGNAL, 234, 300)
            pen.earth(at, 300)
        pen.volts("cathode", tube - 8, SIGNAL + 48, "bias", "end")
        pen.upright("cathode_load", tube, low, y - 140, y - 80, label=(-15, 2, "end"))
        pen.earth(tube, y - 80)
        pen.dot(tube, SIGNAL + 40)
        pen.wire((tube, SIGNAL + 40), (tube + 96, SIGNAL + 40), (tube + 96, y), (end, y))
        pen.wire((tube, ANODE), (end, ANODE))
        pen.ends["out_a"], pen.ends["out_b"] = (end, ANODE), (end, y)
        if pen.is_tapped("anode"):
            pen.place("anode", end - 8, ANODE)
        if pen.is_tapped("cathode"):
            pen.place("cathode", tube + 96, y)
        pen.width = end
