"""The floating paraphase."""

from typing import Literal

from pydantic import model_validator

from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Bias
from thermionic.blocks.fields import Capacitor, Resistor, Sections, named
from thermionic.blocks.placing import Electrodes, Position, Setting
from thermionic.blocks.ports import Flow, RailRef, SignalRef
from thermionic.blocks.sketch import ANODE, AXIS, BIAS, EARTH, LOAD, RAIL, SIGNAL, Sketch
from thermionic.blocks.stages import BYPASS, COUPLING
from thermionic.circuit.netlist import GROUND


class Paraphase(Block):
    """Two tubes, the second driven by what is left over between the two outputs: ``mixing`` resistors from both,
    behind their coupling capacitors, meet on its grid with ``common`` to earth. The next grids hang on the
    outputs."""

    kind: Literal["paraphase"] = "paraphase"
    input: SignalRef = named("Input")
    tubes: Sections = named("Sections, side a")
    tubes_b: Sections = named("Sections, side b")
    coupling: Capacitor | None = named("Coupling capacitor", None, first=COUPLING)
    grid_leak: Resistor | None = named("Grid leak", None, first=Resistor(ohm=470e3))
    cathode_resistor: Resistor = named("Cathode resistor, both")
    cathode_bypass: Capacitor | None = named("Cathode bypass", None, first=BYPASS)
    anode_load: Resistor = named("Anode loads")
    output_capacitor: Capacitor = named("Output capacitors", COUPLING)
    mixing: Resistor = named("Mixing resistors", Resistor(ohm=470e3))
    common: Resistor = named("Common resistor", Resistor(ohm=470e3))
    feed: RailRef = named("Fed from")

    title = "Floating paraphase"
    about = "A splitter whose second tube takes its drive from what is left between the outputs."
    group = Group.SPLITTER
    first = {
        "tubes": ["6SN7GT"],
        "tubes_b": ["6SN7GT"],
        "coupling": {"farad": 220e-9, "rating_volt": 630.0},
        "grid_leak": {"ohm": 470e3},
        "cathode_resistor": {"ohm": 820.0},
        "anode_load": {"ohm": 47e3, "rating_watt": 2.0},
    }
    suffixes = {"out": "output"}

    @model_validator(mode="after")
    def _held(self) -> "Paraphase":
        if self.coupling and not self.grid_leak:
            raise ValueError(f"{self.id}: a grid behind a coupling capacitor needs a grid leak, or nothing holds it.")
        return self

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.PAIR, "cathode": Flow.PLACE}

    def compile(self, bench: Bench) -> None:
        source = bench.take("input")
        at = bench.through("coupling", source, "in")
        bench.fit("grid_leak", at, GROUND)
        cathode, junction = bench.node("cathode"), bench.node("junction")
        rail = bench.take("feed")
        for side, sections, grid in (("a", self.tubes, at), ("b", self.tubes_b, junction)):
            anode, out = bench.node("anode", side), bench.node("out", side)
            bench.tubes(
                sections,
                Electrodes(anode=anode, grid=grid, cathode=cathode),
                source=source,
                setting=Setting(Bias.CATHODE, "cathode_resistor/ohm"),
                output=out,
                leak="grid_leak" if side == "a" and self.grid_leak else "",
                position=Position(side=side, stopper=""),
            )
            bench.fit("anode_load", rail, anode, side)
            bench.fit("output_capacitor", anode, out, side)
            bench.fit("mixing", out, junction, side)
        bench.fit("common", junction, GROUND)
        bench.fit("cathode_resistor", cathode, GROUND)
        bench.fit("cathode_bypass", cathode, GROUND)

    def sketch(self, pen: Sketch) -> None:
        pen.start("input", 0, SIGNAL)
        at = pen.lying("coupling", 0, SIGNAL, 58) or 14.0
        tube = at + 116
        pen.wire((at if self.coupling else 0, SIGNAL), (tube - 32, SIGNAL))
        if self.grid_leak:
            pen.dot(at, SIGNAL)
            pen.upright("grid_leak", at, SIGNAL, BIAS, EARTH)
            pen.earth(at, EARTH)
        x, end = tube + 186, tube + 240
        for side, sections in (("a", self.tubes), ("b", self.tubes_b)):
            with pen.half(side):
                pen.tube(sections, tube)
                pen.figure("heat", f"blocks/{self.id}", tube + 37, SIGNAL + 26, "heat")
                pen.upright("anode_load", tube, RAIL, LOAD, ANODE, label=(15, -8, "start"))
                pen.rail("feed", tube, RAIL)
                pen.dot(tube, ANODE)
                pen.wire((tube, SIGNAL - 32), (tube, ANODE), (tube + 84, ANODE))
                pen.volts("anode", tube + 8, ANODE - 5)
                pen.lying("output_capacitor", tube + 84, ANODE, 80, label=(0, 32, "middle"))
                pen.wire((tube + 164, ANODE), (end, ANODE))
                pen.dot(x, ANODE)
                pen.upright("mixing", x, ANODE, BIAS - 50, AXIS, label=(13, 0, "start"))
                pen.end("out", end, ANODE)
                pen.wire((tube, SIGNAL + 32), (tube, AXIS - 40))
        pen.wire((tube, AXIS - 40), (tube, AXIS + 40))
        pen.dot(x, AXIS)
        y = 2 * AXIS - SIGNAL
        pen.wire((x, AXIS), (x - 40, AXIS), (x - 40, AXIS + 20), (at, AXIS + 20), (at, y), (tube - 32, y))
        pen.dot(at, y)
        pen.upright("common", at, y, y + 64, y + 106)
        pen.earth(at, y + 106)
        pen.dot(tube, AXIS - 40)
        z = pen.lying("cathode_resistor", tube, AXIS - 40, 80, label=(14, -36, "middle"))
        pen.wire((z, AXIS - 40), (z, AXIS - 30))
        pen.earth(z, AXIS - 30)
        if self.cathode_bypass:
            pen.dot(tube, AXIS - 62)
            pen.wire((tube, AXIS - 62), (tube - 40, AXIS - 62))
            pen.upright(
                "cathode_bypass", tube - 40, AXIS - 62, AXIS - 36, AXIS - 12, polarised=True, label=(-16, 0, "end")
            )
            pen.earth(tube - 40, AXIS - 12)
        pen.width = end
