"""The bias supply: a negative voltage from a winding of its own, with its trimmers."""

from typing import Literal

from pydantic import model_validator

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import BiasTrim, Rail, Rectified
from thermionic.blocks.fields import Capacitor, Potentiometer, RectifierDiode, Resistor, named
from thermionic.blocks.ports import Flow, WindingRef
from thermionic.blocks.sketch import SUPPLY_EARTH, SUPPLY_PART, SUPPLY_RAIL, Says, Sketch
from thermionic.circuit.netlist import GROUND


class BiasSupply(Block):
    """A winding, a bridge or a diode the other way about with a resistor before it, an RC filter, and a trimmer a
    side with a resistor at its foot that bounds its range. Turning a trimmer up makes its bias more negative.
    With ``coupling`` the winding is that of the HT, and a second diode keeps what is behind that capacitor below
    earth. ``guard``, from each wiper to the whole of the supply, keeps the tubes biased where a wiper loses its
    track."""

    kind: Literal["bias-supply"] = "bias-supply"
    scope: Literal["channel", "shared"] = named("Belongs to", "shared")
    winding: WindingRef = named("Winding")
    form: Literal["bridge", "half-wave"] = named("Form", "bridge")
    diode: RectifierDiode = named("Each arm", RectifierDiode())
    coupling: Capacitor | None = named(
        "Through a capacitor from the HT winding", None, first=Capacitor(farad=100e-9, rating_volt=1000.0)
    )
    dropping: Resistor | None = named("Dropping resistor", None, first=Resistor(ohm=47.0, rating_watt=1.0))
    reservoir: Capacitor = named("Reservoir capacitor")
    resistor: Resistor = named("Series resistor")
    capacitor: Capacitor = named("Smoothing capacitor")
    trim: Potentiometer = named("Trimmer")
    trim_b: Potentiometer | None = named("Trimmer of side b", None, first=Potentiometer(track_ohm=25e3))
    foot: Resistor = named("Resistor at the trimmers' foot")
    guard: Resistor | None = named("From each wiper to the supply", None, first=Resistor(ohm=470e3))

    title = "Bias supply"
    about = "A negative rail with a trimmer, or one a side."
    group = Group.SUPPLY
    first = {
        "reservoir": {"farad": 100e-6, "rating_volt": 100.0},
        "resistor": {"ohm": 4.7e3},
        "capacitor": {"farad": 100e-6, "rating_volt": 100.0},
        "trim": {"track_ohm": 25e3, "travel": 0.6},
        "foot": {"ohm": 10e3},
    }

    @property
    def in_words(self) -> str:
        return self.form

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.BIAS, **({"out_b": Flow.BIAS} if self.trim_b else {})}

    def knob(self, port: str) -> str:
        return "trim_b/travel" if port == "out_b" else "trim/travel"

    def compile(self, bench: Bench) -> None:
        raw, smooth, foot = bench.node("raw"), bench.node("smooth"), bench.node("foot")
        self._rectify(bench, raw)
        bench.fit("reservoir", GROUND, raw)
        bench.fit("resistor", raw, smooth)
        bench.fit("capacitor", GROUND, smooth)
        for name, port in (("trim", "out"), ("trim_b", "out_b")):
            pot = getattr(self, name)
            if pot:
                device_ = devices.Potentiometer(pot.track_ohm, pot.travel)
                bench.add("RV", device_, smooth, bench.node(port), foot, name=name)
                bench.fit("guard", smooth, bench.node(port), "a" if port == "out" else "b")
                bench.say(Rail(self.id, bench.node(port), bench.path("capacitor"), bias=True, port=port))
                bench.say(
                    BiasTrim(self.id, bench.part_of(name), bench.path(name), bench.path("guard"), bool(self.guard))
                )
        bench.fit("foot", foot, GROUND)

    def _rectify(self, bench: Bench, raw: str) -> None:
        """From the winding to the reservoir's negative end, ``raw``."""
        winding, far = bench.winding("winding").block, ""
        form: str = self.form
        parts: tuple[str, ...]
        if self.coupling:
            form = "coupled"
            behind = bench.through("coupling", bench.coupled_end("winding"), "coupled")
            behind = bench.through("dropping", behind, "dropped")
            parts = (
                bench.diode("diode", raw, behind, side="a"),
                bench.diode("diode", behind, GROUND, side="b"),
            )
        elif self.form == "bridge":
            end = bench.through("dropping", bench.winding_end("winding", minus=raw), "dropped")
            parts = (bench.diode("diode", end, GROUND, 2),)
        else:
            end = bench.through("dropping", bench.swinging_end("winding", "a", 1, minus=raw), "dropped")
            far = bench.winding_end("winding")
            parts = (bench.diode("diode", end, GROUND, 1),)
        emf, diode = bench.winding_emf("winding"), bench.path("diode")
        bench.say(Rectified(self.id, form, winding, parts, GROUND, raw, emf, (GROUND, raw), far, diode))

    @model_validator(mode="after")
    def _one_way(self) -> "BiasSupply":
        if self.coupling and self.form == "bridge":
            raise ValueError(f"{self.id}: through a capacitor only half a wave comes; make its form half-wave.")
        return self

    def sketch(self, pen: Sketch) -> None:
        middle, top, earth = SUPPLY_PART, SUPPLY_RAIL, SUPPLY_EARTH
        pen.start("winding", 0, middle)
        pen.wire((0, top + 6), (40, top + 6), (40, middle - 26))
        pen.wire((0, earth), (40, earth), (40, middle + 26))
        symbol = "bridge" if self.form == "bridge" else "one-diode"
        says = Says(spoken=self.title, designator=" ")
        pen.mark("", symbol, (40, middle), size=(52, 52), label=(24, 36, "start"), says=says)
        pen.wire((66, middle), (72, middle), (72, earth + 18))
        pen.earth(72, earth + 18)
        in_series = [name for name in ("coupling", "dropping") if getattr(self, name)]
        x = 76.0 if in_series else 108.0
        pen.wire((14, middle), (8, middle), (8, top - 16), (x, top - 16), (x, top))
        for name in in_series:
            x = pen.lying(name, x, top, 92, label=(0, 36, "middle"))
        if in_series:
            pen.wire((x, top), (x + 16, top))
            x += 16
        pen.upright("reservoir", x, top, middle, earth)
        pen.earth(x, earth)
        pen.dot(x, top)
        x = pen.lying("resistor", x, top, 124, label=(12, 40, "middle")) + 12
        pen.wire((x - 12, top), (x, top))
        pen.dot(x, top)
        pen.upright("capacitor", x, top, middle, earth)
        pen.earth(x, earth)
        for name, port in (("trim", "out"), ("trim_b", "out_b")):
            pot = getattr(self, name)
            if pot is None:
                continue
            pen.wire((x, top), (x + 84, top))
            x += 84
            if self.guard or (name == "trim" and self.trim_b):
                pen.dot(x, top)
            pen.wire((x, top), (x, middle - 22))
            pen.part(name, x, middle, label=(11, -30, "start"))
            pen.wire((x + 26, middle), (x + 36, middle))
            pen.volts(port, x + 14, middle + 22, "bias")
            pen.wire((x, middle + 22), (x, earth + 6))
            if self.guard:
                held = x + 86
                pen.wire((x, top), (held, top), (held, top + 2))
                pen.wire((x + 36, middle), (held, middle), (held, top + 46))
                pen.side = "a" if port == "out" else "b"
                pen.part("guard", held, top + 24)
                pen.side = ""
                if name == "trim" and self.trim_b:
                    pen.dot(held, top)
                    pen.wire((held, top), (held + 62, top))
                    pen.wire((x, earth + 6), (held + 62, earth + 6))
                    x = held + 62 - 84
        pen.upright("foot", x, earth + 6, earth + 40, earth + 76)
        if self.trim_b:
            pen.wire((x - 84, earth + 6), (x, earth + 6))
            pen.dot(x, earth + 6)
        pen.earth(x, earth + 76)
        pen.width = x + (160 if self.guard else 92)
