"""The bodies of a design's larger parts: bottles, iron, cans, controls, what is in the walls."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import replace
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
    Source,
    Standby,
    Wafer,
    Winding,
)
from thermionic.blocks.fields import Choke, PassTransistor, SmoothingCapacitor
from thermionic.chassis import catalogue
from thermionic.chassis.body import OWN_EARTH, SIDES, Attached, Body, Pin
from thermionic.chassis.catalogue import Sizes
from thermionic.chassis.document import MOUNTS, USUAL_AXIS, Layout, Mount
from thermionic.chassis.nets import EARTH, Net, block_of, nets_of
from thermionic.chassis.pins import heater_pins, section_pins
from thermionic.circuit.netlist import GROUND, Part
from thermionic.design import find
from thermionic.devices import Feed, MainsSource, Potentiometer
from thermionic.devices.linear import IdealTransformer

_REGULATOR_SINK = 8.0  # K/W, what a regulator on a small heat-sink is taken to have
REFERENCE = "reference"  # the pin of a heater winding by which it is held to earth


class Making:
    """Bodies made one after another of a design; what is on one already is taken."""

    def __init__(self, amplifier: SolvedAmplifier, layout: Layout) -> None:
        self.amplifier, self.layout = amplifier, layout
        self.compiled = amplifier.compiled
        self.nets = nets_of(self.compiled)
        self.taken: set[tuple[str, int]] = set()
        self.netlist = amplifier.netlist

    def _mount(self, key: str, what: str = "iron") -> Mount:
        """How a body is mounted: as was chosen, where that is one of the ways for what it is, else the usual."""
        placed = self.layout.of(key)
        return placed.mount if placed and placed.mount in MOUNTS[what] else MOUNTS[what][0]

    def _iron_choices(self, key: str, mount: Mount) -> dict[str, Any]:
        """What the builder chose of a piece of iron besides its mount: its screen and the axis of its coil."""
        placed = self.layout.of(key)
        screen, coil = (placed.screen, placed.coil) if placed else (None, None)
        return {"screen": screen, "coil": coil or USUAL_AXIS[mount]}

    def at(self, part: Part, terminal: int, channel: int) -> tuple[Net, Attached]:
        self.taken.add((part.name, channel))
        return self.nets.of(part.nodes[terminal], channel), Attached(part.name, terminal, channel)

    def _pinned(self, sizes: Sizes, wired: dict[str, list[tuple[Net, Attached]]]) -> tuple[Pin, ...]:
        pins = []
        for name, at in (sizes.pins or {}).items():
            there = wired.get(name, [])
            attached = tuple(one for _, one in there)
            grid = any(one.is_grid(self.netlist) for one in attached)
            pins.append(Pin(name, at, there[0][0] if there else None, attached, grid))
        return tuple(pins)

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
                key = f"tube:{envelope.id}:{channel}"
                mount = self._mount(key, "socket")
                sizes = catalogue.socket(
                    type_.base, size.diameter_m if size else 0.035, size.height_m if size else 0.09,
                    size.unsure if size else True, mount == "board",
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
                            wired[places[electrode]].append(self.at(part, terminal, copy))
                        watt += self.amplifier.parts[use.part].dissipation + self.amplifier.screen_watt(use)
                if envelope.id in rectifiers or envelope.id in gas:
                    use_ = rectifiers.get(envelope.id) or gas[envelope.id]
                    part = self.netlist[use_.part]
                    places = section_pins(type_, "a")
                    for terminal, electrode in enumerate(part.device.terminals):
                        wired[places[electrode]].append(self.at(part, terminal, 0))
                    watt += self.amplifier.parts[use_.part].dissipation
                sizes = catalogue.with_pins(sizes, (*wired, *heater_pins(type_)))
                blocks = tuple({use.block: None for use in uses}) or tuple(
                    one.block for one in (rectifiers.get(envelope.id), gas.get(envelope.id)) if one
                )
                yield Body(
                    key, f"{envelope.id.upper()} {type_.type}{SIDES[channel]}",
                    f"{envelope.id.upper()}{SIDES[channel][1:2].upper()}", "tube", sizes, self._pinned(sizes, wired),
                    channel=channel, watt=watt, blocks=blocks, heaters=heater_pins(type_), envelope=envelope.id,
                    mount=mount,
                )  # fmt: skip

    def signal_iron(self) -> Iterator[Body]:
        """Output and interstage transformers."""
        for use in self.compiled.transformers:
            part = self.netlist[use.part]
            rating = use.core
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
                wired = {name: [self.at(part, place, channel)] for place, name in enumerate(names)}
                yield Body(
                    key, f"{self._label(use.block)}{SIDES[channel]}", part.name + SIDES[channel][1:2].upper(),
                    "transformer", sizes, self._pinned(sizes, wired), channel=channel, blocks=(use.block,),
                    mount=mount, **self._iron_choices(key, mount),
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
                    wired = {str(place + 1): [self.at(part, place, channel)] for place in range(len(part.nodes))}
                    yield Body(
                        key, f"Choke of {self._label(block_of(part))}{SIDES[channel]}", name, "choke", sizes,
                        self._pinned(sizes, wired), channel=channel, blocks=(block_of(part),), mount=mount,
                        watt=abs(self.amplifier.parts[name].dissipation), part=name, path=path,
                        **self._iron_choices(key, mount),
                    )  # fmt: skip

    def mains_iron(self) -> Iterator[Body]:
        """A body for each mains transformer; windings whose transformer the design does not have are on one."""
        groups: dict[str, list[Winding]] = defaultdict(list)
        for winding in self.compiled.said(Winding):
            groups[winding.core.block if winding.core else ""].append(winding)
        heaters = self._unfed_heater_va()
        references = {feed.winding: feed.held for feed in self.compiled.said(HeaterFeed) if feed.reference != "none"}
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
                        self.at(part, terminal, 0) for part, terminal in self.earthed_ends(winding.block)
                    ]
            held = {f"{w.block} {REFERENCE}": self.nets.of(references[w.block]) for w in windings
                    if w.block in references}  # fmt: skip
            if heaters and not core:
                names += ["heater a", "heater b"]
                held[f"heater {REFERENCE}"] = EARTH
            sizes = catalogue.iron(va, mount, (*names, *held))
            pins = self._pinned(sizes, wired)
            yield Body(
                key, self._label(core) if core else "Mains transformer", "MT", "mains transformer", sizes,
                tuple(replace(pin, net=held.get(pin.name, pin.net)) for pin in pins),
                blocks=tuple(w.block for w in windings), mount=mount, watt=0.08 * va,
                **self._iron_choices(key, mount),
            )  # fmt: skip
        for part in self.netlist.parts:
            if isinstance(part.device, (MainsSource, IdealTransformer, Feed)):
                self.taken |= {(part.name, channel) for channel in (0, 1, 2)}

    def earthed_ends(self, winding: str) -> list[tuple[Part, int]]:
        """The terminals by which what a winding delivers comes back from signal earth; where it floats on something
        else, those of what lifts it too, which cancel them. Heaters on its ends are a pair of wires: their current is
        in the winding's, does not come by earth, and is taken off again at their own ends."""
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
        result = [(part, len(part.nodes) - 1) for part in sources] + [(part, 1) for part in lifts]
        strings = {feed.block for feed in self.compiled.said(HeaterFeed) if feed.winding == winding}
        heated = {self.netlist[use.part].nodes for use in self.compiled.said(HeaterUse) if use.block in strings}
        result += [(part, 1) for part in self.netlist.parts if part.nodes in heated]
        return [(part, terminal) for part, terminal in result if part.nodes[terminal] == GROUND]

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
                    key = f"can:{path}:{name}:{channel}"
                    mount = self._mount(key, "can")
                    sizes = catalogue.can(capacitor.farad, capacitor.rating_volt, capacitor.made, mount == "lying")
                    ends = [self.at(part, place, channel) for place in (0, 1)]
                    wired = {"plus": [ends[0]], "minus": [ends[1]]}
                    yield Body(
                        key,
                        f"{name} of {self._label(block_of(part))}{SIDES[channel]}",
                        name + SIDES[channel][1:2].upper(), "capacitor", sizes, self._pinned(sizes, wired),
                        channel=channel, blocks=(block_of(part),), part=name, path=path, mount=mount,
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
                    f"{name} {place + 1}" if len(copies) > 1 else name: [self.at(part, terminal, channel)]
                    for place, channel in enumerate(copies)
                    for terminal, name in enumerate(("end", "wiper", "foot"))
                }
                yield Body(f"pot:{block_of(part)}:{part.name}", self._label(block_of(part)), part.name, "pot", sizes,
                           self._pinned(sizes, wired), home="front", blocks=(block_of(part),))  # fmt: skip
            if part.name in trims:
                for channel in self.nets.copies(block_of(part)):
                    sizes = catalogue.panel("preset")
                    names = ("end", "wiper", "foot")[-len(part.nodes) :]
                    wired = {name: [self.at(part, place, channel)] for place, name in enumerate(names)}
                    yield Body(
                        f"preset:{part.name}:{channel}", f"Bias trimmer {part.name}{SIDES[channel]}",
                        part.name + SIDES[channel][1:2].upper(), "preset", sizes, self._pinned(sizes, wired),
                        channel=channel, blocks=(block_of(part),),
                    )  # fmt: skip
        for wafer in dict.fromkeys(wafers.values()):
            yield self._wafer(wafer)
        for standby in self.compiled.said(Standby):
            part = self.netlist[standby.part]
            wired = {name: [self.at(part, place, 0)] for place, name in enumerate(("in", "out"))}
            sizes = catalogue.panel("switch")
            yield Body(f"switch:{standby.block}", self._label(standby.block), part.name, "switch", sizes,
                       self._pinned(sizes, wired), home="front", blocks=(standby.block,))  # fmt: skip
        for lamp in self.compiled.said(Indicated):
            part = self.netlist[lamp.part]
            wired = {name: [self.at(part, place, 0)] for place, name in enumerate(("plus", "minus"))}
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
                    wired[pin].append(self.at(part, terminal, channel))
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
                        net, attached = self.at(part, terminal, channel)
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
            kelvin = rated.sink_kelvin_per_watt if isinstance(rated, PassTransistor) else _REGULATOR_SINK
            for channel in self.nets.copies(use.block):
                wired = {name: [self.at(part, place, channel)] for place, name in enumerate(part.device.terminals)}
                if not isinstance(use, PassUse):
                    wired["return"] = [(EARTH, Attached(part.name, OWN_EARTH, channel))]
                sizes = catalogue.sink(kelvin, tuple(wired))
                yield Body(
                    f"sink:{use.part}:{channel}", f"{use.part} on its heat-sink{SIDES[channel]}",
                    use.part + SIDES[channel][1:2].upper(), "heat-sink", sizes, self._pinned(sizes, wired),
                    inside=True, channel=channel, blocks=(use.block,),
                    watt=abs(self.amplifier.parts[use.part].dissipation) if use.part in self.amplifier.parts else 0.0,
                )  # fmt: skip
        sizes = catalogue.panel("signal earth")
        yield Body("earth:signal", "Signal earth's bolt", "E", "signal earth", sizes,
                   (Pin("bolt", (sizes.pins or {})["bolt"], EARTH),), home="top", inside=True)  # fmt: skip
