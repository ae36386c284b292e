"""The bodies that a design puts on its chassis: what each is, how large, and which pin is on which net.

A body is asked for by what its parts are, never by the kind of their block. What is small (resistors, coupling
capacitors, diodes) hangs on a tag strip of its stage, or from pin to pin of a socket where nothing else is on its
net.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from typing import Any

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import (
    BiasTrim,
    ConverterUse,
    GasUse,
    HeaterFeed,
    HeaterUse,
    Indicated,
    LinearUse,
    Load,
    PassUse,
    Rectified,
    Source,
    Standby,
    Wafer,
    Winding,
)
from thermionic.blocks.fields import Choke, SmoothingCapacitor
from thermionic.chassis import catalogue
from thermionic.chassis.catalogue import Sizes
from thermionic.chassis.document import Face, Layout, Mount
from thermionic.chassis.nets import EARTH, Net, Nets, block_of
from thermionic.chassis.pins import heater_pins, section_pins
from thermionic.circuit.netlist import GROUND, Part
from thermionic.design import find
from thermionic.devices import Feed, MainsSource, Potentiometer, Resistor, Transformer
from thermionic.devices.linear import IdealTransformer


@dataclass(frozen=True)
class Attached:
    """A terminal of a part, of one channel's copy of it, by its number among the part's terminals."""

    part: str
    terminal: int
    channel: int


@dataclass(frozen=True)
class Pin:
    """A place on a body where a wire is soldered: its name, (across, along, above) from the body's middle, m, the net
    that it is on (None for one that the netlist does not have), the part terminals that meet there, and whether it
    is a grid's, or behind a grid's stopper."""

    name: str
    at: tuple[float, float, float]
    net: Net | None = None
    attached: tuple[Attached, ...] = ()
    grid: bool = False


@dataclass(frozen=True)
class Body:
    """Something to be placed. ``family`` is what it is (socket, transformer, choke, ...), ``home`` the face that it
    usually goes on, within where ``inside``; ``watt`` what it turns to heat. ``heaters`` are the names of its heater
    pins; ``part`` and ``path`` those of the one part that it is, in the netlist and in the design, if it is one."""

    key: str
    title: str
    short: str
    family: str
    sizes: Sizes
    pins: tuple[Pin, ...] = ()
    home: Face = "top"
    inside: bool = False
    channel: int = 0
    watt: float = 0.0
    blocks: tuple[str, ...] = ()
    heaters: tuple[str, ...] = ()
    mount: Mount | None = None
    envelope: str = ""
    part: str = ""
    path: str = ""

    def pin(self, name: str) -> Pin:
        """A pin by its name. Raises KeyError."""
        for pin in self.pins:
            if pin.name == name:
                return pin
        raise KeyError(name)


SIDES = {0: "", 1: " left", 2: " right"}


_KEPT = 12  # sets of bodies of one amplifier


def bodies(amplifier: SolvedAmplifier, layout: Layout) -> tuple[Body, ...]:
    """Every body of a design, and what the layout adds, with the sizes that the layout knows better. Where things are
    is nothing to them, so a drag finds them as they were."""
    mounts = tuple(sorted((one.body, one.mount) for one in layout.placed if one.mount))
    sizes = tuple(sorted((key, one.model_dump_json()) for key, one in layout.sizes.items()))
    key = (bodies, mounts, sizes, layout.fittings)
    kept: dict[Any, Any] = vars(amplifier).setdefault("_remembered", {})
    if key not in kept:
        for old in [one for one in list(kept) if isinstance(one, tuple) and one[0] is bodies][: -_KEPT or None]:
            kept.pop(old, None)
        kept[key] = _bodies(amplifier, layout)
    found: tuple[Body, ...] = kept[key]
    return found


def _bodies(amplifier: SolvedAmplifier, layout: Layout) -> tuple[Body, ...]:
    maker = _Maker(amplifier, layout)
    found = [
        *maker.sockets(), *maker.signal_iron(), *maker.chokes(), *maker.mains_iron(), *maker.cans(),
        *maker.controls(), *maker.ends(), *maker.mains_side(), *maker.warm(),
    ]  # fmt: skip
    found = maker.with_stoppers(found)
    found += maker.strips()
    found += [_fitting(fitting.key, fitting.name) for fitting in layout.fittings]
    return tuple(_as_measured(body, layout) for body in found)


def _fitting(key: str, name: str) -> Body:
    kind = key.split(":")[1]
    sizes = catalogue.panel(kind)
    home: Face = {"foot": "bottom", "earth bolt": "rear", "meter": "front"}.get(kind, "top")  # type: ignore[assignment]
    return Body(key, name or catalogue.panel_title(kind), name or kind, kind, sizes, home=home)


def _as_measured(body: Body, layout: Layout) -> Body:
    own = layout.sizes.get(body.key)
    if own is None:
        return body
    sizes = catalogue.resized(body.sizes, own.across, own.along, own.above, own.below, own.source)
    pins = tuple(replace(pin, at=(sizes.pins or {}).get(pin.name, pin.at)) for pin in body.pins)
    return replace(body, sizes=sizes, pins=pins)


class _Maker:
    def __init__(self, amplifier: SolvedAmplifier, layout: Layout) -> None:
        self.amplifier, self.layout = amplifier, layout
        self.compiled = amplifier.compiled
        self.nets = Nets(self.compiled)
        self.taken: set[tuple[str, int]] = set()
        self.netlist = amplifier.netlist

    def _mount(self, key: str, usual: Mount = "upright") -> Mount:
        placed = self.layout.of(key)
        return placed.mount if placed and placed.mount else usual

    def _at(self, part: Part, terminal: int, channel: int) -> tuple[Net, Attached]:
        self.taken.add((part.name, channel))
        return self.nets.of(part.nodes[terminal], channel), Attached(part.name, terminal, channel)

    def _pinned(self, sizes: Sizes, wired: dict[str, list[tuple[Net, Attached]]]) -> tuple[Pin, ...]:
        pins = []
        for name, at in (sizes.pins or {}).items():
            there = wired.get(name, [])
            attached = tuple(one for _, one in there)
            pins.append(Pin(name, at, there[0][0] if there else None, attached, any(map(self._is_grid, attached))))
        return tuple(pins)

    def _is_grid(self, one: Attached) -> bool:
        return self.netlist[one.part].device.terminals[one.terminal] == "grid"

    def sockets(self) -> Iterator[Body]:
        """A socket for every bottle."""
        design, compiled = self.amplifier.design, self.compiled
        rectifiers = {use.envelope: use for use in compiled.rectifier_tubes}
        gas = {use.envelope: use for use in compiled.said(GasUse)}
        for envelope in design.envelopes:
            type_ = design.tube_of(envelope.id)
            uses = [use for use in compiled.tubes if use.envelope == envelope.id]
            whole = design.serves_all(envelope.id)
            for channel in (0,) if whole else self.nets.channels:
                size = type_.envelope
                sizes = catalogue.socket(
                    type_.base, size.diameter_m if size else 0.035, size.height_m if size else 0.09,
                    size.unsure if size else True,
                )  # fmt: skip
                wired: dict[str, list[tuple[Net, Attached]]] = defaultdict(list)
                watt = type_.heater.volts * type_.heater.amperes if type_.heater else 0.0
                letters = sorted({use.section for use in uses})
                for use in uses:
                    part = self.netlist[use.part]
                    for copy in self.nets.copies(use.block) if whole else (channel,):
                        later = len(letters) if copy == 2 and whole else 0
                        letter = type_.section_letters[
                            min(type_.section_letters.index(use.section) + later, len(type_.section_letters) - 1)
                        ]
                        places = section_pins(type_, letter)
                        for terminal, electrode in enumerate(part.device.terminals):
                            wired[places[electrode]].append(self._at(part, terminal, copy))
                        watt += self.amplifier.parts[use.part].dissipation + self.amplifier.screen_watt(use)
                if envelope.id in rectifiers or envelope.id in gas:
                    use_ = rectifiers.get(envelope.id) or gas[envelope.id]
                    part = self.netlist[use_.part]
                    places = section_pins(type_, "a")
                    for terminal, electrode in enumerate(part.device.terminals):
                        wired[places[electrode]].append(self._at(part, terminal, 0))
                    watt += self.amplifier.parts[use_.part].dissipation
                blocks = tuple({use.block: None for use in uses}) or tuple(
                    one.block for one in (rectifiers.get(envelope.id), gas.get(envelope.id)) if one
                )
                yield Body(
                    f"tube:{envelope.id}:{channel}", f"{envelope.id.upper()} {type_.type}{SIDES[channel]}",
                    f"{envelope.id.upper()}{SIDES[channel][1:2].upper()}", "tube", sizes, self._pinned(sizes, wired),
                    channel=channel, watt=watt, blocks=blocks, heaters=heater_pins(type_), envelope=envelope.id,
                )  # fmt: skip

    def signal_iron(self) -> Iterator[Body]:
        """Output and interstage transformers."""
        for use in self.compiled.transformers:
            part = self.netlist[use.part]
            rating = getattr(self.amplifier.design.block(use.block), "core", None)
            va = 8.0
            if use.taps:
                watt, low = (rating.watt, rating.hertz) if rating else (self._power(), 30.0)
                gapped = 2.0 if rating is None or (rating.ampere or 0.0) > 0 else 1.0
                va = watt * max(50.0 / low, 1.0) * 2.5 * gapped
            for channel in self.nets.copies(use.block):
                key = f"iron:{use.block}:{channel}"
                mount = self._mount(key)
                names = tuple(str(number + 1) for number in range(len(part.nodes)))
                sizes = catalogue.iron(va, mount, names)
                wired = {name: [self._at(part, place, channel)] for place, name in enumerate(names)}
                yield Body(
                    key, f"{self._label(use.block)}{SIDES[channel]}", part.name + SIDES[channel][1:2].upper(),
                    "transformer", sizes, self._pinned(sizes, wired), channel=channel, blocks=(use.block,),
                    mount=mount,
                )  # fmt: skip

    def _power(self) -> float:
        load = self.compiled.load
        return float(self.amplifier.full_output.power_watt) if load.power else 1.0

    def _label(self, block: str) -> str:
        return self.amplifier.design.block(block).label

    def chokes(self) -> Iterator[Body]:
        """Chokes, by the energy that they hold."""
        for path, choke in self.compiled.components(Choke):
            for name in self.compiled.designators(path):
                part = self.netlist[name]
                for channel in self.nets.copies(block_of(part)):
                    key = f"choke:{name}:{path}:{channel}"
                    mount = self._mount(key)
                    sizes = catalogue.iron(314.0 * choke.henry * choke.rating_ampere**2, mount, ("1", "2"))
                    wired = {str(place + 1): [self._at(part, place, channel)] for place in range(len(part.nodes))}
                    yield Body(
                        key, f"Choke of {self._label(block_of(part))}{SIDES[channel]}", name, "choke", sizes,
                        self._pinned(sizes, wired), channel=channel, blocks=(block_of(part),), mount=mount,
                        watt=abs(self.amplifier.parts[name].dissipation), part=name, path=path,
                    )  # fmt: skip

    def mains_iron(self) -> Iterator[Body]:
        """A body for each mains transformer; windings whose transformer the design does not have are on one."""
        groups: dict[str, list[Winding]] = defaultdict(list)
        for winding in self.compiled.said(Winding):
            groups[winding.core.block if winding.core else ""].append(winding)
        heaters = self._unfed_heater_va()
        for core, windings in groups.items():
            rating = windings[0].core.rating_va if windings[0].core else None
            va = rating or self._supplied_va(windings) + (heaters if not core else 0.0)
            key = f"mains:{core or 'transformer'}:0"
            mount = self._mount(key)
            names = ["live", "neutral"]
            wired: dict[str, list[tuple[Net, Attached]]] = {}
            for winding in windings:
                ends = ("a", "centre", "b") if winding.centre_tapped else ("a", "b")
                names += [f"{winding.block} {end}" for end in ends]
                if winding.centre_tapped:
                    wired[f"{winding.block} centre"] = [
                        self._at(part, terminal, 0) for part, terminal in self.earthed_ends(winding.block)
                    ]
            names += ["heater a", "heater b"] if heaters and not core else []
            sizes = catalogue.iron(va, mount, tuple(names))
            yield Body(
                key, self._label(core) if core else "Mains transformer", "MT", "mains transformer", sizes,
                self._pinned(sizes, wired), blocks=tuple(w.block for w in windings), mount=mount, watt=0.08 * va,
            )  # fmt: skip
        for part in self.netlist.parts:
            if isinstance(part.device, (MainsSource, IdealTransformer, Feed)):
                self.taken |= {(part.name, channel) for channel in (0, 1, 2)}

    def earthed_ends(self, winding: str) -> list[tuple[Part, int]]:
        """The terminals by which what a winding delivers comes back from signal earth; where it floats on something
        else, those of what lifts it too, which cancel them."""
        sources = [
            part
            for part in self.netlist.parts
            if block_of(part) == winding and isinstance(part.device, (MainsSource, IdealTransformer))
        ]
        own = {node for part in self.netlist.parts if block_of(part) == winding for node in part.nodes} - {GROUND}
        lifts = [
            part
            for part in self.netlist.parts
            if isinstance(part.device, IdealTransformer) and not block_of(part) and part.nodes[0] in own
        ]
        found = [(part, len(part.nodes) - 1) for part in sources] + [(part, 1) for part in lifts]
        return [(part, terminal) for part, terminal in found if part.nodes[terminal] == GROUND]

    def _supplied_va(self, windings: list[Winding]) -> float:
        state = self.amplifier.state.mains
        watt = 0.0
        if state is not None:
            for part in self.netlist.parts:
                if isinstance(part.device, MainsSource) and block_of(part) in {w.block for w in windings}:
                    watt += abs(state.delivered(part))
        return max(1.5 * watt, 4.0)

    def _unfed_heater_va(self) -> float:
        design = self.amplifier.design
        fed = self.fed_envelopes
        total = 0.0
        for envelope in design.envelopes:
            heater = design.tube_of(envelope.id).heater
            if heater and envelope.id not in fed:
                bottles = 1 if design.serves_all(envelope.id) else design.channels
                total += bottles * heater.volts * heater.amperes
        return total

    @property
    def fed_envelopes(self) -> set[str]:
        """The envelopes that a heater supply of the design feeds."""
        return {use.envelope for use in self.compiled.said(HeaterUse)}

    def cans(self) -> Iterator[Body]:
        """Smoothing capacitors."""
        for path, capacitor in self.compiled.components(SmoothingCapacitor):
            for name in self.compiled.designators(path):
                part = self.netlist[name]
                for channel in self.nets.copies(block_of(part)):
                    sizes = catalogue.can(capacitor.farad, capacitor.rating_volt, capacitor.made)
                    ends = [self._at(part, place, channel) for place in (0, 1)]
                    wired = {"plus": [ends[0]], "minus": [ends[1]]}
                    yield Body(
                        f"can:{path}:{name}:{channel}",
                        f"{name} of {self._label(block_of(part))}{SIDES[channel]}",
                        name + SIDES[channel][1:2].upper(), "capacitor", sizes, self._pinned(sizes, wired),
                        channel=channel, blocks=(block_of(part),), part=name, path=path,
                    )  # fmt: skip

    def controls(self) -> Iterator[Body]:
        """Pots, trimmers, rotary and standby switches, lamps."""
        trims = {trim.part for trim in self.compiled.said(BiasTrim)}
        wafers = {name: wafer for wafer in self.compiled.said(Wafer) for name in wafer.parts}
        for part in self.netlist.parts:
            if isinstance(part.device, Potentiometer) and part.name not in trims:
                copies = self.nets.copies(block_of(part))
                sizes = catalogue.panel("pot", len(copies))
                wired = {
                    f"{name} {place + 1}" if len(copies) > 1 else name: [self._at(part, terminal, channel)]
                    for place, channel in enumerate(copies)
                    for terminal, name in enumerate(("end", "wiper", "foot"))
                }
                yield Body(f"pot:{block_of(part)}:{part.name}", self._label(block_of(part)), part.name, "pot", sizes,
                           self._pinned(sizes, wired), home="front", blocks=(block_of(part),))  # fmt: skip
            if part.name in trims:
                for channel in self.nets.copies(block_of(part)):
                    sizes = catalogue.panel("preset")
                    names = ("end", "wiper", "foot")[-len(part.nodes) :]
                    wired = {name: [self._at(part, place, channel)] for place, name in enumerate(names)}
                    yield Body(
                        f"preset:{part.name}:{channel}", f"Bias trimmer {part.name}{SIDES[channel]}",
                        part.name + SIDES[channel][1:2].upper(), "preset", sizes, self._pinned(sizes, wired),
                        channel=channel, blocks=(block_of(part),),
                    )  # fmt: skip
        for wafer in dict.fromkeys(wafers.values()):
            yield self._wafer(wafer)
        for standby in self.compiled.said(Standby):
            part = self.netlist[standby.part]
            wired = {name: [self._at(part, place, 0)] for place, name in enumerate(("in", "out"))}
            sizes = catalogue.panel("switch")
            yield Body(f"switch:{standby.block}", self._label(standby.block), part.name, "switch", sizes,
                       self._pinned(sizes, wired), home="front", blocks=(standby.block,))  # fmt: skip
        for lamp in self.compiled.said(Indicated):
            part = self.netlist[lamp.part]
            wired = {name: [self._at(part, place, 0)] for place, name in enumerate(("plus", "minus"))}
            sizes = catalogue.panel("lamp")
            yield Body(f"lamp:{lamp.block}", self._label(lamp.block), part.name, "lamp", sizes,
                       self._pinned(sizes, wired), home="front", blocks=(lamp.block,))  # fmt: skip

    def _wafer(self, wafer: Wafer) -> Body:
        sizes = catalogue.panel("rotary")
        places: dict[str, tuple[float, float, float]] = {}
        wired: dict[str, list[tuple[Net, Attached]]] = defaultdict(list)
        for layer, channel in enumerate(self.nets.copies(wafer.block)):
            for number, name in enumerate(wafer.parts):
                part = self.netlist[name]
                for terminal in (0, 1):
                    pin = f"{number + 1} {layer}" if terminal == 0 else f"out {layer}"
                    x = (number - 1.5) * 0.009 if terminal == 0 else 0.0
                    places[pin] = (x, 0.016 if terminal == 0 else -0.016, -0.014 - 0.012 * layer)
                    wired[pin].append(self._at(part, terminal, channel))
        sizes = replace(sizes, pins=places)
        return Body(f"rotary:{wafer.block}", self._label(wafer.block), "SW", "rotary switch", sizes,
                    self._pinned(sizes, wired), home="front", blocks=(wafer.block,))  # fmt: skip

    def ends(self) -> Iterator[Body]:
        """Where the signal comes in and goes out."""
        said: list[tuple[Source | Load, str]] = []
        for source in self.compiled.sources:
            own = [part for part in self.netlist.parts if block_of(part) == source.block]
            inner = next(
                (node for part in own for node in part.nodes if node not in (source.node, GROUND)), source.node
            )
            said.append((source, inner))
        said += [(load, load.node) for load in self.compiled.loads]
        for one, node in said:
            kind = "terminals" if isinstance(one, Load) and one.power else "jack"
            names = ("hot", "cold") if kind == "terminals" else ("tip", "sleeve")
            own = [self.netlist[one.part]]
            if isinstance(one, Source):
                own = [part for part in self.netlist.parts if block_of(part) == one.block]
            sizes = catalogue.panel(kind)
            for channel in self.nets.copies(one.block):
                nets = self.nets.of(node, channel), EARTH
                met: dict[Net, list[Attached]] = {net: [] for net in nets}
                for part in own:
                    for terminal in range(len(part.nodes)):
                        net, attached = self._at(part, terminal, channel)
                        if net in met:
                            met[net].append(attached)
                pins = tuple(
                    Pin(name, (sizes.pins or {})[name], net, tuple(met[net]))
                    for name, net in zip(names, nets, strict=True)
                )
                yield Body(
                    f"{kind}:{one.block}:{channel}", f"{self._label(one.block)}{SIDES[channel]}",
                    ("OUT" if isinstance(one, Load) else "IN") + SIDES[channel][1:2].upper(), kind, sizes, pins,
                    home="rear", channel=channel, blocks=(one.block,),
                )  # fmt: skip

    def mains_side(self) -> Iterator[Body]:
        """Inlet, fuse, switch and the bolt of protective earth, where there is mains at all."""
        if not any(isinstance(part.device, MainsSource) for part in self.netlist.parts):
            return
        for kind, title, short, home in (
            ("inlet", "Mains inlet", "~", "rear"), ("fuse", "Mains fuse", "FU", "rear"),
            ("switch", "Mains switch", "S0", "rear"), ("earth bolt", "Protective earth's bolt", "PE", "top"),
        ):  # fmt: skip
            sizes = catalogue.panel(kind)
            yield Body(f"mains side:{kind}", title, short, kind if kind != "switch" else "mains switch", sizes,
                       self._pinned(sizes, {}), home=home)  # type: ignore[arg-type]  # fmt: skip

    def warm(self) -> Iterator[Body]:
        """Transistors and regulators on heat-sinks; the bolt of signal earth."""
        uses: Iterable[PassUse | LinearUse | ConverterUse] = (
            *self.compiled.said(PassUse), *self.compiled.said(LinearUse), *self.compiled.said(ConverterUse)
        )  # fmt: skip
        for use in uses:
            part = self.netlist[use.part]
            rated = find(self.amplifier.design, use.path).value if isinstance(use, PassUse) else None
            kelvin = float(getattr(rated, "sink_kelvin_per_watt", 8.0))
            for channel in self.nets.copies(use.block):
                sizes = catalogue.sink(kelvin, tuple(part.device.terminals))
                wired = {name: [self._at(part, place, channel)] for place, name in enumerate(part.device.terminals)}
                yield Body(
                    f"sink:{use.part}:{channel}", f"{use.part} on its heat-sink{SIDES[channel]}",
                    use.part + SIDES[channel][1:2].upper(), "heat-sink", sizes, self._pinned(sizes, wired),
                    inside=True, channel=channel, blocks=(use.block,),
                    watt=abs(self.amplifier.parts[use.part].dissipation) if use.part in self.amplifier.parts else 0.0,
                )  # fmt: skip
        sizes = catalogue.panel("signal earth")
        yield Body("earth:signal", "Signal earth's bolt", "E", "signal earth", sizes,
                   (Pin("bolt", (sizes.pins or {})["bolt"], EARTH),), home="top", inside=True)  # fmt: skip

    def _loose(self) -> list[tuple[Part, int]]:
        """Every small part that is on no body yet, by channel."""
        heaters = self.nets.heater_blocks
        return [
            (part, channel)
            for part in self.netlist.parts
            if block_of(part) not in heaters and (part.path or part.side) and not isinstance(part.device, Transformer)
            for channel in self.nets.copies(block_of(part))
            if (part.name, channel) not in self.taken and not self._is_winding(part)
        ]

    def _is_winding(self, part: Part) -> bool:
        return block_of(part) in {winding.block for winding in self.compiled.said(Winding)}

    def with_stoppers(self, found: list[Body]) -> list[Body]:
        """Sockets with what hangs from one of their pins alone: its far end is a lug beside them."""
        loose = self._loose()
        count: dict[Net, int] = defaultdict(int)
        for part, channel in loose:
            for node in part.nodes:
                count[self.nets.of(node, channel)] += 1
        for place, body in enumerate(found):
            if body.family != "tube":
                continue
            pins = list(body.pins)
            for number, pin in enumerate(body.pins):
                if (
                    pin.net is None
                    or pin.net == EARTH
                    or count[pin.net] != 1
                    or self._elsewhere(pin.net, body, found)
                ):
                    continue
                part, channel = next(
                    (part, ch) for part, ch in loose if pin.net in [self.nets.of(node, ch) for node in part.nodes]
                )
                hung = (part.name, channel) in self.taken
                if hung or len(part.nodes) != 2 or not isinstance(part.device, Resistor):
                    continue
                near = 0 if self.nets.of(part.nodes[0], channel) == pin.net else 1
                _, here = self._at(part, near, channel)
                far, there = self._at(part, 1 - near, channel)
                pins[number] = replace(pin, attached=(*pin.attached, here))
                x, y, z = pin.at
                pins.append(Pin(f"{part.name} beside {pin.name}", (2.2 * x, 2.2 * y, z), far, (there,), pin.grid))
            found[place] = replace(body, pins=tuple(pins))
        return found

    def _elsewhere(self, net: Net, but: Body, found: list[Body]) -> bool:
        return any(body is not but and any(pin.net == net for pin in body.pins) for body in found)

    def strips(self) -> Iterator[Body]:
        """Tag strips for all that is left: one for each bottle's stages in each channel, and those of the supply."""
        groups: dict[tuple[str, int], list[tuple[Part, int]]] = defaultdict(list)
        for part, channel in self._loose():
            groups[(self._stage_of(block_of(part)), channel)].append((part, channel))
        for (stage, channel), parts in groups.items():
            wired: dict[Net, list[Attached]] = defaultdict(list)
            if stage == "supply":
                for use in self._steady_heaters():
                    part = self.netlist[use.part]
                    for terminal in range(len(part.nodes)):
                        net, attached = self._at(part, terminal, 0)
                        wired[net].append(attached)
                for winding in self.compiled.said(Winding):
                    if not winding.centre_tapped and winding.block in self._rectified:
                        for part, terminal in self.earthed_ends(winding.block):
                            net, attached = self._at(part, terminal, 0)
                            wired[net].append(attached)
            for part, copy in parts:
                for terminal in range(len(part.nodes)):
                    net, attached = self._at(part, terminal, copy)
                    wired[net].append(attached)
            sizes = catalogue.strip(len(wired))
            pins = tuple(
                Pin(str(number + 1), (sizes.pins or {})[str(number + 1)], net, tuple(attached))
                for number, (net, attached) in enumerate(wired.items())
            )
            watt = sum(abs(self.amplifier.parts[part.name].dissipation) for part, _ in parts)
            blocks = tuple(dict.fromkeys(block_of(part) for part, _ in parts))
            title = f"Tag strip of {stage.upper()}" if stage != "supply" else "Tag strip of the supply"
            yield Body(
                f"strip:{stage}:{channel}", title + SIDES[channel],
                f"{stage.upper() if stage != 'supply' else 'HT'}{SIDES[channel][1:2].upper()}", "strip", sizes, pins,
                inside=True, channel=channel, watt=watt, blocks=blocks,
            )  # fmt: skip

    def _steady_heaters(self) -> list[HeaterUse]:
        """The heaters that are fed with DC, whose current comes back by signal earth."""
        steady = {feed.block for feed in self.compiled.said(HeaterFeed) if not feed.winding}
        return [use for use in self.compiled.said(HeaterUse) if use.block in steady]

    @property
    def _rectified(self) -> set[str]:
        return {use.winding for use in self.compiled.said(Rectified)}

    def _stage_of(self, block: str) -> str:
        """The envelope whose strip a block's parts hang on; "supply" for a shared block."""
        if block in self.nets._shared:
            return "supply"
        design = self.amplifier.design
        seen = {block}
        while seen:
            for one in sorted(seen, key=lambda name: name != block):
                sections = design.block(one).sections
                if sections:
                    return sections[0].partition(".")[0]
            takers = {
                other.id
                for other in design.blocks
                if any(reference.partition(".")[0] in seen for reference in other.references.values())
            }
            if not takers - seen:
                break
            seen = takers
        last = list(self.compiled.tubes)
        return last[-1].envelope if last else "supply"
