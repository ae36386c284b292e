"""The vacuum rectifier."""

from typing import Literal

from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Rectified
from thermionic.blocks.fields import RectifierDiode, Resistor, Section, named
from thermionic.blocks.ports import Flow, WindingRef
from thermionic.blocks.sketch import SUPPLY_EARTH, SUPPLY_PART, SUPPLY_RAIL, Says, Sketch
from thermionic.circuit.netlist import GROUND
from thermionic.errors import DesignRefused


class TubeRectifier(Block):
    """A vacuum rectifier, full-wave on a centre-tapped winding, or half-wave with its anodes side by side on all of
    one. ``anode_resistor`` is in series with each anode, and in a hybrid so is ``silicon``, which takes the reverse
    voltage."""

    kind: Literal["tube-rectifier"] = "tube-rectifier"
    scope: Literal["channel", "shared"] = named("Belongs to", "shared")
    winding: WindingRef = named("Winding")
    tubes: tuple[Section] = named("Rectifier tube")
    form: Literal["full-wave", "half-wave"] = named("Form", "full-wave")
    anode_resistor: Resistor | None = named("Anode resistors", None, first=Resistor(ohm=47.0, rating_watt=5.0))
    silicon: RectifierDiode | None = named(
        "Silicon in series with the anodes", None, first=RectifierDiode(in_series=2)
    )

    title = "Vacuum rectifier"
    about = "A rectifier tube, full-wave on a centre-tapped winding or half-wave."
    group = Group.SUPPLY
    first = {"tubes": ["GZ34"]}
    suffixes = {"out": ""}

    @property
    def in_words(self) -> str:
        return f"{self.form}, {super().in_words}"

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.RAIL}

    def compile(self, bench: Bench) -> None:
        w = bench.winding("winding")
        if self.form == "half-wave":
            ends = 2 * [bench.swinging_end("winding", "", 1, whole=True)]
        elif w.centre_tapped:
            ends = [bench.swinging_end("winding", side, sign) for side, sign in (("a", 1), ("b", -1))]
        else:
            raise DesignRefused(
                f"{self.id}: a full-wave rectifier tube needs a centre-tapped winding; {w.block} has none. Make it "
                "half-wave."
            )
        anodes = [bench.through("anode_resistor", end, "anode", side) for end, side in zip(ends, "ab", strict=True)]
        if self.silicon:
            behind = [bench.node("behind_silicon", side) for side in "ab"]
            for anode, end, side in zip(anodes, behind, "ab", strict=True):
                bench.diode("silicon", anode, end, side=side)
            anodes = behind
        out = bench.node("out")
        name = bench.rectifying_tube(self.tubes[0], anodes[0], anodes[1], out)
        whole = self.form == "half-wave"
        emf = bench.winding_emf("winding", whole)
        far = bench.winding_end("winding", whole=True) if whole else emf
        silicon = bench.path("silicon") if self.silicon else ""
        envelope = self.tubes[0].partition(".")[0]
        filled = (out, GROUND)
        bench.say(Rectified(self.id, self.form, w.block, (name,), *filled, emf, filled, far, silicon, envelope))

    def sketch(self, pen: Sketch) -> None:
        middle, top, earth = SUPPLY_PART, SUPPLY_RAIL, SUPPLY_EARTH
        pen.start("winding", 0, middle)
        fitted = [name for name in ("anode_resistor", "silicon") if getattr(self, name)]
        x = 50 + 84 * len(fitted)
        for y, end, side in ((top - 10, x - 11, "a"), (earth + 14, x + 11, "b")):
            start = top + 6 if side == "a" else earth
            pen.wire((0, start), (14, start), (14, y))
            pen.side = side
            at = 14.0
            for name in fitted:
                at = pen.lying(name, at, y, 84, label=(0, 36 if side == "a" else -36, "middle"))
            pen.side = ""
            if side == "a":
                pen.wire((at, y), (end, y), (end, middle - 28))
            else:
                pen.wire((at, y), (x + 44, y), (x + 44, y - 96), (end, y - 96), (end, middle - 28))
        pen.wire((0, middle), (2, middle), (2, middle + 8))
        pen.earth(2, middle + 8)
        pen.mark(
            "",
            "rectifier-tube",
            (x, middle),
            size=(58, 58),
            label=(-6, 42, "middle"),
            says=Says(text=pen.types[self.tubes[0]], spoken="rectifier tube", designator=self.tubes[0]),
        )
        pen.wire((x, middle + 28), (x + 62, middle + 28), (x + 62, top), (x + 74, top))
        pen.end("out", x + 74, top)
        pen.width = x + 74
