"""A gramophone cartridge: moving magnet, moving coil or ceramic."""

from typing import Literal

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Source
from thermionic.blocks.fields import Capacitor, Farads, Henries, Ohms, Resistor, Volts, named
from thermionic.blocks.kinds.line_input import draw_socket
from thermionic.blocks.ports import Flow
from thermionic.blocks.sketch import EARTH, SIGNAL, Sketch
from thermionic.circuit.netlist import GROUND
from thermionic.values import Quantity, display


class Cartridge(Block):
    """A cartridge by its level at 1 kHz and 5 cm/s (rms), its resistance and inductance, or for a ceramic one the
    capacitance that it is behind; then the arm's cable, and what loads it at the input."""

    kind: Literal["cartridge"] = "cartridge"
    source_volt: Volts = named("Level at 5 cm/s, rms", 4e-3)
    coil_ohm: Ohms = named("Coil resistance", 700.0)
    coil_henry: Henries | None = named("Coil inductance", 0.5, first=0.5)
    element_farad: Farads | None = named("Element's capacitance (ceramic)", None, first=800e-12)
    cable_farad: Farads = named("Cable's capacitance", 120e-12)
    loading: Resistor = named("Loading resistor", Resistor(ohm=47e3, tolerance=0.01))
    loading_capacitor: Capacitor | None = named(
        "Loading capacitor", None, first=Capacitor(farad=100e-12, rating_volt=63.0)
    )

    title = "Cartridge"
    about = "Moving magnet, moving coil or ceramic, with its cable and loading."
    group = Group.SOURCE
    suffixes = {"out": ""}

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.SIGNAL}

    def compile(self, bench: Bench) -> None:
        emf, at = bench.emf(), bench.node("coil")
        name = bench.source(devices.VoltageSource(0.0, self.source_volt * 2**0.5), emf)
        out = bench.node("out")
        bench.add("R", devices.Resistor(self.coil_ohm), emf, at, name="coil_ohm")
        if self.coil_henry:
            bench.add("L", devices.Inductor(self.coil_henry), at, bench.node("arm"), name="coil_henry")
            at = bench.node("arm")
        if self.element_farad:
            bench.add("C", devices.Capacitor(self.element_farad), at, out, name="element_farad")
        else:
            bench.join(at, out)
        bench.add("C", devices.Capacitor(self.cable_farad), out, GROUND, name="cable_farad")
        bench.fit("loading", out, GROUND)
        bench.fit("loading_capacitor", out, GROUND)
        bench.say(Source(self.id, name, emf, self.source_volt))

    def sketch(self, pen: Sketch) -> None:
        draw_socket(pen, "source_volt", display(self.source_volt, Quantity.VOLTAGE))
        x = 76.0
        pen.wire((54, SIGNAL), (x, SIGNAL))
        for name in ("loading", "loading_capacitor"):
            if getattr(self, name):
                pen.dot(x, SIGNAL)
                pen.upright(name, x, SIGNAL, 234, EARTH)
                pen.earth(x, EARTH)
                pen.wire((x, SIGNAL), (x + 70, SIGNAL))
                x += 70
        pen.end("out", x, SIGNAL)
        pen.width = x
