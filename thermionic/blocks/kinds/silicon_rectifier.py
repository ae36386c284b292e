"""Silicon and selenium rectifiers: a bridge, two on a centre-tapped winding, one, or a doubler."""

from typing import Literal

from pydantic import model_validator

from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Rectified
from thermionic.blocks.fields import Capacitor, RectifierDiode, Resistor, named
from thermionic.blocks.ports import Flow, WindingRef
from thermionic.blocks.sketch import SUPPLY_EARTH, SUPPLY_PART, SUPPLY_RAIL, Says, Sketch
from thermionic.circuit.netlist import GROUND
from thermionic.errors import DesignRefused

_DOUBLED = Capacitor(farad=100e-6, rating_volt=400.0)


class SiliconRectifier(Block):
    """A bridge of four arms, two on a centre-tapped winding, one alone, or a doubler of two: of silicon, or as found
    of selenium.

    Bridge and full-wave are solved with every half cycle turned upwards, where the arms that conduct in turn are one:
    two in series in a bridge, one with a centre tap. A doubler's winding returns to its ``middle``, between two
    capacitors one on the other.
    """

    kind: Literal["silicon-rectifier"] = "silicon-rectifier"
    scope: Literal["channel", "shared"] = named("Belongs to", "shared")
    winding: WindingRef = named("Winding")
    form: Literal["bridge", "full-wave", "half-wave", "doubler"] = named("Form", "bridge")
    diode: RectifierDiode = named("Each arm", RectifierDiode())
    dropping: Resistor | None = named("Dropping resistor", None, first=Resistor(ohm=100.0, rating_watt=10.0))
    lower: Capacitor | None = named(
        "Doubler's lower capacitor", None, first=Capacitor(farad=100e-6, rating_volt=400.0)
    )
    upper: Capacitor | None = named(
        "Doubler's upper capacitor", None, first=Capacitor(farad=100e-6, rating_volt=400.0)
    )

    title = "Silicon rectifier"
    about = "A bridge, two diodes on a centre-tapped winding, one alone, or a doubler; selenium as found."
    group = Group.SUPPLY
    suffixes = {"out": ""}

    @property
    def in_words(self) -> str:
        return self.form

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.RAIL}

    def compile(self, bench: Bench) -> None:
        w = bench.winding("winding")
        if self.form == "full-wave" and not w.centre_tapped:
            raise DesignRefused(
                f"{self.id}: two diodes need a centre-tapped winding; {w.block} has none. Use a bridge."
            )
        out = bench.node("out")
        behind = bench.node("rectified") if self.dropping else out
        bench.fit("dropping", behind, out)
        whole = self.form != "full-wave"
        end = bench.winding_end("winding", whole=whole)
        far = end
        if self.form == "bridge":
            parts, far = [bench.diode("diode", end, behind, arms=2)], ""
        elif self.form == "full-wave":
            parts, far = [bench.diode("diode", end, behind)], bench.winding_emf("winding")
        elif self.form == "half-wave":
            parts = [bench.diode("diode", bench.swinging_end("winding", "a", 1, whole=True), behind)]
        else:
            middle = bench.node("middle")
            bench.fit("upper", out, middle)
            bench.fit("lower", middle, GROUND)
            # The end that is positive charges the upper one; when it is negative, its other end charges the lower.
            upper = bench.swinging_end("winding", "a", 1, whole=True, minus=middle)
            lower = bench.swinging_end("winding", "b", -1, whole=True)
            parts = [bench.diode("diode", upper, behind, side="a"), bench.diode("diode", lower, middle, side="b")]
            far = ""  # an arm that does not conduct has both capacitors across it
        emf, diode = bench.winding_emf("winding", whole), bench.path("diode")
        bench.say(
            Rectified(self.id, self.form, w.block, tuple(parts), out, GROUND, emf, (behind, GROUND), far, diode)
        )

    @model_validator(mode="after")
    def _doubled(self) -> "SiliconRectifier":
        if (self.form == "doubler") != (self.lower is not None and self.upper is not None):
            raise ValueError(f"{self.id}: a doubler, and nothing else, has an upper and a lower capacitor.")
        return self

    def sketch(self, pen: Sketch) -> None:
        middle, top, earth = SUPPLY_PART, SUPPLY_RAIL, SUPPLY_EARTH
        pen.start("winding", 0, middle)
        pen.wire((0, top + 6), (40, top + 6), (40, middle - 26))
        symbol = {"bridge": "bridge", "half-wave": "one-diode"}.get(self.form, "two-diodes")
        pen.mark(
            "",
            symbol,
            (40, middle),
            size=(52, 52),
            label=(20, 34, "start"),
            says=Says(text="", spoken=self.title, designator=" "),
        )
        x = 96.0
        if self.form == "doubler":
            # The winding's other end goes between the two capacitors.
            pen.wire((0, earth), (6, earth), (6, earth + 30), (x + 14, earth + 30), (x + 14, middle + 24))
            pen.wire((66, middle), (72, middle), (72, top - 8), (x + 14, top - 8), (x + 14, middle - 38))
            pen.wire((x + 14, middle - 26), (x + 14, middle + 24))
            pen.mark(
                "upper",
                "capacitor",
                (x + 14, middle - 32),
                size=(30, 28),
                label=(15, -4, "start"),
                says=Says(main=f"blocks/{self.id}/upper/farad"),
            )
            pen.mark(
                "lower",
                "capacitor",
                (x + 14, middle + 36),
                size=(30, 28),
                label=(15, 0, "start"),
                says=Says(main=f"blocks/{self.id}/lower/farad"),
            )
            pen.dot(x + 14, middle + 24)
            pen.wire((x + 14, middle + 24), (x + 14, middle + 30))
            pen.wire((x + 14, middle + 42), (x + 14, middle + 54), (x + 84, middle + 54), (x + 84, middle + 62))
            pen.earth(x + 84, middle + 62)
            pen.wire((x + 14, top - 8), (x + 88, top - 8), (x + 88, top))
            x += 88
        else:
            pen.wire((0, earth), (40, earth), (40, middle + 26))
            pen.wire((14, middle), (6, middle), (6, earth + 18))
            pen.earth(6, earth + 18)
            pen.wire((66, middle), (80, middle), (80, top), (x, top))
        x = pen.lying("dropping", x, top, 84, label=(0, 36, "middle"))
        pen.end("out", x, top)
        pen.width = x
