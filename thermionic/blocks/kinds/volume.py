"""The volume control."""

from typing import Annotated, Literal

from pydantic import Field

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.fields import Fraction, Ohms, Resistor, named
from thermionic.blocks.ports import Flow, SignalRef
from thermionic.blocks.sketch import ANODE, EARTH, SIGNAL, Says, Sketch
from thermionic.circuit.netlist import GROUND
from thermionic.values import Quantity, written


class Volume(Block):
    """A volume potentiometer. ``travel`` is how far it is turned up; a ``log`` track has a tenth of its resistance
    below the wiper half way, by the usual law r = (81^t - 1) / 80."""

    kind: Literal["volume"] = "volume"
    input: SignalRef = named("Input")
    track_ohm: Ohms = named("Track")
    travel: Fraction = named("Position (0 to 1)", 1.0)
    law: Literal["linear", "log"] = named("Law", "linear")
    foot: Resistor | None = named("End resistor at its foot", None, first=Resistor(ohm=1e3))
    tolerance: Annotated[float, Field(ge=0.0, le=0.9)] = named("Tolerance (fraction)", 0.2)

    title = "Volume control"
    about = "A potentiometer, linear or log, with an end resistor at its foot if wanted."
    group = Group.CONTROL
    first = {"track_ohm": 100e3}
    suffixes = {"out": ""}

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.SIGNAL, **({"foot": Flow.PLACE} if self.foot else {})}

    @property
    def share(self) -> float:
        """The fraction of the track below the wiper."""
        return self.travel if self.law == "linear" else (81.0**self.travel - 1) / 80

    def full_up(self) -> dict[str, float]:
        """What is to be set for no attenuation."""
        return {"travel": 1.0}

    def compile(self, bench: Bench) -> None:
        below = bench.node("foot") if self.foot else GROUND
        device = devices.Potentiometer(self.track_ohm, self.share)
        bench.add("RV", device, bench.take("input"), bench.node("out"), below)
        bench.fit("foot", below, GROUND)

    def sketch(self, pen: Sketch) -> None:
        at = 32
        pen.start("input", 6, SIGNAL)
        pen.wire((6, SIGNAL), (6, ANODE + 6), (at, ANODE + 6), (at, SIGNAL - 22))
        text = f"{written(self.track_ohm, Quantity.RESISTANCE)} {self.travel:.0%}"
        pen.mark(
            "",
            "potentiometer",
            (at, SIGNAL),
            size=(44, 52),
            label=(10, 42, "start"),
            says=Says(text=text, main=f"blocks/{self.id}/track_ohm", spoken="volume control"),
        )
        if self.foot:
            pen.upright("foot", at, SIGNAL + 22, EARTH - 32, EARTH)
            if pen.is_tapped("foot"):
                pen.place("foot", 2, EARTH - 62)
                pen.wire((at, EARTH - 62), (2, EARTH - 62))
        else:
            pen.wire((at, SIGNAL + 22), (at, EARTH))
        pen.earth(at, EARTH)
        pen.wire((at + 26, SIGNAL), (104, SIGNAL))
        pen.end("out", 104, SIGNAL)
        pen.width = 104
