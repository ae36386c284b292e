"""Silicon rectifiers: a bridge, or two diodes on a centre-tapped winding."""

from typing import Literal

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.fields import named
from thermionic.blocks.ports import Flow, WindingRef
from thermionic.blocks.sketch import SUPPLY_EARTH, SUPPLY_PART, SUPPLY_RAIL, Sketch
from thermionic.circuit.netlist import GROUND
from thermionic.errors import DesignRefused


class SiliconRectifier(Block):
    """A bridge of four silicon diodes, or two on a centre-tapped winding.

    Solved as one source that follows the rectified sine behind the winding's resistance and the drop of the diodes
    that conduct: two in a bridge; one with a centre tap, which halving the emission of both gives exactly.
    """

    kind: Literal["silicon-rectifier"] = "silicon-rectifier"
    scope: Literal["channel", "shared"] = named("Belongs to", "shared")
    winding: WindingRef = named("Winding")
    form: Literal["bridge", "full-wave"] = named("Form", "bridge")

    title = "Silicon rectifier"
    about = "A bridge, or two diodes on a centre-tapped winding."
    group = Group.SUPPLY
    suffixes = {"out": ""}

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.RAIL}

    def compile(self, bench: Bench) -> None:
        w = bench.winding("winding")
        if self.form == "full-wave" and not w.centre_tapped:
            raise DesignRefused(
                f"{self.id}: two diodes need a centre-tapped winding; {w.block} has none. Use a bridge."
            )
        volt, ohm = (2 * w.volt, 2 * w.ohm) if w.centre_tapped and self.form == "bridge" else (w.volt, w.ohm)
        diode = devices.Diode() if self.form == "bridge" else devices.Diode(emission=devices.Diode().emission / 2)
        device = devices.RectifiedWinding(volt * 2**0.5, ohm, w.hertz, diode)
        bench.rectifier(device, bench.node("out"), GROUND, winding=w.block)

    def sketch(self, pen: Sketch) -> None:
        middle, top, earth = SUPPLY_PART, SUPPLY_RAIL, SUPPLY_EARTH
        pen.start("winding", 0, middle)
        pen.wire((0, top + 6), (40, top + 6), (40, middle - 26))
        pen.wire((0, earth), (40, earth), (40, middle + 26))
        pen.mark(
            "",
            "bridge" if self.form == "bridge" else "two-diodes",
            40,
            middle,
            size=(52, 52),
            spoken=self.title,
            label=(20, 34, "start"),
            designator=" ",
            text="",
        )
        pen.wire((14, middle), (6, middle), (6, earth + 18))
        pen.earth(6, earth + 18)
        pen.wire((66, middle), (80, middle), (80, top), (96, top))
        pen.end("out", 96, top)
        pen.width = 96
