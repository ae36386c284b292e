"""Two-band passive tone control."""

from typing import Literal

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.fields import Capacitor, Potentiometer, Resistor, named
from thermionic.blocks.ports import Flow, SignalRef
from thermionic.blocks.sketch import Sketch
from thermionic.circuit.netlist import GROUND


class ToneControl(Block):
    """Bass and treble, after P. J. Baxandall's passive form (*Wireless World* 58 (1952), p. 402, gives the active
    one): a bass pot between two resistors with a capacitor across each half of its track, its wiper through
    ``isolating`` to the output, and a treble pot between two capacitors with its wiper on the output. Level, it
    loses some 20 dB."""

    kind: Literal["tone-control"] = "tone-control"
    input: SignalRef = named("Input")
    bass_top: Resistor = named("Bass, upper resistor", Resistor(ohm=100e3))
    bass: Potentiometer = named("Bass", Potentiometer(track_ohm=1e6, travel=0.09))
    bass_high: Capacitor = named("Bass, upper capacitor", Capacitor(farad=2.2e-9, rating_volt=250.0, tolerance=0.1))
    bass_low: Capacitor = named("Bass, lower capacitor", Capacitor(farad=22e-9, rating_volt=250.0, tolerance=0.1))
    bass_foot: Resistor = named("Bass, lower resistor", Resistor(ohm=10e3))
    isolating: Resistor = named("Isolating resistor", Resistor(ohm=220e3))
    treble_top: Capacitor = named(
        "Treble, upper capacitor", Capacitor(farad=220e-12, rating_volt=250.0, tolerance=0.1)
    )
    treble: Potentiometer = named("Treble", Potentiometer(track_ohm=1e6, travel=0.09))
    treble_foot: Capacitor = named(
        "Treble, lower capacitor", Capacitor(farad=2.2e-9, rating_volt=250.0, tolerance=0.1)
    )

    title = "Tone control"
    about = "Bass and treble, passive, with its loss of some 20 dB."
    group = Group.CONTROL
    suffixes = {"out": ""}

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.SIGNAL}

    def compile(self, bench: Bench) -> None:
        source, out = bench.take("input"), bench.node("out")
        top, wiper, foot = bench.node("bass_top"), bench.node("bass_wiper"), bench.node("bass_foot")
        bench.fit("bass_top", source, top)
        bench.add("RV", devices.Potentiometer(self.bass.track_ohm, self.bass.travel), top, wiper, foot, name="bass")
        bench.fit("bass_high", top, wiper)
        bench.fit("bass_low", wiper, foot)
        bench.fit("bass_foot", foot, GROUND)
        bench.fit("isolating", wiper, out)
        above, below = bench.node("treble_top"), bench.node("treble_foot")
        bench.fit("treble_top", source, above)
        bench.add(
            "RV", devices.Potentiometer(self.treble.track_ohm, self.treble.travel), above, out, below, name="treble"
        )
        bench.fit("treble_foot", below, GROUND)

    def sketch(self, pen: Sketch) -> None:
        y = pen.level
        pen.start("input", 0, y)
        top = y - 50
        bass, cap, treble = 96.0, 160.0, 330.0
        pen.wire((0, y), (8, y), (8, top - 60), (treble, top - 60))
        pen.dot(bass, top - 60)
        pen.upright("bass_top", bass, top - 60, top - 26, top + 8, label=(-13, 0, "end"))
        pen.dot(bass, top + 8)
        pen.wire((bass, top + 8), (bass, y + 10))
        pen.part("bass", bass, y + 32, label=(-13, 0, "end"))
        low = y + 96
        pen.wire((bass, y + 54), (bass, low))
        pen.wire((bass, top + 8), (cap, top + 8), (cap, y - 6))
        pen.part("bass_high", cap, y, label=(16, 0, "start"))
        pen.wire((cap, y + 6), (cap, y + 32), (bass + 26, y + 32))
        pen.dot(cap, y + 32)
        pen.wire((cap, y + 32), (cap, y + 60))
        pen.part("bass_low", cap, y + 66, label=(16, 4, "start"))
        pen.wire((cap, y + 72), (cap, low), (bass, low))
        pen.dot(bass, low)
        pen.upright("bass_foot", bass, low, low + 34, low + 64, label=(-13, 0, "end"))
        pen.earth(bass, low + 64)
        pen.wire((cap, y + 32), (cap + 60, y + 32))
        x = pen.lying("isolating", cap + 60, y + 32, 76, label=(0, 34, "middle"))
        pen.upright("treble_top", treble, top - 60, top - 20, y + 10, label=(-16, 0, "end"))
        pen.part("treble", treble, y + 32, label=(12, 40, "start"))
        pen.upright("treble_foot", treble, y + 54, low + 20, low + 64, label=(-16, 10, "end"))
        pen.earth(treble, low + 64)
        end = treble + 90
        pen.wire((treble + 26, y + 32), (end - 20, y + 32), (end - 20, y), (end, y))
        pen.wire((x, y + 32), (x, y + 84), (treble + 60, y + 84), (treble + 60, y + 32))
        pen.dot(treble + 60, y + 32)
        pen.end("out", end, y)
        pen.width = end
