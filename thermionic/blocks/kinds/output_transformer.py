"""The output transformer, single-ended or push-pull, with screen taps and secondary taps."""

from typing import Annotated, Literal

from pydantic import Field, model_validator

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import TransformerUse
from thermionic.blocks.fields import Capacitor, CoreRating, Farads, Henries, Ohms, Tap, named
from thermionic.blocks.ports import Flow, RailRef, SignalOrPairRef
from thermionic.blocks.sketch import ANODE, AXIS, RAIL, Says, Sketch
from thermionic.circuit.netlist import GROUND
from thermionic.values import Quantity, written


class OutputTransformer(Block):
    """An output transformer. ``primary_ohm`` is the load that the primary shows (anode to anode for a pair) when a
    tap has the load that it is called by. All leakage is put on the primary. ``screen_tap`` is where the screens'
    taps are, as a fraction of the primary's turns from the HT to the anode. ``cathode_share`` is a winding for each
    tube's cathode, in turns of the primary (of each half), which feeds back; its copper is that of as many turns.
    ``hum_share`` is how far the primary goes on past where the HT comes in, in its turns: what else hangs on its end
    draws its ripple through there, against that of the output tube.
    Without a ``core`` rating the core is taken never to saturate.
    """

    kind: Literal["output-transformer"] = "output-transformer"
    input: SignalOrPairRef = named("Input")
    feed: RailRef | None = named("Fed from", None)
    coupling: Capacitor | None = named(
        "Capacitor before the primary", None, first=Capacitor(farad=10e-6, rating_volt=630.0)
    )
    push_pull: bool = named("Push-pull, with a centre tap", False)
    primary_ohm: Ohms = named("Primary load")
    primary_henry: Henries = named("Primary inductance")
    leakage_henry: Henries = named("Leakage inductance")
    primary_copper_ohm: Ohms = named("Primary copper")
    screen_tap: Annotated[float, Field(gt=0.0, lt=1.0)] | None = named("Screen taps at (0 to 1)", None, first=0.43)
    cathode_share: Annotated[float, Field(gt=0.0, lt=1.0)] | None = named(
        "Cathode winding, of each half's turns", None, first=0.1
    )
    hum_share: Annotated[float, Field(gt=0.0, le=0.5)] | None = named(
        "Hum-bucking turns past the HT, of the primary's", None, first=0.06
    )
    primary_farad: Farads | None = named("Primary's capacitance", None, first=500e-12)
    core: CoreRating | None = named("Core's rating", None, first=CoreRating(watt=10.0, hertz=40.0))
    secondary_reversed: bool = named("Secondary turned round", False)
    taps: Annotated[tuple[Tap, ...], Field(min_length=1, max_length=6)] = named("Secondary taps")

    title = "Output transformer"
    about = "Single-ended or push-pull, with screen taps and any secondary taps."
    group = Group.TRANSFORMER
    first = {
        "primary_ohm": 5e3,
        "primary_henry": 20.0,
        "leakage_henry": 0.015,
        "primary_copper_ohm": 200.0,
        "taps": [{"id": "4", "copper_ohm": 0.25}, {"id": "8", "copper_ohm": 0.35}],
    }

    @model_validator(mode="after")
    def _taps_rise(self) -> "OutputTransformer":
        loads = [tap.ohm for tap in self.taps]
        if min(loads) <= 0 or sorted(set(loads)) != loads:
            raise ValueError(f"{self.id}: the secondary taps rise in impedance, each above zero and named once.")
        return self

    @model_validator(mode="after")
    def _one_way(self) -> "OutputTransformer":
        if self.coupling and self.feed:
            raise ValueError(
                f"{self.id}: behind a capacitor the primary's other end is on earth; take out the capacitor "
                "or the feed."
            )
        return self

    @model_validator(mode="after")
    def _bucked(self) -> "OutputTransformer":
        if self.hum_share and (self.push_pull or not self.feed):
            raise ValueError(
                f"{self.id}: hum is bucked in the primary of a single-ended stage that is fed through it; a pair's "
                "halves do that by themselves."
            )
        return self

    def ports(self) -> dict[str, Flow]:
        result = {tap.id: Flow.SIGNAL for tap in self.taps}
        result |= {"ul": Flow.PLACE} if self.screen_tap else {}
        result |= {"cathode": Flow.PLACE} if self.cathode_share else {}
        return result | ({"bucked": Flow.BUCKED} if self.hum_share else {})

    def sided(self, port: str) -> bool:
        return port in ("ul", "cathode") and self.push_pull

    def node(self, port: str, side: str = "") -> str:
        return super().node(
            port if port in ("ul", "cathode") else f"tap_{port}" if port[:1].isdigit() else port, side
        )

    def compile(self, bench: Bench) -> None:
        feed = bench.take("feed") if self.feed else GROUND
        turns = (self.primary_ohm / self.taps[0].ohm) ** 0.5
        windings: list[devices.Winding] = []
        nodes: list[str] = []
        halves: dict[str, list[int]] = {"a": [], "b": []}
        sides = ("a", "b") if self.push_pull else ("",)
        whole = 1.0 / len(sides)
        for side in sides:
            # From the HT to the anode; side b the other way about, so that the halves aid from anode to anode.
            reach = [(self.screen_tap, bench.node("ul", side))] if self.screen_tap and bench.used("ul") else []
            at, below = feed, 0.0
            for share, node in [*reach, (1.0, self._end(bench, side))]:
                part = (share - below) * whole
                winding = devices.Winding(part, self.primary_copper_ohm * part, self.leakage_henry * part)
                halves[side or "a"].append(len(windings))
                windings.append(winding)
                nodes += [node, at] if side == "b" else [at, node]
                at, below = node, share
            if self.cathode_share and bench.used("cathode"):
                # Against the anode, so that it takes away from what the grid is given.
                part, node = self.cathode_share * whole, bench.node("cathode", side)
                windings.append(devices.Winding(part, self.primary_copper_ohm * part))
                nodes += [GROUND, node] if side == "b" else [node, GROUND]
        if self.hum_share and bench.used("bucked"):
            windings.append(devices.Winding(self.hum_share, self.primary_copper_ohm * self.hum_share))
            nodes += [bench.node("bucked"), feed]
        before, copper, ratio = GROUND, 0.0, 0.0
        for tap in [tap for tap in self.taps if bench.used(tap.id)] or self.taps[:1]:
            of_tap = (tap.ohm / self.taps[0].ohm) ** 0.5 / turns
            windings.append(devices.Winding(of_tap - ratio, max(tap.copper_ohm - copper, 1e-4)))
            nodes += [before, bench.node(tap.id)] if self.secondary_reversed else [bench.node(tap.id), before]
            before, copper, ratio = bench.node(tap.id), tap.copper_ohm, of_tap
        first = windings[0].turns
        core = self._core(float(first))
        # The capacitance across the whole primary, as it is seen across its first section.
        stray = ((0, 1, self.primary_farad / float(first) ** 2),) if self.primary_farad else ()
        name = bench.add("T", devices.Transformer(tuple(windings), core, stray), *nodes)
        taps = {tap.id: tap.ohm for tap in self.taps}
        bench.offer_taps(taps)
        bench.say(
            TransformerUse(
                self.id, name, self.primary_ohm, taps, self.primary_henry, self.leakage_henry,
                self.primary_copper_ohm, (tuple(halves["a"]), tuple(halves["b"])), self.primary_farad, self.core,
                {tap.id: tap.copper_ohm for tap in self.taps},
                tuple(port for port in self.ports() if not bench.used(port)), self.secondary_reversed, self.hum_share,
            )
        )  # fmt: skip

    def _core(self, share: float) -> devices.Core:
        """The core as a winding of so much of the primary's turns sees it; without a rating it never saturates."""
        if not self.core:
            return devices.Core(self.primary_henry * share**2)
        whole = self.core.core(self.primary_henry, self.primary_ohm)
        assert whole.knee_weber is not None
        return devices.Core(whole.henry * share**2, whole.knee_weber * share)

    def _end(self, bench: Bench, side: str) -> str:
        """The anode's end of the primary, behind a capacitor if the transformer is fed in parallel."""
        return bench.through("coupling", bench.take("input", side), "primary", side)

    def sketch(self, pen: Sketch) -> None:
        text = f"{written(self.primary_ohm, Quantity.RESISTANCE)} : {'/'.join(tap.id for tap in self.taps)}"
        if self.push_pull:
            self._sketch_pair(pen, text)
            return
        at, middle = 20.0, (RAIL + 16 + ANODE) / 2
        pen.start("input", 0, ANODE)
        if self.coupling:
            at = pen.lying("coupling", 0, ANODE, 70, label=(0, 32, "middle"))
        pen.wire((0 if not self.coupling else at, ANODE), (at, ANODE), (at, middle + 33))
        pen.wire((at, RAIL), (at, middle - 33))
        if self.feed:
            pen.rail("feed", at, RAIL)
            if self.hum_share:
                pen.wire((at, middle - 33), (at - 18, middle - 33), (at - 18, RAIL + 2))
                pen.place("bucked", at - 18, RAIL + 2, up=True)
        else:
            pen.wire((at, RAIL), (at - 16, RAIL), (at - 16, RAIL + 4))
            pen.earth(at - 16, RAIL + 4)
        pen.mark(
            "",
            "transformer",
            (at + 20, middle),
            size=(58, 74),
            label=(-24, 66, "start"),
            says=Says(text=text, main=f"blocks/{self.id}/primary_ohm"),
        )
        self._secondary(pen, at + 40, middle)

    def _sketch_pair(self, pen: Sketch, text: str) -> None:
        at = 94 if self.coupling else 24
        for side in ("a", "b"):
            with pen.half(side):
                pen.start("input", 0, ANODE)
                x = pen.lying("coupling", 0, ANODE, 70, label=(0, 32, "middle"))
                pen.wire((x, ANODE), (at, ANODE), (at, AXIS - 33))
        pen.wire((at - 18, AXIS), (at, AXIS))
        pen.wire((at - 18, AXIS - 60), (at - 18, AXIS))
        if self.feed:
            pen.rail("feed", at - 18, AXIS - 60, "end")
        pen.mark(
            "",
            "transformer",
            (at + 20, AXIS),
            size=(58, 74),
            label=(10, -92, "start"),
            says=Says(text=text, main=f"blocks/{self.id}/primary_ohm"),
        )
        self._secondary(pen, at + 40, AXIS)

    def _secondary(self, pen: Sketch, x: float, middle: float) -> None:
        end = x + 48
        pen.wire((x, middle - 33), (x, middle - 40), (end, middle - 40))
        pen.wire((x, middle + 33), (x, middle + 40), (end, middle + 40))
        for tap in self.taps:
            pen.end(tap.id, end, middle)
            if pen.is_tapped(tap.id):
                pen.dot(end - 3, middle - 40)
                pen.place(tap.id, end - 3, middle - 40, up=True)
        pen.width = end
