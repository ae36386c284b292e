"""Interstage and splitting transformers."""

from typing import Annotated, Literal

from pydantic import Field, model_validator

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import TransformerUse
from thermionic.blocks.fields import Capacitor, Henries, Ohms, Resistor, named
from thermionic.blocks.ports import BiasRef, Flow, RailRef, SignalRef
from thermionic.blocks.sketch import ANODE, AXIS, SIGNAL, Says, Sketch
from thermionic.circuit.netlist import GROUND


class InterstageTransformer(Block):
    """A primary and one secondary, or a secondary split in two for a pair. ``ratio`` is secondary turns (each half's)
    over primary turns. Without a feed it hangs behind ``coupling`` with its other end on earth. The secondary's
    far end, or its middle, returns to earth or to ``bias``; ``damping`` is across it, or across each half."""

    kind: Literal["interstage-transformer"] = "interstage-transformer"
    input: SignalRef = named("Input")
    feed: RailRef | None = named("Fed from", None)
    coupling: Capacitor | None = named(
        "Capacitor before the primary", None, first=Capacitor(farad=470e-9, rating_volt=630.0)
    )
    split: bool = named("Secondary split in two", False)
    ratio: Annotated[float, Field(gt=0.01, le=100.0)] = named("Turns, secondary over primary", 1.0)
    primary_henry: Henries = named("Primary inductance", 50.0)
    leakage_henry: Henries = named("Leakage inductance", 0.05)
    primary_copper_ohm: Ohms = named("Primary copper", 500.0)
    secondary_copper_ohm: Ohms = named("Secondary copper, each half", 600.0)
    damping: Resistor | None = named("Damping resistor", None, first=Resistor(ohm=100e3))
    bias: BiasRef | None = named("Secondary returns to", None)

    title = "Interstage transformer"
    about = "From an anode to a grid, or split to a pair; fed through, or in parallel behind a capacitor."
    group = Group.TRANSFORMER

    @model_validator(mode="after")
    def _one_way(self) -> "InterstageTransformer":
        if self.coupling and self.feed:
            raise ValueError(
                f"{self.id}: behind a capacitor the primary's other end is on earth; take out the capacitor "
                "or the feed."
            )
        return self

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.PAIR if self.split else Flow.SIGNAL}

    def compile(self, bench: Bench) -> None:
        top = bench.through("coupling", bench.take("input"), "primary")
        far = bench.take("feed") if self.feed else GROUND
        back = bench.take("bias") if self.bias else GROUND
        windings = [devices.Winding(1.0, self.primary_copper_ohm, self.leakage_henry)]
        nodes = [top, far]
        for side in ("a", "b") if self.split else ("",):
            out = bench.node("out", side)
            windings.append(devices.Winding(self.ratio, self.secondary_copper_ohm))
            nodes += [back, out] if side == "b" else [out, back]
            bench.fit("damping", out, back, side)
        core = devices.Core(self.primary_henry)
        name = bench.add("T", devices.Transformer(tuple(windings), core), *nodes)
        bench.say(
            TransformerUse(
                self.id, name, 0.0, {}, self.primary_henry, self.leakage_henry, self.primary_copper_ohm, ((0,), ())
            )
        )

    def sketch(self, pen: Sketch) -> None:
        middle = AXIS if self.split else SIGNAL + 10
        pen.start("input", 0, ANODE)
        at = pen.lying("coupling", 0, ANODE, 70, label=(0, 32, "middle")) or 20.0
        pen.wire((0 if not self.coupling else at, ANODE), (at, ANODE), (at, middle - 33))
        if self.feed:
            pen.wire((at, middle + 33), (at, middle + 50), (at - 14, middle + 50), (at - 14, middle + 40))
            pen.rail("feed", at - 14, middle + 40, "end")
        else:
            pen.wire((at, middle + 33), (at, middle + 44))
            pen.earth(at, middle + 44)
        pen.mark(
            "",
            "transformer-split" if self.split else "transformer",
            (at + 20, middle),
            size=(58, 74),
            label=(2, 84, "start"),
            says=Says(text=f"1 : {self.ratio:g}", main=f"blocks/{self.id}/ratio"),
        )
        x, end = at + 40, at + (140 if self.damping else 80)
        if self.split:
            for side in ("a", "b"):
                with pen.half(side):
                    pen.wire((x, AXIS - 33), (x, ANODE), (end, ANODE))
                    pen.end("out", end, ANODE)
                    if self.damping:
                        pen.dot(x + 50, ANODE)
                        pen.upright("damping", x + 50, ANODE, ANODE + 80, ANODE + 120)
                        pen.wire((x + 50, ANODE + 120), (x + 50, AXIS))
            pen.wire((x, middle), (x + 50, middle))
            low = (x + 24, middle)
        else:
            pen.wire((x, middle - 33), (x, ANODE), (end, ANODE))
            pen.end("out", end, ANODE)
            pen.wire((x, middle + 33), (x, middle + 40))
            if self.damping:
                pen.dot(x + 50, ANODE)
                pen.upright("damping", x + 50, ANODE, middle, middle + 40)
                pen.wire((x + 50, middle + 40), (x, middle + 40))
            low = (x, middle + 40)
        if self.bias:
            pen.flag("bias", low[0] - 4, low[1] + 14, above=False)
            pen.wire(low, (low[0], low[1] + 14))
        else:
            pen.wire(low, (low[0], low[1] + 8))
            pen.earth(low[0], low[1] + 8)
        pen.width = end
