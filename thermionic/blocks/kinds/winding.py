"""A secondary of the mains transformer."""

from typing import Annotated, Literal

from pydantic import Field

from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Winding
from thermionic.blocks.fields import Amperes, Ohms, Volts, named
from thermionic.blocks.ports import CoreRef, Flow
from thermionic.blocks.sketch import SUPPLY_EARTH, SUPPLY_PART, SUPPLY_RAIL, Says, Sketch
from thermionic.values import Quantity, display


class MainsWinding(Block):
    """A secondary winding. ``winding_volt`` is its open-circuit voltage, rms, with ``primary_volt`` on the primary,
    of each half if it is centre-tapped; ``winding_ohm`` its resistance (each half's), the primary's as seen from it
    included; ``rating_ampere`` what its copper (each half's) is made to carry, rms, None where that is not known.
    ``wound`` says whether it is one, or two alike of which these figures are each one's. On a ``transformer`` of
    which several windings are given, its voltage is with that one's tap in use on its voltage, and its resistance
    its own copper's alone."""

    kind: Literal["winding"] = "winding"
    scope: Literal["channel", "shared"] = named("Belongs to", "shared")
    primary_volt: Annotated[Volts, Field(gt=0)] = named("Primary rated for", 230.0)
    winding_volt: Annotated[Volts, Field(gt=0)] = named("Winding, open circuit, rms")
    winding_ohm: Ohms = named("Winding resistance")
    wound: Literal["one winding", "two in series", "two in parallel"] = named("It is", "one winding")
    centre_tapped: bool = named("Centre-tapped", False)
    rating_ampere: Annotated[Amperes, Field(gt=0)] | None = named("Rated current, rms", None)
    transformer: CoreRef | None = named("Of the transformer", None)

    title = "Mains transformer winding"
    about = "One secondary of the mains transformer, with a centre tap if wanted."
    group = Group.SUPPLY
    first = {"winding_volt": 250.0, "winding_ohm": 60.0}

    @property
    def open_volt(self) -> float:
        """Of the one or two together, each half's if it is centre-tapped, V rms."""
        return self.winding_volt * (2.0 if self.wound == "two in series" else 1.0)

    @property
    def in_words(self) -> str:
        return display(self.winding_volt, Quantity.VOLTAGE)

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.WINDING}

    def complaint(self, takers: list[Block]) -> str:
        if not any(getattr(taker, "form", "") in ("bridge", "doubler") for taker in takers):
            return ""
        negative = [taker.id for taker in takers if Flow.BIAS in taker.ports().values()]
        positive = [taker.id for taker in takers if Flow.RAIL in taker.ports().values()]
        if not (negative and positive):
            return ""
        return (
            f"{self.id} feeds {positive[0]} and {negative[0]}, one with its positive and one with its negative end "
            "at earth; with a bridge or a doubler among them that is a short of the winding. Give one of them a "
            "winding of its own."
        )

    def compile(self, bench: Bench) -> None:
        volt, hertz = bench.mains
        core = bench.core("transformer") if self.transformer else None
        primary, volt = (core.tap_volt, core.mains_volt) if core else (self.primary_volt, volt)
        ohm = self.winding_ohm * {"two in series": 2.0, "two in parallel": 0.5}.get(self.wound, 1.0)
        rating = self.rating_ampere and self.rating_ampere * (2.0 if self.wound == "two in parallel" else 1.0)
        bench.offer_winding(
            Winding(self.id, self.open_volt * volt / primary, ohm, primary, hertz, self.centre_tapped, core, rating)
        )

    def sketch(self, pen: Sketch) -> None:
        text = display(self.winding_volt, Quantity.VOLTAGE)
        if self.centre_tapped:
            half = text.removesuffix(" V")
            text = f"{half}-0-{half} V"
        if self.wound != "one winding":
            text = f"2×{text} {self.wound.removeprefix('two ')}"
        if self.transformer:
            pen.start("transformer", 0, SUPPLY_PART)
            pen.wire((0, SUPPLY_PART), (18, SUPPLY_PART))
        pen.mark(
            "",
            "winding",
            (44, SUPPLY_PART),
            size=(52, 70),
            label=(-42, 62, "start"),
            says=Says(text=text, main=f"blocks/{self.id}/winding_volt", spoken="mains winding", designator="T"),
        )
        for sign, y in ((-1, SUPPLY_RAIL + 6), (1, SUPPLY_EARTH)):
            pen.wire((62, SUPPLY_PART + 33 * sign), (62, y), (76, y))
        if self.centre_tapped:
            pen.wire((62, SUPPLY_PART), (76, SUPPLY_PART))
        pen.end("out", 76, SUPPLY_PART)
        pen.width = 76
