"""What a common-cathode tube has around it, single or as half of a pair: compiled and drawn in one place."""

from __future__ import annotations

from collections.abc import Callable

from pydantic import model_validator

from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Bias
from thermionic.blocks.fields import Capacitor, Choke, CurrentSourcePart, FilamentSupply, Led, Resistor, named
from thermionic.blocks.placing import Electrodes, Position, Setting
from thermionic.blocks.ports import BiasRef, Flow, RailRef, ScreenRef, TapRef
from thermionic.blocks.sketch import ANODE, BIAS, CATHODE, EARTH, LOAD, RAIL, SIGNAL, Says, Sketch
from thermionic.circuit.netlist import GROUND
from thermionic.tubes import TubeType

BYPASS = Capacitor(farad=100e-6, rating_volt=100.0)
COUPLING = Capacitor(farad=220e-9, rating_volt=630.0, tolerance=0.1)


class CathodeStage(Block):
    """The parts of a common-cathode stage. With no ``anode_load``, ``anode_choke`` or ``anode_source`` the anode
    hangs on a transformer that takes this stage for its input. A pentode without a ``screen`` is strapped as a
    triode."""

    coupling: Capacitor | None = named("Coupling capacitor", None, first=COUPLING)
    grid_leak: Resistor | None = named("Grid leak", None, first=Resistor(ohm=220e3))
    grid_choke: Choke | None = named(
        "Grid choke", None, first=Choke(henry=500.0, copper_ohm=5000.0, rating_ampere=5e-3)
    )
    bias: BiasRef | None = named("Grid leak or choke returns to", None)
    grid_stopper: Resistor | None = named("Grid stopper", None, first=Resistor(ohm=1e3))
    cathode_resistor: Resistor | None = named("Cathode resistor", None, first=Resistor(ohm=1e3, rating_watt=1.0))
    cathode_bypass: Capacitor | None = named("Cathode bypass", None, first=BYPASS)
    cathode_led: Led | None = named("Cathode LED", None, first=Led())
    cathode_return: TapRef | None = named("Cathode returns to", None)
    filament: FilamentSupply | None = named("Filament supply", None, first=FilamentSupply())
    screen: ScreenRef | None = named("Screen from", None)
    screen_resistor: Resistor | None = named("Screen resistor", None, first=Resistor(ohm=1e3, rating_watt=1.0))
    screen_bypass: Capacitor | None = named(
        "Screen bypass", None, first=Capacitor(farad=100e-9, rating_volt=400.0, tolerance=0.1)
    )
    anode_load: Resistor | None = named("Anode load", None, first=Resistor(ohm=100e3, rating_watt=2.0))
    anode_choke: Choke | None = named(
        "Anode choke", None, first=Choke(henry=100.0, copper_ohm=3000.0, rating_ampere=0.02)
    )
    anode_source: CurrentSourcePart | None = named("Anode current source", None, first=CurrentSourcePart(ampere=5e-3))
    feed: RailRef | None = named("Fed from", None)

    suffixes = {"out": "anode"}

    @model_validator(mode="after")
    def _hangs_together(self) -> CathodeStage:
        if self.coupling and not (self.grid_leak or self.grid_choke):
            raise ValueError(
                f"{self.id}: a grid behind a coupling capacitor needs a grid leak or choke, or nothing holds it."
            )
        if self.grid_leak and self.grid_choke:
            raise ValueError(f"{self.id}: a grid choke takes the place of the grid leak; take one of them out.")
        loads = [name for name in ("anode_load", "anode_choke", "anode_source") if getattr(self, name)]
        if len(loads) > 1:
            raise ValueError(f"{self.id}: an anode has one load; take out the {' or the '.join(self._words(loads))}.")
        if loads and not self.feed:
            raise ValueError(
                f"{self.id}: its {self._words(loads)[0]} needs a rail to hang on: say what it is fed from."
            )
        if self.feed and not loads:
            raise ValueError(
                f"{self.id} is fed from a rail but has no anode load; a transformer brings its own feed."
            )
        if self.cathode_led and self.cathode_resistor:
            raise ValueError(f"{self.id}: a cathode has a resistor or an LED; take one of them out.")
        if self.cathode_bypass and not (self.cathode_resistor or self.cathode_led):
            raise ValueError(f"{self.id}: a cathode bypass needs a cathode resistor or an LED to go across.")
        if self.screen_bypass and not self.screen:
            raise ValueError(f"{self.id}: a screen bypass needs a screen that is fed: say what the screen is from.")
        return self

    def _words(self, names: list[str]) -> list[str]:
        return [str(type(self).model_fields[name].title).lower() for name in names]

    @property
    def loaded(self) -> str:
        """The field of its anode's load; "" if the anode goes to a transformer."""
        return next((name for name in ("anode_load", "anode_choke", "anode_source") if getattr(self, name)), "")

    @property
    def has_cathode(self) -> bool:
        """Whether there is anything between cathode and earth."""
        return bool(self.cathode_resistor or self.cathode_led)

    def complaint(self, takers: list[Block]) -> str:
        if self.loaded or any(taker.group is Group.TRANSFORMER for taker in takers):
            return ""
        return f"{self.id}: its anode hangs on nothing; give it an anode load, or a transformer behind it."

    def unfit(self, tube_of: Callable[[str], TubeType]) -> str:
        if not self.filament:
            return ""
        types = [tube_of(section.partition(".")[0]) for section in self.sections]
        other = next((one.type for one in types if one.heater is None or not one.heater.filament), None)
        if other is None:
            return ""
        return (
            f"{self.id}: the {other} has a cathode of its own; take out the filament supply, or choose a directly "
            "heated tube."
        )

    def places(self, ends: tuple[str, ...] = ("",)) -> dict[str, Flow]:
        """Where feedback and extra parts may touch it."""
        names = [
            "anode",
            *(["in"] if self.coupling else []),
            *(["cathode"] if self.has_cathode else []),
            *(["screen"] if self.screen else []),
        ]
        return {f"{name}{end}": Flow.PLACE for name in names for end in ends}

    def _bias(self) -> Bias:
        if self.bias:
            return Bias.FIXED
        return Bias.CATHODE if self.has_cathode else Bias.LEAK

    def half(
        self, bench: Bench, sections: tuple[str, ...], side: str = "", scale: float = 1.0, bias: str = "bias"
    ) -> None:
        """Compile one tube position with all that is around it but the cathode's own parts."""
        source = bench.take("input", side)
        at = bench.through("coupling", source, "in", side)
        held = bench.take(bias) if getattr(self, bias) else GROUND
        bench.fit("grid_leak", at, held, side)
        bench.fit("grid_choke", at, held, side)
        cathode = bench.node("cathode", side) if self.has_cathode else self.foot(bench, side)
        anode = bench.node("anode", side)
        screen = ""
        if self.screen:
            screen = bench.through("screen_resistor", bench.take("screen", side), "screen", side)
        elif self.screen_resistor:
            screen = bench.through("screen_resistor", anode, "screen", side)
        knob = bench.knob(bias) if getattr(self, bias) else "cathode_resistor/ohm" if self.cathode_resistor else ""
        emitter = bench.filament("filament", sections, cathode, side)
        bench.tubes(
            sections,
            Electrodes(anode=anode, grid=at, cathode=emitter, screen=screen),
            source=source,
            setting=Setting(self._bias(), knob),
            leak="grid_leak" if self.grid_leak else "",
            position=Position(side=side, scale=scale),
        )
        self.cathode_parts(bench, cathode, side)
        bench.fit("screen_bypass", screen, GROUND, side) if screen else None
        if self.loaded:
            rail = bench.take("feed")
            bench.fit("anode_load", rail, anode, side)
            bench.fit("anode_choke", rail, anode, side)
            bench.current_load("anode_source", rail, anode, side)

    def cathode_parts(self, bench: Bench, cathode: str, side: str) -> None:
        """The parts between the cathode and earth."""
        foot = self.foot(bench, side)
        bench.fit("cathode_resistor", cathode, foot, side)
        bench.fit("cathode_led", cathode, foot, side)
        bench.fit("cathode_bypass", cathode, foot, side)

    def foot(self, bench: Bench, side: str = "") -> str:
        """Where the cathode's circuit returns to: earth, or a winding in the cathode."""
        return bench.take("cathode_return", side) if self.cathode_return else GROUND

    # The drawing.

    def draw_grid(self, pen: Sketch, bias: str = "bias") -> float:
        """The input up to the tube. Returns the tube's x."""
        pen.start("input", 0, SIGNAL)
        if self.coupling:
            at = pen.lying("coupling", 0, SIGNAL, 58)
        else:
            at = 14.0
            pen.wire((0, SIGNAL), (at, SIGNAL))
        if self.grid_leak or self.grid_choke:
            pen.dot(at, SIGNAL)
            pen.upright("grid_leak" if self.grid_leak else "grid_choke", at, SIGNAL, BIAS, EARTH)
            if getattr(self, bias):
                pen.flag(bias, at - 8, EARTH, above=False)
            else:
                pen.earth(at, EARTH)
        after = pen.lying("grid_stopper", at, SIGNAL, 80, label=(-4, -31, "middle"))
        if after == at:
            after = at + 70
            pen.wire((at, SIGNAL), (after, SIGNAL))
        return after + 32

    def draw_filament(self, pen: Sketch, tube: float) -> float:
        """The filament's balance, under the tube. Returns the y where the cathode's own parts begin."""
        if not self.filament:
            return SIGNAL + 32
        y = SIGNAL + 32 + 14
        pen.mark(
            "filament",
            self.filament.symbol,
            (tube, y),
            size=(48, 22),
            label=(28, -2, "start"),
            says=Says(main=f"blocks/{self.id}/filament/track_ohm"),
        )
        return y + 14

    def draw_cathode(self, pen: Sketch, tube: float) -> None:
        """The cathode's own parts."""
        top = self.draw_filament(pen, tube)
        if not self.has_cathode:
            pen.wire((tube, top), (tube, EARTH))
            self.draw_foot(pen, tube, EARTH)
            return
        name = "cathode_resistor" if self.cathode_resistor else "cathode_led"
        pen.upright(name, tube, top, BIAS, EARTH, label=(-15, 2, "end"))
        self.draw_foot(pen, tube, EARTH)
        joint = max(top, CATHODE + 6)
        pen.volts("cathode", tube - (30 if self.filament else 8), CATHODE + 4, "bias", "end")
        right = tube
        if self.cathode_bypass:
            pen.dot(tube, joint)
            right = tube + (72 if self.filament else 40)
            pen.wire((tube, joint), (right, joint))
            pen.upright("cathode_bypass", right, joint, BIAS, EARTH, polarised=True, label=(16, 4, "start"))
            self.draw_foot(pen, right, EARTH, tube)
        if pen.is_tapped(pen.port("cathode")):
            pen.wire((tube, joint), (tube + 112, joint))
            pen.dot(right, joint)
            pen.place(pen.port("cathode"), tube + 112, joint)

    def draw_foot(self, pen: Sketch, x: float, y: float, beside: float | None = None) -> None:
        """Where a part of the cathode's circuit returns to; what stands ``beside`` another joins it there."""
        if not self.cathode_return:
            pen.earth(x, y)
        elif beside is not None:
            pen.wire((x, y), (beside, y))
            pen.dot(beside, y)
        else:
            pen.flag("cathode_return", x, y, above=False)

    def draw_tube(self, pen: Sketch, sections: tuple[str, ...], tube: float, *, width: float = 100) -> float:
        """The tube with its screen, anode and load. Returns the x where the anode's wire leaves."""
        pentode = pen.kinds.get(sections[0]) == "pentode"
        pen.tube(sections, tube, label=(37, 12 if pentode else -6, "start"))
        pen.figure("heat", f"blocks/{self.id}", tube + 37, SIGNAL + (42 if pentode else 26), "heat")
        end = tube + width + (32 if self.filament else 0)
        if pentode:
            end = self._draw_screen(pen, tube)
        pen.wire((tube, SIGNAL - 32), (tube, ANODE), (end, ANODE))
        pen.dot(tube, ANODE) if self.loaded else None
        pen.volts("anode", tube + 8, ANODE - 5)
        if self.loaded:
            pen.upright(self.loaded, tube, RAIL, LOAD, ANODE, label=(15, -8, "start"))
            pen.rail("feed", tube, RAIL)
        if pen.is_tapped(pen.port("anode")):
            pen.place(pen.port("anode"), end - 8, ANODE)
            pen.dot(end - 8, ANODE)
        return end

    def _draw_screen(self, pen: Sketch, tube: float) -> float:
        y = SIGNAL - 8
        if not self.screen:  # strapped as a triode
            pen.wire((tube + 32, y), (tube + 80, y))
            at = pen.lying("screen_resistor", tube + 80, y, 74, label=(0, 32, "middle"))
            pen.wire((at, y), (tube + 160, y), (tube + 160, ANODE))
            pen.dot(tube + 160, ANODE)
            return tube + 176
        at = tube + 104
        pen.wire((tube + 32, y), (at, y))
        if self.screen_resistor:
            pen.upright("screen_resistor", at, RAIL, LOAD, y, label=(13, -8, "start"))
        else:
            pen.wire((at, y), (at, RAIL))
        if pen.is_rail("screen"):
            pen.rail("screen", at, RAIL)
        else:
            pen.flag("screen", at, RAIL)
        if self.screen_bypass:
            pen.dot(at, y)
            pen.wire((at, y), (at + 48, y))
            pen.upright("screen_bypass", at + 48, y, BIAS - 20, EARTH)
            pen.earth(at + 48, EARTH)
            return at + 124
        return at + 84
