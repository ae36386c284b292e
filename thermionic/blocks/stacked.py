"""Stages of two tubes one above the other: what their lower halves share, and how they are drawn."""

from __future__ import annotations

from pydantic import model_validator

from thermionic.blocks.base import Block
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Bias
from thermionic.blocks.fields import Capacitor, Resistor, Sections, named
from thermionic.blocks.placing import Electrodes, Position, Setting
from thermionic.blocks.ports import Flow, RailRef, SignalRef
from thermionic.blocks.sketch import BIAS, CATHODE, EARTH, SIGNAL, Says, Sketch
from thermionic.blocks.stages import BYPASS, COUPLING
from thermionic.circuit.netlist import GROUND

# Rows of the upper tube, from the lower one's.
UPPER, BETWEEN, RAIL_ABOVE = SIGNAL - 152, SIGNAL - 76, SIGNAL - 250


class StackedStage(Block):
    """The lower tube, common-cathode, and what stands on it."""

    input: SignalRef = named("Input")
    tubes: Sections = named("Sections, lower")
    tubes_upper: Sections = named("Sections, upper")
    coupling: Capacitor | None = named("Coupling capacitor", None, first=COUPLING)
    grid_leak: Resistor | None = named("Grid leak", None, first=Resistor(ohm=470e3))
    grid_stopper: Resistor | None = named("Grid stopper", None, first=Resistor(ohm=1e3))
    cathode_resistor: Resistor = named("Cathode resistor")
    cathode_bypass: Capacitor | None = named("Cathode bypass", None, first=BYPASS)
    feed: RailRef = named("Fed from")

    @model_validator(mode="after")
    def _held(self) -> StackedStage:
        if self.coupling and not self.grid_leak:
            raise ValueError(f"{self.id}: a grid behind a coupling capacitor needs a grid leak, or nothing holds it.")
        return self

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.SIGNAL, "cathode": Flow.PLACE, "anode": Flow.PLACE}

    def lower(self, bench: Bench, output: str) -> str:
        """Compile the lower tube. Returns its anode's node."""
        source = bench.take("input")
        at = bench.through("coupling", source, "in")
        bench.fit("grid_leak", at, GROUND)
        cathode, anode = bench.node("cathode"), bench.node("anode")
        bench.tubes(
            self.tubes,
            Electrodes(anode=anode, grid=at, cathode=cathode),
            source=source,
            setting=Setting(Bias.CATHODE, "cathode_resistor/ohm"),
            output=output,
            leak="grid_leak" if self.grid_leak else "",
        )
        bench.fit("cathode_resistor", cathode, GROUND)
        bench.fit("cathode_bypass", cathode, GROUND)
        return anode

    def upper(self, bench: Bench, anode: str, grid: str, cathode: str, output: str, knob: str = "") -> None:
        """Compile the upper tube."""
        bench.tubes(
            self.tubes_upper,
            Electrodes(anode=anode, grid=grid, cathode=cathode),
            source=bench.take("input"),
            setting=Setting(Bias.CATHODE, knob),
            output=output,
            position=Position(role="upper", stopper="", grid_port="upper_grid"),
        )

    def draw_lower(self, pen: Sketch) -> float:
        """The lower tube with what is around it. Returns the tubes' x."""
        pen.start("input", 0, SIGNAL)
        at = pen.lying("coupling", 0, SIGNAL, 58) or 14.0
        if not self.coupling:
            pen.wire((0, SIGNAL), (at, SIGNAL))
        if self.grid_leak:
            pen.dot(at, SIGNAL)
            pen.upright("grid_leak", at, SIGNAL, BIAS, EARTH)
            pen.earth(at, EARTH)
        first = at + 20
        pen.wire((at, SIGNAL), (first, SIGNAL))
        after = pen.lying("grid_stopper", first, SIGNAL, 70, label=(0, 31, "middle")) or first
        tube = first + 120
        pen.wire((after if self.grid_stopper else first, SIGNAL), (tube - 32, SIGNAL))
        pen.tube(self.tubes, tube, label=(37, 0, "start"))
        pen.upright("cathode_resistor", tube, SIGNAL + 32, BIAS, EARTH, label=(-13, 2, "end"))
        pen.earth(tube, EARTH)
        pen.volts("cathode", tube - 8, CATHODE + 4, "bias", "end")
        if self.cathode_bypass:
            pen.dot(tube, CATHODE + 6)
            pen.wire((tube, CATHODE + 6), (tube + 40, CATHODE + 6))
            pen.upright("cathode_bypass", tube + 40, CATHODE + 6, BIAS, EARTH, polarised=True, label=(16, 4, "start"))
            pen.earth(tube + 40, EARTH)
        if pen.is_tapped("cathode"):
            pen.wire((tube, CATHODE + 6), (tube + 116, CATHODE + 6))
            pen.dot(tube, CATHODE + 6)
            pen.place("cathode", tube + 116, CATHODE + 6)
        return tube

    def draw_upper(self, pen: Sketch, tube: float) -> None:
        """The upper tube's own symbol."""
        pen.mark(
            "",
            pen.kinds.get(self.tubes_upper[0], "triode"),
            (tube, UPPER),
            size=(66, 66),
            label=(37, -6, "start"),
            says=Says(
                text=pen.types[self.tubes_upper[0]], spoken="upper tube", designator=",".join(self.tubes_upper)
            ),
        )
