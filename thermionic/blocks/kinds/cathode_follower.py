"""The cathode follower."""

from typing import Literal

from pydantic import model_validator

from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Bias
from thermionic.blocks.fields import Capacitor, CurrentSourcePart, Resistor, Sections, named
from thermionic.blocks.placing import Electrodes, Setting
from thermionic.blocks.ports import BiasRef, Flow, RailRef, SignalRef
from thermionic.blocks.sketch import RAIL, SIGNAL, Sketch
from thermionic.blocks.stages import COUPLING
from thermionic.circuit.netlist import GROUND


class CathodeFollower(Block):
    """A tube with its load in the cathode. Without a coupling capacitor the grid stands on the anode before; with one
    the grid leak returns to the foot of the bias resistor if there is one, else to earth or to ``bias``."""

    kind: Literal["cathode-follower"] = "cathode-follower"
    input: SignalRef = named("Input")
    tubes: Sections = named("Sections")
    coupling: Capacitor | None = named("Coupling capacitor", None, first=COUPLING)
    grid_leak: Resistor | None = named("Grid leak", None, first=Resistor(ohm=1e6))
    bias: BiasRef | None = named("Grid leak returns to", None)
    grid_stopper: Resistor | None = named("Grid stopper", None, first=Resistor(ohm=1e3))
    cathode_resistor: Resistor | None = named("Bias resistor", None, first=Resistor(ohm=1e3))
    cathode_load: Resistor | None = named("Cathode load", None, first=Resistor(ohm=47e3, rating_watt=2.0))
    cathode_source: CurrentSourcePart | None = named(
        "Cathode current source", None, first=CurrentSourcePart(ampere=5e-3)
    )
    feed: RailRef = named("Fed from")

    title = "Cathode follower"
    about = "Gain just under one and a low output impedance; direct-coupled or not."
    group = Group.STAGE
    first = {
        "tubes": ["6SN7GT"],
        "coupling": {"farad": 220e-9, "rating_volt": 630.0, "tolerance": 0.1},
        "grid_leak": {"ohm": 1e6},
        "cathode_resistor": {"ohm": 1e3},
        "cathode_load": {"ohm": 22e3, "rating_watt": 3.0},
    }
    suffixes = {"out": "cathode"}

    @model_validator(mode="after")
    def _held(self) -> "CathodeFollower":
        if bool(self.cathode_load) == bool(self.cathode_source):
            raise ValueError(f"{self.id}: the cathode's load is a resistor or a current source, one of them.")
        if self.coupling and not self.grid_leak:
            raise ValueError(f"{self.id}: a grid behind a coupling capacitor needs a grid leak, or nothing holds it.")
        return self

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.SIGNAL, "cathode": Flow.PLACE}

    def compile(self, bench: Bench) -> None:
        source = bench.take("input")
        at = bench.through("coupling", source, "in")
        cathode = bench.node("cathode")
        foot = bench.node("foot") if self.cathode_resistor else cathode
        held = bench.take("bias") if self.bias else foot if self.cathode_resistor else GROUND
        bench.fit("grid_leak", at, held)
        bench.tubes(
            self.tubes,
            Electrodes(anode=bench.take("feed"), grid=at, cathode=cathode),
            source=source,
            setting=Setting(
                Bias.FIXED if self.bias else Bias.CATHODE,
                "cathode_resistor/ohm" if self.cathode_resistor else "cathode_load/ohm" if self.cathode_load else "",
            ),
            output=cathode,
            leak="grid_leak" if self.grid_leak else "",
        )
        bench.fit("cathode_resistor", cathode, foot)
        bench.fit("cathode_load", foot, GROUND)
        bench.current_source("cathode_source", foot, GROUND)

    def sketch(self, pen: Sketch) -> None:
        pen.start("input", 0, SIGNAL)
        at = pen.lying("coupling", 0, SIGNAL, 58) or 14.0
        if not self.coupling:
            pen.wire((0, SIGNAL), (at, SIGNAL))
        first = at + (64 if self.grid_leak else 0)
        after = pen.lying("grid_stopper", first, SIGNAL, 74, label=(0, -31, "middle")) if self.grid_stopper else first
        pen.wire((at, SIGNAL), (first, SIGNAL))
        tube = first + 120
        pen.wire((after, SIGNAL), (tube - 32, SIGNAL))
        pen.tube(self.tubes, tube)
        pen.figure("heat", f"blocks/{self.id}", tube + 37, SIGNAL + 26, "heat")
        pen.wire((tube, SIGNAL - 32), (tube, RAIL + 30))
        pen.rail("feed", tube, RAIL + 30)
        low, out = SIGNAL + 32, SIGNAL + 50
        end = tube + 130
        pen.dot(tube, out)
        pen.wire((tube, out), (end, out))
        pen.volts("cathode", tube + 22, out + 17, "bias")
        if self.grid_leak:
            pen.dot(at, SIGNAL)
        if self.cathode_resistor:
            pen.upright("cathode_resistor", tube, low, 256, 300, label=(-15, 2, "end"))
            pen.dot(tube, 300)
            if self.grid_leak and not self.bias:
                pen.upright("grid_leak", at, SIGNAL, 234, 300)
                pen.wire((at, 300), (tube, 300))
            low = 300
        if self.grid_leak and (self.bias or not self.cathode_resistor):
            pen.upright("grid_leak", at, SIGNAL, 234, 282)
            if self.bias:
                pen.flag("bias", at - 8, 282, above=False)
            else:
                pen.earth(at, 282)
        name = "cathode_load" if self.cathode_load else "cathode_source"
        bottom = low + (84 if self.cathode_resistor else 108)
        pen.upright(name, tube, low, bottom - 34, bottom, label=(-13, 4, "end"))
        pen.earth(tube, bottom)
        if pen.is_tapped("cathode"):
            pen.place("cathode", end - 8, out)
        pen.end("out", end, out)
        pen.width = end
