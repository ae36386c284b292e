"""Gas tubes in series across a rail, fed through a resistor."""

from typing import TYPE_CHECKING, Literal

from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import GasUse, Rail
from thermionic.blocks.fields import Capacitor, Resistor, Sections, named
from thermionic.blocks.ports import Flow, RailRef
from thermionic.blocks.sketch import SUPPLY_EARTH, SUPPLY_PART, SUPPLY_RAIL, Says, Sketch
from thermionic.circuit.netlist import GROUND

if TYPE_CHECKING:
    from collections.abc import Callable

    from thermionic.tubes import TubeType


class GasRegulatorBlock(Block):
    """A resistor, then gas tubes one on the other to earth; ``tubes`` from the rail down. ``starter`` across each but
    the lowest lets them strike one after the other."""

    kind: Literal["gas-regulator"] = "gas-regulator"
    scope: Literal["channel", "shared"] = named("Belongs to", "shared")
    input: RailRef = named("Behind")
    resistor: Resistor = named("Series resistor")
    tubes: Sections = named("Gas tubes")
    starter: Resistor | None = named("Starting resistors", None, first=Resistor(ohm=470e3))
    capacitor: Capacitor | None = named(
        "Capacitor across them", None, first=Capacitor(farad=47e-9, rating_volt=400.0)
    )

    title = "Gas-tube regulator"
    about = "One gas tube or several in series across a rail, with the resistor that feeds them."
    group = Group.SUPPLY
    first = {"resistor": {"ohm": 4.7e3, "rating_watt": 10.0}, "tubes": ["0A2"]}
    suffixes = {"out": ""}

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.RAIL}

    def unfit(self, tube_of: "Callable[[str], TubeType]") -> str:
        for section in self.tubes:
            type_ = tube_of(section.partition(".")[0])
            if not type_.has("regulator"):
                return f"{self.id}: {type_.type} is no gas regulator; an 0A2 (150 V) or an 0B2 (108 V) is."
        return ""

    def knob(self, port: str) -> str:
        return "resistor/ohm"

    def compile(self, bench: Bench) -> None:
        out = bench.node("out")
        bench.fit("resistor", bench.take("input"), out)
        at, chain = out, []
        for place, section in enumerate(self.tubes, start=1):
            below = GROUND if place == len(self.tubes) else bench.node(f"n{place}")
            chain.append(bench.gas_tube(section, at, below))
            if self.starter and below != GROUND:
                bench.add("R", self.starter.device(), at, below, name="starter")
            at = below
        bench.fit("capacitor", out, GROUND)
        capacitor = bench.path("capacitor") if self.capacitor else ""
        for section, name in zip(self.tubes, chain, strict=True):
            envelope = section.partition(".")[0]
            bench.say(
                GasUse(
                    self.id, name, envelope, bench.type_of(section), tuple(chain), bench.path("resistor"), capacitor
                )
            )
        bench.say(Rail(self.id, out, capacitor))

    def sketch(self, pen: Sketch) -> None:
        top, middle, earth = SUPPLY_RAIL, SUPPLY_PART, SUPPLY_EARTH
        pen.start("input", 0, top)
        x = pen.lying("resistor", 0, top, 84, label=(0, 40, "middle")) + 30
        pen.wire((x - 30, top), (x, top))
        pen.dot(x, top)
        names = ", ".join(dict.fromkeys(pen.types[section] for section in self.tubes))
        count = f" ×{len(self.tubes)}" if len(self.tubes) > 1 else ""
        pen.wire((x, top), (x, middle - 20))
        pen.mark(
            "",
            "gas-tube",
            (x, middle),
            size=(44, 44),
            label=(30, 0, "start"),
            says=Says(text=names + count, spoken="gas tubes", designator=",".join(self.tubes), count=len(self.tubes)),
        )
        pen.wire((x, middle + 20), (x, earth))
        pen.earth(x, earth)
        pen.flags.append(pen.own_flag(x + 6, top - 12))
        if self.capacitor:
            pen.wire((x, top), (x + 96, top))
            x += 96
            pen.dot(x, top)
            pen.upright("capacitor", x, top, middle, earth)
            pen.earth(x, earth)
        pen.wire((x, top), (x + 84, top))
        pen.end("out", x + 84, top)
        pen.width = x + 84
