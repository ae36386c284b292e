"""A MOSFET as a source follower in a rail: a ripple filter, or a regulator where its gate is held by a zener."""

from typing import Literal

from pydantic import model_validator

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import PassUse, Rail
from thermionic.blocks.fields import Capacitor, DiodePart, PassTransistor, Resistor, ZenerPart, named
from thermionic.blocks.ports import Flow, RailRef
from thermionic.blocks.sketch import SUPPLY_EARTH, SUPPLY_PART, SUPPLY_RAIL, Says, Sketch
from thermionic.circuit.netlist import GROUND


class SourceFollower(Block):
    """A MOSFET whose gate hangs on a divider from the rail before it with a capacitor (it gives the rail less a few
    volts, without its ripple) or on a zener (it gives the zener's volts less a few).

    ``clamp`` is the zener from gate to source that keeps the gate whole, ``discharge`` the diode that empties the
    gate's capacitor into the rail when that falls first.
    """

    kind: Literal["source-follower"] = "source-follower"
    scope: Literal["channel", "shared"] = named("Belongs to", "shared")
    input: RailRef = named("Behind")
    upper: Resistor = named("Resistor to the gate")
    lower: Resistor | None = named("Divider's lower resistor", None, first=Resistor(ohm=3.3e6))
    reference: ZenerPart | None = named("Zener at the gate", None, first=ZenerPart(volt=250.0))
    gate_capacitor: Capacitor = named("Gate's capacitor")
    gate_stopper: Resistor = named("Gate stopper", Resistor(ohm=1e3))
    transistor: PassTransistor = named("MOSFET", PassTransistor())
    clamp: ZenerPart | None = named("Gate's zener", ZenerPart(volt=12.0))
    discharge: DiodePart | None = named("Gate's diode", None, first=DiodePart())
    output: Capacitor | None = named("Output capacitor", None, first=Capacitor(farad=10e-6, rating_volt=450.0))

    title = "MOSFET filter or regulator"
    about = "A source follower in a rail: ripple filter with a divider at its gate, regulator with a zener."
    group = Group.SUPPLY
    first = {
        "upper": {"ohm": 220e3},
        "lower": {"ohm": 3.3e6},
        "gate_capacitor": {"farad": 10e-6, "rating_volt": 450.0},
    }
    suffixes = {"out": ""}

    @model_validator(mode="after")
    def _held(self) -> "SourceFollower":
        if self.lower is None and self.reference is None:
            raise ValueError(
                f"{self.id}: its gate needs a divider's lower resistor or a zener, or nothing is left for the MOSFET."
            )
        return self

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.RAIL}

    def knob(self, port: str) -> str:
        return "reference/volt" if self.reference else "lower/ohm"

    def compile(self, bench: Bench) -> None:
        drain, held, gate, out = bench.take("input"), bench.node("held"), bench.node("gate"), bench.node("out")
        bench.fit("upper", drain, held)
        bench.fit("lower", held, GROUND)
        bench.fit("reference", held, GROUND)
        bench.fit("gate_capacitor", held, GROUND)
        bench.fit("gate_stopper", held, gate)
        name = bench.add("Q", self.transistor.device(), drain, gate, out, name="transistor")
        bench.fit("clamp", gate, out)
        bench.fit("discharge", held, drain)
        # What the drain's body and the channel leak: without it a rail that nothing loads is anywhere.
        bench.loose("RL", devices.Resistor(100e6), out, GROUND)
        bench.fit("output", out, GROUND)
        bench.say(PassUse(self.id, name, bench.path("transistor"), drain, gate, out, held))
        bench.say(Rail(self.id, out, bench.path("output") if self.output else ""))

    def sketch(self, pen: Sketch) -> None:
        top, middle, earth = SUPPLY_RAIL, SUPPLY_PART, SUPPLY_EARTH
        x = 20.0
        end = self._draw_gate(pen, x)
        stop = pen.lying("gate_stopper", end, earth, 70, label=(0, 32, "middle"))
        q = stop + 26
        pen.wire((stop, earth), (q, earth), (q, top + 22))
        says = Says(main=f"blocks/{self.id}/transistor/rating_volt", spoken="MOSFET", heat=True)
        pen.mark("transistor", "mosfet", (q, top), size=(48, 44), label=(0, -50, "middle"), says=says)
        pen.wire((x, top), (q - 24, top))
        pen.wire((q + 24, top), (q + 40, top))
        at = q + 40
        if self.clamp:
            pen.dot(at, top)
            pen.dot(q, earth)
            pen.wire((at, top), (at, middle - 22))
            pen.wire((at, middle + 22), (at, earth), (q, earth))
            says = Says(main=f"blocks/{self.id}/clamp/volt")
            pen.mark("clamp", "zener-down", (at, middle), size=(30, 56), label=(15, 0, "start"), says=says)
            if self.output:
                pen.wire((at, top), (at + 14, top))
                at += 14
        if self.output:
            pen.wire((at, top), (at + 70, top))
            at += 70
            pen.dot(at, top)
            pen.upright("output", at, top, middle, earth, polarised=True)
            pen.earth(at, earth)
        pen.flags.append(pen.own_flag(at + 6, top - 12))
        pen.wire((at, top), (at + 84, top))
        pen.end("out", at + 84, top)
        pen.width = at + 84

    def _draw_gate(self, pen: Sketch, x: float) -> float:
        """What sets the gate's voltage, from the divider at x on. Returns where it ends."""
        top, middle, earth = SUPPLY_RAIL, SUPPLY_PART, SUPPLY_EARTH
        pen.start("input", 0, top)
        pen.wire((0, top), (x, top))
        pen.dot(x, top)
        pen.upright("upper", x, top, middle, earth)
        pen.dot(x, earth)
        low = earth + 82
        if self.lower:
            pen.upright("lower", x, earth, earth + 40, low)
            pen.earth(x, low)
        across = x
        for name in ("reference", "gate_capacitor"):
            if getattr(self, name) is None:
                continue
            pen.wire((across, earth), (across + 78, earth))
            across += 78
            pen.dot(across, earth)
            pen.upright(name, across, earth, earth + 40, low)
            pen.earth(across, low)
        if self.discharge:
            pen.wire((x + 62, top), (x + 62, middle - 22))
            pen.wire((x + 62, middle + 22), (x + 62, earth))
            says = Says(main=f"blocks/{self.id}/discharge/reverse_volt")
            pen.mark("discharge", "diode-up", (x + 62, middle), size=(30, 56), label=(14, 0, "start"), says=says)
        end = max(across + 20, x + 120)
        pen.wire((across, earth), (end, earth))
        return end
