"""The mains transformer: its primary, which all of its windings share."""

from typing import Annotated, Literal

from pydantic import Field, model_validator

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Core
from thermionic.blocks.fields import Ohms, Volts, named
from thermionic.blocks.ports import Flow, MainsRef
from thermionic.blocks.sketch import SUPPLY_EARTH, SUPPLY_PART, SUPPLY_RAIL, Says, Sketch
from thermionic.values import Quantity, display


class MainsTransformer(Block):
    """A primary with taps, of which ``tap_volt`` is in use; ``primary_ohm`` is the copper up to the highest.

    ``bucking_volt`` is a winding of another transformer in series that takes so much off the mains (adds to it, if it
    is negative). Leakage and magnetising current are not computed: its no-load current is not in any figure, nor the
    surge of a core that is switched on at the wrong moment.
    """

    kind: Literal["mains-transformer"] = "mains-transformer"
    scope: Literal["channel", "shared"] = named("Belongs to", "shared")
    mains: MainsRef = named("Mains")
    taps_volt: Annotated[tuple[Annotated[float, Field(gt=0, le=1000)], ...], Field(min_length=1, max_length=8)] = (
        named("Primary taps, V", (230.0,))
    )
    tap_volt: Annotated[Volts, Field(gt=0)] = named("Tap in use", 230.0)
    primary_ohm: Ohms = named("Primary copper")
    rating_va: Annotated[float, Field(gt=0, le=10_000)] | None = named("Rating, VA", None)
    bucking_volt: Volts = named("Bucking winding takes off", 0.0)

    title = "Mains transformer"
    about = "A primary with taps, whose copper all of its windings share."
    group = Group.SUPPLY
    first = {"primary_ohm": 8.0, "taps_volt": [220.0, 230.0, 240.0]}

    @model_validator(mode="after")
    def _has_its_tap(self) -> "MainsTransformer":
        if self.tap_volt not in self.taps_volt:
            taps = ", ".join(f"{tap:g} V" for tap in self.taps_volt)
            raise ValueError(f"{self.id} has taps for {taps}; {self.tap_volt:g} V is none of them.")
        return self

    @property
    def in_words(self) -> str:
        return display(self.tap_volt, Quantity.VOLTAGE)

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.CORE}

    def compile(self, bench: Bench) -> None:
        volt, hertz = bench.mains
        at = bench.take("mains")
        if self.bucking_volt:
            less = bench.node("bucked")
            bench.loose("VB", devices.MainsSource(self.bucking_volt * 2**0.5, hertz, folded=True), at, less)
            at = less
        node = bench.node("out")
        part = bench.add("RP", devices.Resistor(max(self.copper_ohm, 1e-3)), at, node)
        behind = volt - self.bucking_volt
        bench.offer_core(Core(self.id, node, self.tap_volt, behind, part, self.rating_va, self.taps_volt))

    @property
    def copper_ohm(self) -> float:
        """The copper of the primary up to the tap in use, Ω: in proportion to its turns."""
        return self.primary_ohm * self.tap_volt / max(self.taps_volt)

    def sketch(self, pen: Sketch) -> None:
        pen.start("mains", 0, SUPPLY_PART)
        for sign, y in ((-1, SUPPLY_RAIL + 6), (1, SUPPLY_EARTH)):
            pen.wire((0, SUPPLY_PART + 6 * sign), (10, SUPPLY_PART + 6 * sign), (10, y), (26, y))
            pen.wire((26, y), (26, SUPPLY_PART + 33 * sign))
        pen.mark(
            "",
            "winding",
            (44, SUPPLY_PART),
            size=(52, 70),
            label=(-42, 62, "start"),
            says=Says(
                text=f"{display(self.tap_volt, Quantity.VOLTAGE)} tap",
                main=f"blocks/{self.id}/tap_volt",
                spoken="mains transformer",
            ),
        )
        pen.wire((62, SUPPLY_PART), (80, SUPPLY_PART))
        pen.end("out", 80, SUPPLY_PART)
        pen.width = 80
