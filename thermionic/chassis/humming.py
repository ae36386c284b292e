"""The hum of a layout at the loudspeaker, by what causes it.

Every alternating current and moment induces an EMF along every wire; every alternating voltage drives a current into
every wire by the capacitance between them; the returns of all stages flow in the earth wiring. Each of these is
carried to the load by the solved circuit (``transfer``). What one source does by all the wires of its way adds with
its phases, for one wire's EMF is nothing without that of the wire that closes its loop; sources are added by their
squares, as which way round each is wired is not known.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cache

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.chassis.arranging import order_of
from thermionic.chassis.bodies import bodies
from thermionic.chassis.body import Attached, Body
from thermionic.chassis.catalogue import material
from thermionic.chassis.coupling import Push, coupled
from thermionic.chassis.document import Layout
from thermionic.chassis.earthing import EarthNetwork, earth_network
from thermionic.chassis.fields import Dipole, Filaments, Pieces, Sheet, flux_density, linkage, through_dipole
from thermionic.chassis.geometry import direction, in_room
from thermionic.chassis.hum import Cause, LayoutHum
from thermionic.chassis.making import REFERENCE
from thermionic.chassis.nets import EARTH, Net, block_of, nets_of
from thermionic.chassis.sources import SCREEN_SHARE, IronSource, PairSource, Sources, coil_axis
from thermionic.chassis.transfer import HARMONICS, Transfers, rms, transfers
from thermionic.chassis.wiring import Terminal, Wire, Wiring, wired
from thermionic.devices.base import Array, ComplexArray
from thermionic.lazily import lazily
from thermionic.performance.levels import reference_output
from thermionic.performance.quiet import quiet
from thermionic.supplies.heating import heater_hum

# By how many times each way of getting in is unsure, either way.
WIRES_UNSURE, CAPACITIVE_UNSURE, EARTH_UNSURE, INSIDE_UNSURE, LEAK_UNSURE = 1.6, 1.8, 1.5, 3.0, 10.0
_UNTWISTED = 0.012  # m of a twisted pair that is open at either end
_FLOOR = 0.03  # of an untwisted pair's field that is left of a pair twisted by hand, however far away
# Inside a tube, between its grid's and its cathode's leads: an area, m², that a field goes through.
_TUBE_AREA = 1.0e-4
# A shell core gathers so many times the field that it stands in, at this flux density at its rating, T.
_GATHERS, _CORE_TESLA = 3.0, 1.0
_ANCHORS = np.array([1, 2, 5, 12])  # the harmonics at which the sheet is computed
_CARRIES = 2e-3  # A, of a wire whose field is computed


@dataclass(frozen=True, eq=False)
class Laid:
    """A layout with everything that follows from where things are."""

    amplifier: SolvedAmplifier
    layout: Layout
    bodies: tuple[Body, ...]
    wiring: Wiring
    earth: EarthNetwork
    transfers: Transfers

    @lazily
    def sheet(self) -> Sheet:
        """The top sheet."""
        of = material(self.layout.box.material)
        return Sheet(self.layout.box.sheet, of["conductivity"], of["permeability"])

    def with_earth(self, network: EarthNetwork) -> Laid:
        """The same with another earth wiring."""
        return replace(self, earth=network)

    @lazily
    def hum(self) -> LayoutHum:
        """The hum of the worse channel."""
        return max(Humming(self).channels(), key=lambda one: one.volt)


def lay(amplifier: SolvedAmplifier, layout: Layout) -> Laid:
    """A layout of a solved amplifier."""
    found = bodies(amplifier, layout)
    wiring = wired(amplifier, found, layout)
    earth = earth_network(wiring, layout, order_of(found, amplifier.design))
    return Laid(amplifier, layout, found, wiring, earth, transfers(amplifier))


class Humming:
    """The hum of a layout, piece by piece: EMFs, what they do, what the returns leave."""

    def __init__(self, laid: Laid) -> None:
        self.laid, self.layout, self.transfers = laid, laid.layout, laid.transfers
        self.amplifier = laid.amplifier
        self.box = laid.layout.box
        self.placed = {one.body: one for one in laid.layout.placed}
        self._half = np.array([0.0, 0.0, self.box.sheet / 2])
        self.sources = Sources(self.amplifier, self.transfers)
        self.hertz = self.transfers.hertz
        self.numbers = (1, 2) if self.amplifier.design.channels == 2 else (0,)
        # Everything that an EMF can be in: the wires of nets, then the ways of earth.
        self.wires = laid.wiring.wires
        self.nets = [*(wire.net for wire in self.wires), *(EARTH for _ in laid.earth.ways)]
        self.ways = [self.lowered(one) for one in (*(wire.points for wire in self.wires), *laid.earth.ways)]
        self.pieces = Pieces.of(self.ways)

    def lowered(self, points: Array) -> Array:
        """Points with heights from the middle of the top sheet."""
        found: Array = points + self._half
        return found

    @lazily
    def reference(self) -> float:
        """The load's volts at 1 W, or the reference output of a line stage, V rms."""
        output = reference_output(self.amplifier)
        return float((output * self.amplifier.load.ohm) ** 0.5 if self.amplifier.load.power else output)

    @lazily
    def rails(self) -> frozenset[Net]:
        """The nets that are rails."""
        return frozenset(nets_of(self.amplifier.compiled).rails)

    def earth_emf(self) -> ComplexArray:
        """The EMF that every field together makes along each way of earth, V, (ways, harmonics)."""
        pairs = [self.sources.pair(pair) for pair in self.laid.wiring.pairs]
        whole = np.zeros((len(self.ways), HARMONICS), dtype=complex)
        for one in self._induced(pairs):
            whole += one
        for body in self.laid.bodies:
            iron = self.sources.iron(body, self.layout) if body.key in self.placed else None
            whole += self._strayed(iron) if iron is not None else 0.0
        found: ComplexArray = whole[len(self.wires) :]
        return found

    def channels(self) -> list[LayoutHum]:
        """The hum of each channel."""
        found = []
        pairs = [self.sources.pair(pair) for pair in self.laid.wiring.pairs]
        irons = [iron for body in self.laid.bodies if body.key in self.placed
                 and (iron := self.sources.iron(body, self.layout)) is not None]  # fmt: skip
        induced = list(zip(pairs, self._induced(pairs), strict=True))
        strayed = [(iron, self._strayed(iron)) for iron in irons]
        supply = self._supply()
        pushed = coupled(self, pairs)
        for channel in self.numbers:
            gains = self._gains(channel)
            causes = self._magnetic(channel, gains, induced, strayed, supply)
            causes += self._capacitive(channel, pushed)
            causes += self._earth(channel) + self._elsewhere()
            causes = [cause for cause in causes if cause.volt > 1e-10]
            causes.sort(key=lambda one: -one.volt)
            found.append(LayoutHum(self.reference, tuple(causes), channel, self.layout.measured_volt))
        return found

    # What a volt in each wire does.

    def _gains(self, channel: int) -> ComplexArray:
        """The load's volts for a volt in each wire, from its first end to its second, (wires, harmonics)."""
        found = np.zeros((len(self.ways), HARMONICS), dtype=complex)
        by_net: dict[Net, list[int]] = defaultdict(list)
        for number, wire in enumerate(self.wires):
            by_net[wire.net].append(number)
        for net, numbers in by_net.items():
            if net.channel not in (0, channel):
                continue
            beyond = _beyond([self.wires[number] for number in numbers])
            for number, terminals in zip(numbers, beyond, strict=True):
                found[number] = sum(
                    (self._weight(one, channel) for one in terminals), np.zeros(HARMONICS, dtype=complex)
                )
        _, by_emf = self.laid.earth.adjoint(self.hertz, self.earth_weights(channel))
        found[len(self.wires) :] = self.laid.earth.carried.T @ by_emf
        return found

    def _weight(self, terminal: Terminal, channel: int) -> ComplexArray:
        """The load's volts for a volt at all parts that meet at a pin."""
        return sum(
            (self._of(one) for one in terminal.pin.attached if one.channel in (0, channel)),
            np.zeros(HARMONICS, dtype=complex),
        )

    def _of(self, attached: Attached) -> ComplexArray:
        return self.transfers.of_terminal(attached)

    def earth_weights(self, channel: int) -> ComplexArray:
        """The load's volts for a volt at each node of earth, (nodes, harmonics)."""
        at = {node: place for place, node in enumerate(self.laid.earth.nodes)}
        weights = np.zeros((len(at), HARMONICS), dtype=complex)
        for terminal in self.laid.wiring.earths:
            if terminal.key in at:
                weights[at[terminal.key]] += self._weight(terminal, channel)
        return weights

    # EMFs in the wires.

    def _induced(self, sources: Sequence[PairSource]) -> list[ComplexArray]:
        """The EMF that each pair leaves in every wire, V, (wires, harmonics)."""
        if not sources:
            return []
        middle = Pieces.of([self.lowered(source.pair.points) for source in sources])
        length = np.sqrt((middle.along**2).sum(axis=1))
        whole = np.bincount(middle.wire, length, len(sources))
        halfway = np.cumsum(length) - length / 2 - (np.cumsum(whole) - whole)[middle.wire]
        opened = (halfway < _UNTWISTED) | (halfway > whole[middle.wire] - _UNTWISTED)
        spacing, pitch = (
            np.array([getattr(source.pair, name) for source in sources])[middle.wire] for name in ("spacing", "pitch")
        )
        filaments = Filaments(
            middle, middle.wire, middle.sideways * spacing[:, None] / 2, np.where(opened, 0.0, pitch)
        )
        at = linkage(
            self.pieces, len(self.ways), filaments, len(sources), self.laid.sheet, self.hertz[0] * _ANCHORS, _FLOOR
        )
        return [
            -2j * np.pi * self.hertz * (at[:, number].T @ _between()) * source.amperes
            for number, source in enumerate(sources)
        ]

    def _dipole(self, iron: IronSource) -> Dipole:
        placed, body = self.placed[iron.body.key], iron.body
        middle = (body.sizes.above - min(body.sizes.below, body.sizes.above)) / 2
        at = self.lowered(in_room(self.box, placed, (0.0, 0.0, middle)))
        return Dipole(at, direction(self.box, placed, coil_axis(body)))

    def _strayed(self, iron: IronSource) -> ComplexArray:
        """The EMF that a stray moment leaves in every wire, V, (wires, harmonics)."""
        dipole = self._dipole(iron)
        linked = through_dipole(self.pieces, dipole, self.laid.sheet, self.hertz[0] * _ANCHORS)
        at = self.pieces.add_up(linked, len(self.ways))
        found: ComplexArray = -2j * np.pi * self.hertz * (at.T @ _between()) * iron.moment
        return found

    def _supply(self) -> ComplexArray:
        """The EMF in every wire by the currents in the HT's wires and in those of earth, (wires, harmonics)."""
        amperes = self._wire_amperes()
        carrying = np.flatnonzero(np.sqrt((np.abs(amperes) ** 2).sum(axis=1) / 2) > _CARRIES)
        if len(carrying) == 0:
            return np.zeros((len(self.ways), HARMONICS), dtype=complex)
        pieces = Pieces.of([self.ways[number] for number in carrying])
        filaments = Filaments(pieces, pieces.wire, np.zeros_like(pieces.start), np.zeros(len(pieces.wire)))
        at = linkage(self.pieces, len(self.ways), filaments, len(carrying), self.laid.sheet, self.hertz[0] * _ANCHORS)
        whole = np.einsum("agw,ah,gh->wh", at, _between(), amperes[carrying], optimize=True)
        found: ComplexArray = -2j * np.pi * self.hertz * whole
        return found

    def _wire_amperes(self) -> ComplexArray:
        """The mains' harmonics of the current in each wire from its first to its second end, A."""
        found = np.zeros((len(self.ways), HARMONICS), dtype=complex)
        by_net: dict[Net, list[int]] = defaultdict(list)
        for number, wire in enumerate(self.wires):
            if wire.kind == "HT":
                by_net[wire.net].append(number)
        for numbers in by_net.values():
            for number, terminals in zip(numbers, _beyond([self.wires[k] for k in numbers]), strict=True):
                for terminal in terminals:
                    for one in terminal.pin.attached:
                        found[number] -= self.transfers.current(one)
        earth = self.laid.earth
        through = earth.through(self.hertz, self._earth_volts())
        # What flows in the sheet spreads; it is not counted as a source.
        wired = np.array([link.wire is not None for link in earth.links], dtype=float)
        found[len(self.wires) :] = (earth.carried * wired[:, None]).T @ through
        return found

    @lazily
    def returned(self) -> ComplexArray:
        """What each pin sends into earth, A, (nodes of earth, harmonics)."""
        at = {node: place for place, node in enumerate(self.laid.earth.nodes)}
        amperes = np.zeros((len(at), HARMONICS), dtype=complex)
        for terminal in self.laid.wiring.earths:
            for one in terminal.pin.attached:
                if terminal.key in at:
                    amperes[at[terminal.key]] += self.transfers.current(one)
        for key, leak in self._leaks():
            amperes[at[key]] += leak
        return amperes

    def _leaks(self) -> Iterator[tuple[str, ComplexArray]]:
        """What mains transformers send by their capacitance into the sheet and signal earth, by node, and what of it
        leaves by the inlet's earth."""
        wiring = self.laid.wiring
        if wiring.protective is None:
            return
        inlet, whole = wiring.protective[0], np.zeros(HARMONICS, dtype=complex)
        ways = [(frame.key, self.sources.leak("")) for frame in wiring.frames]
        for frame in wiring.frames:
            for winding in (*frame.body.blocks, "heater"):
                earthed = next((one.key for one in wiring.earths if one.pin.name == f"{winding} {REFERENCE}"), None)
                earthed = earthed or next(
                    (one.key for one in wiring.earths for attached in one.pin.attached
                     if block_of(self.amplifier.netlist[attached.part]) == winding), None
                )  # fmt: skip
                if earthed is not None:
                    ways.append((earthed, self.sources.leak(winding)))
        for key, leak in ways:
            yield key, leak
            whole += leak
        yield inlet.key, -whole

    def _earth_volts(self) -> ComplexArray:
        return self.laid.earth.volts(self.hertz, self.returned)

    # Causes.

    def _magnetic(
        self, channel: int, gains: ComplexArray, induced: Sequence[tuple[PairSource, ComplexArray]],
        strayed: Sequence[tuple[IronSource, ComplexArray]], supply: ComplexArray,
    ) -> list[Cause]:  # fmt: skip
        causes = []
        grouped: dict[str, list[tuple[PairSource, ComplexArray]]] = defaultdict(list)
        for source, emf in induced:
            grouped[f"{source.pair.kind}:{source.pair.of}"].append((source, emf))
        for several in grouped.values():
            emf = np.sum([one for _, one in several], axis=0)
            name = several[0][0].name
            loudest = max(several, key=lambda one: rms((gains * one[1]).sum(axis=0)))[0].pair
            causes.append(self._cause(name, loudest.key, "magnetic", gains * emf, WIRES_UNSURE))
        causes.append(self._cause("Charging current in supply and earth wires", "supply", "magnetic", gains * supply,
                                  WIRES_UNSURE))  # fmt: skip
        for iron, emf in strayed:
            causes.append(self._cause(iron.body.title, iron.body.key, "magnetic", gains * emf, iron.unsure))
            causes += self._into_bodies(channel, iron)
        return causes

    def _cause(
        self, source: str, key: str, way: str, parts: ComplexArray, unsure: float,
    ) -> Cause:  # fmt: skip
        """A cause by what it gives through each wire, (wires, harmonics)."""
        whole = parts.sum(axis=0)
        names, which = self._grouped
        loudest = (np.abs(which @ parts) ** 2).sum(axis=1)
        most = names[int(np.argmax(loudest))] if len(names) else EARTH
        hertz = float(self.hertz[int(np.argmax(np.abs(whole)))])
        return Cause(source, key, way, f"the wires of {most.name}", f"net:{most.node}:{most.channel}", rms(whole),
                     hertz, unsure)  # fmt: skip

    @lazily
    def _grouped(self) -> tuple[list[Net], Array]:
        """The nets of signal, and which ways are of which: (nets, ways)."""
        names = [net for net in dict.fromkeys(self.nets) if net != EARTH]
        places = {net: place for place, net in enumerate(names)}
        which = np.zeros((len(names), len(self.nets)))
        for way, net in enumerate(self.nets):
            if net in places:
                which[places[net], way] = 1.0
        return names, which

    def _into_bodies(self, channel: int, iron: IronSource) -> list[Cause]:
        """A stray field in output transformers and in tubes."""
        dipole, causes = self._dipole(iron), []
        for body in self.laid.bodies:
            placed = self.placed.get(body.key)
            if placed is None or body is iron.body or body.channel not in (0, channel):
                continue
            at = self.lowered(in_room(self.box, placed, (0.0, 0.0, body.sizes.above * 0.45)))
            emf = np.zeros(HARMONICS, dtype=complex)
            if body.family == "transformer":
                axis = direction(self.box, placed, coil_axis(body))
                use = next(use for use in self.amplifier.compiled.transformers if use.block in body.blocks)
                emf = self._in_core(use.part, use.block) * self._field(at, dipole, axis, iron)
                emf *= SCREEN_SHARE[body.screen or "none"]
                gain = self._of(Attached(use.part, 0, channel))
                causes.append(self._spot(iron, body, "in its core", gain * emf, iron.unsure * 1.5))
            elif body.family == "tube":
                # Its leads stand upright, which way round is not known: what is level of the field goes through.
                across, along = (self._field(at, dipole, axis, iron) for axis in np.eye(3)[:2])
                emf = -2j * np.pi * self.hertz * _TUBE_AREA * np.hypot(np.abs(across), np.abs(along))
                whole = np.zeros(HARMONICS, dtype=complex)
                for pin in body.pins:
                    for one in pin.attached:
                        if one.channel in (0, channel) and one.is_grid(self.amplifier.netlist):
                            whole += self._of(one) * emf
                causes.append(self._spot(iron, body, "inside the tube", whole, INSIDE_UNSURE * 1.5))
        return causes

    def _field(self, at: Array, dipole: Dipole, axis: Array, iron: IronSource) -> ComplexArray:
        """The field of a stray moment along an axis somewhere, T, (harmonics,)."""
        unit = np.array([flux_density(at, dipole, self.laid.sheet, hertz) @ axis for hertz in self.hertz[:1]])
        found: ComplexArray = unit[0] * iron.moment
        return found

    def _in_core(self, part: str, block: str) -> ComplexArray:
        """The EMF in a signal transformer's primary for 1 T along its coil, V: a core that its full power at its
        lowest frequency takes to ``_CORE_TESLA`` has so many turns times area."""
        of = self.amplifier.design.block(block)
        rating = getattr(of, "core", None)
        ohm = float(getattr(of, "primary_ohm", 0.0) or 5000.0)
        watt, low = (rating.watt, rating.hertz) if rating else (10.0, 40.0)
        linkage = np.sqrt(2 * watt * ohm) / (2 * np.pi * low) / _CORE_TESLA
        found: ComplexArray = -2j * np.pi * self.hertz * linkage * _GATHERS
        return found

    def _spot(self, iron: IronSource, body: Body, where: str, phasors: ComplexArray, unsure: float) -> Cause:
        hertz = float(self.hertz[int(np.argmax(np.abs(phasors)))])
        return Cause(iron.body.title, iron.body.key, "magnetic", f"{body.title}, {where}", body.key, rms(phasors),
                     hertz, unsure)  # fmt: skip

    # Capacitive.

    def _capacitive(self, channel: int, pushed: Sequence[Push]) -> list[Cause]:
        grouped: dict[str, dict[Net, ComplexArray]] = defaultdict(dict)
        first: dict[str, str] = {}
        for push in pushed:
            net = push.net
            if net.channel not in (0, channel):
                continue
            name = push.driver.name
            first.setdefault(name, push.driver.key)
            left = self.transfers.of_current(net.node) * push.amperes
            grouped[name][net] = grouped[name].get(net, 0) + left
        causes = []
        for name, by_net in grouped.items():
            whole = np.sum(list(by_net.values()), axis=0)
            net = max(by_net, key=lambda one: rms(by_net[one]))
            hertz = float(self.hertz[int(np.argmax(np.abs(whole)))])
            causes.append(Cause(name, first[name], "capacitive", f"the wires of {net.name}",
                                f"net:{net.node}:{net.channel}", rms(whole), hertz, CAPACITIVE_UNSURE))  # fmt: skip
        return causes

    def _earth(self, channel: int) -> list[Cause]:
        """What the returns leave across the earth wires."""
        weights = self.earth_weights(channel)
        parts = weights * self._earth_volts()
        whole = parts.sum(axis=0)
        place = int(np.argmax([rms(part) for part in parts])) if len(parts) else 0
        hertz = float(self.hertz[int(np.argmax(np.abs(whole)))])
        terminal = next((one for one in self.laid.wiring.earths if one.key == self.laid.earth.nodes[place]), None)
        path = f"the earth of {terminal.body.title}" if terminal else "earth"
        key = terminal.body.key if terminal else "earth"
        return [Cause("Returns in the earth wiring", "earth", "earth", path, key, rms(whole), hertz, EARTH_UNSURE)]

    def _elsewhere(self) -> list[Cause]:
        """What is there whatever the layout: ripple on the rails, and leakage in the tubes."""
        known, found = quiet(self.amplifier), []
        mains = self.amplifier.design.brief.mains_hertz
        if known.hum_volt > 0:
            rail = known.hum_causes[0].name or "a filament" if known.hum_causes else ""
            found.append(Cause("Ripple on the rails", "rails", "supply", rail, "rails", known.hum_volt,
                               known.hum_hertz, 1.2))  # fmt: skip
        leaks = heater_hum(self.amplifier)
        if leaks:
            volt = float(np.sqrt(sum(one.volt**2 for one in leaks)))
            part = leaks[0].part
            found.append(
                Cause("Leakage from heaters to cathodes", "leak", "leakage", part, part, volt, mains, LEAK_UNSURE)
            )
        return found


@cache
def _between() -> Array:
    """The weights by which what is computed at a few harmonics stands for all: straight over the logarithm of
    frequency, (anchors, harmonics)."""
    orders, places = np.log(np.arange(1, HARMONICS + 1)), np.log(_ANCHORS)
    return np.stack([np.interp(orders, places, row) for row in np.eye(len(_ANCHORS))])


def _beyond(wires: Sequence[Wire]) -> list[list[Terminal]]:
    """For each wire of a net's tree, the terminals on the side of its second end."""
    beside: dict[str, list[tuple[str, int]]] = defaultdict(list)
    terminals: dict[str, Terminal] = {}
    for number, wire in enumerate(wires):
        one, other = wire.ends
        terminals[one.key], terminals[other.key] = one, other
        beside[one.key].append((other.key, number))
        beside[other.key].append((one.key, number))
    found = []
    for number, wire in enumerate(wires):
        seen, pending = {wire.ends[1].key}, [wire.ends[1].key]
        while pending:
            for key, by in beside[pending.pop()]:
                if by != number and key not in seen:
                    seen.add(key)
                    pending.append(key)
        found.append([terminals[key] for key in seen])
    return found
