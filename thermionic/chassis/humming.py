"""What hums in a layout and what that does: the EMF of every source in every wire, the currents that come back by
earth, and what a volt in any of these does at the load.

Every alternating current and moment induces an EMF along every wire; every alternating voltage drives a current into
every wire by the capacitance between them; the returns of all stages flow in the earth wiring. Each of these is
carried to the load by the solved circuit (``transfer``). What one source does by all the wires of its way adds with
its phases, for one wire's EMF is nothing without that of the wire that closes its loop; sources are added by their
squares, as which way round each is wired is not known.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from functools import cache
from typing import TYPE_CHECKING

import numpy as np

from thermionic.chassis.fields import Dipole, Filaments, Pieces, flux_density, linkage, through_dipole
from thermionic.chassis.geometry import direction, in_room
from thermionic.chassis.making import REFERENCE
from thermionic.chassis.nets import EARTH, Net, block_of, nets_of
from thermionic.chassis.sources import IronSource, PairSource, Sources, coil_axis
from thermionic.chassis.transfer import HARMONICS
from thermionic.chassis.wires import UNTWISTED, Terminal, Wire
from thermionic.devices.base import Array, ComplexArray
from thermionic.errors import Unbalanced
from thermionic.lazily import lazily
from thermionic.performance.levels import reference_output

if TYPE_CHECKING:
    from thermionic.chassis.laid import Laid

_FLOOR = 0.03  # of an untwisted pair's field that is left of a pair twisted by hand, however far away
_ANCHORS = np.array([1, 2, 5, 12])  # the harmonics at which the sheet is computed
_BALANCED, _NOTHING = 1e-3, 1e-9  # of the largest current into earth, and A: what may be left of their sum
_CARRIES = 2e-3  # A, of a wire whose field is computed


class Humming:
    """The hum of a layout, piece by piece: EMFs, what they do, what the returns leave."""

    def __init__(self, laid: Laid) -> None:
        self.laid, self.layout, self.transfers = laid, laid.layout, laid.transfers
        self.amplifier = laid.amplifier
        self.box = laid.layout.box
        self.placed = {placed_body.body: placed_body for placed_body in laid.layout.placed}
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
        result: Array = points + self._half
        return result

    @lazily
    def reference(self) -> float:
        """The load's volts at 1 W, or the reference output of a line stage, V rms."""
        output = reference_output(self.amplifier)
        return float((output * self.amplifier.load.ohm) ** 0.5 if self.amplifier.load.power else output)

    @lazily
    def rails(self) -> frozenset[Net]:
        """The nets that are rails."""
        return frozenset(nets_of(self.amplifier.compiled).rails)

    @lazily
    def pairs(self) -> list[tuple[PairSource, ComplexArray]]:
        """Every pair, with the EMF that it leaves in every wire, V, (wires, harmonics)."""
        sources = [self.sources.pair(pair) for pair in self.laid.wiring.pairs]
        return list(zip(sources, self.induced(sources), strict=True))

    @lazily
    def irons(self) -> list[tuple[IronSource, ComplexArray]]:
        """Every stray moment, with the EMF that it leaves in every wire, V, (wires, harmonics)."""
        result = [iron for body in self.laid.bodies if body.key in self.placed
                 and (iron := self.sources.iron(body, self.layout)) is not None]  # fmt: skip
        return [(iron, self._strayed(iron)) for iron in result]

    @property
    def earth_emf(self) -> ComplexArray:
        """The EMF that every field together makes along each way of earth, V, (ways, harmonics)."""
        whole = np.zeros((len(self.ways), HARMONICS), dtype=complex)
        for _, one in (*self.pairs, *self.irons):
            whole += one
        result: ComplexArray = whole[len(self.wires) :]
        return result

    # What a volt in each wire does.

    def gains(self, channel: int) -> ComplexArray:
        """The load's volts for a volt in each wire, from its first end to its second, (wires, harmonics)."""
        result = np.zeros((len(self.ways), HARMONICS), dtype=complex)
        by_net: dict[Net, list[int]] = defaultdict(list)
        for number, wire in enumerate(self.wires):
            by_net[wire.net].append(number)
        for net, numbers in by_net.items():
            if net.channel not in (0, channel):
                continue
            beyond = _beyond([self.wires[number] for number in numbers])
            for number, terminals in zip(numbers, beyond, strict=True):
                result[number] = sum(
                    (self._weight(terminal, channel) for terminal in terminals), np.zeros(HARMONICS, dtype=complex)
                )
        _, by_emf = self.laid.earth.adjoint(self.hertz, self.earth_weights(channel))
        result[len(self.wires) :] = self.laid.earth.carried.T @ by_emf
        return result

    def _weight(self, terminal: Terminal, channel: int) -> ComplexArray:
        """The load's volts for a volt at all parts that meet at a pin."""
        return sum(
            (self.transfers.of_terminal(one) for one in terminal.pin.attached if one.channel in (0, channel)),
            np.zeros(HARMONICS, dtype=complex),
        )

    def earth_weights(self, channel: int) -> ComplexArray:
        """The load's volts for a volt at each node of earth, (nodes, harmonics)."""
        at = {node: place for place, node in enumerate(self.laid.earth.nodes)}
        weights = np.zeros((len(at), HARMONICS), dtype=complex)
        for terminal in self.laid.wiring.earths:
            if terminal.key in at:
                weights[at[terminal.key]] += self._weight(terminal, channel)
        return weights

    # EMFs in the wires.

    def induced(self, sources: Sequence[PairSource]) -> list[ComplexArray]:
        """The EMF that each pair leaves in every wire, V, (wires, harmonics)."""
        if not sources:
            return []
        middle = Pieces.of([self.lowered(source.pair.points) for source in sources])
        spacing, pitch = (
            np.array([getattr(source.pair, name) for source in sources])[middle.wire] for name in ("spacing", "pitch")
        )
        filaments = Filaments(
            middle,
            middle.wire,
            middle.sideways * spacing[:, None] / 2,
            np.where(middle.near_ends(UNTWISTED), 0.0, pitch),
        )
        at = linkage(
            self.pieces, len(self.ways), filaments, len(sources), self.laid.sheet, self.hertz[0] * _ANCHORS, _FLOOR
        )
        return [
            -2j * np.pi * self.hertz * (at[:, number].T @ _between()) * source.amperes
            for number, source in enumerate(sources)
        ]

    def dipole(self, iron: IronSource) -> Dipole:
        """Where a stray moment is, and its direction."""
        placed, body = self.placed[iron.body.key], iron.body
        middle = (body.sizes.above - min(body.sizes.below, body.sizes.above)) / 2
        at = self.lowered(in_room(self.box, placed, (0.0, 0.0, middle)))
        return Dipole(at, direction(self.box, placed, coil_axis(body)))

    def field(self, at: Array, dipole: Dipole, axis: Array, iron: IronSource) -> ComplexArray:
        """The field of a stray moment along an axis somewhere, T, (harmonics,)."""
        result: ComplexArray = flux_density(at, dipole, self.laid.sheet, self.hertz[0]) @ axis * iron.moment
        return result

    def _strayed(self, iron: IronSource) -> ComplexArray:
        """The EMF that a stray moment leaves in every wire, V, (wires, harmonics)."""
        dipole = self.dipole(iron)
        linked = through_dipole(self.pieces, dipole, self.laid.sheet, self.hertz[0] * _ANCHORS)
        at = self.pieces.add_up(linked, len(self.ways))
        result: ComplexArray = -2j * np.pi * self.hertz * (at.T @ _between()) * iron.moment
        return result

    def supply_emf(self) -> ComplexArray:
        """The EMF in every wire by the currents in the HT's wires and in those of earth, (wires, harmonics)."""
        amperes = self.wire_amperes()
        carrying = np.flatnonzero(np.sqrt((np.abs(amperes) ** 2).sum(axis=1) / 2) > _CARRIES)
        if len(carrying) == 0:
            return np.zeros((len(self.ways), HARMONICS), dtype=complex)
        pieces = Pieces.of([self.ways[number] for number in carrying])
        filaments = Filaments(pieces, pieces.wire, np.zeros_like(pieces.start), np.zeros(len(pieces.wire)))
        at = linkage(self.pieces, len(self.ways), filaments, len(carrying), self.laid.sheet, self.hertz[0] * _ANCHORS)
        whole = np.einsum("agw,ah,gh->wh", at, _between(), amperes[carrying], optimize=True)
        result: ComplexArray = -2j * np.pi * self.hertz * whole
        return result

    def wire_amperes(self) -> ComplexArray:
        """The mains' harmonics of the current in each wire from its first to its second end, A."""
        result = np.zeros((len(self.ways), HARMONICS), dtype=complex)
        by_net: dict[Net, list[int]] = defaultdict(list)
        for number, wire in enumerate(self.wires):
            if wire.kind == "HT":
                by_net[wire.net].append(number)
        for numbers in by_net.values():
            for number, terminals in zip(numbers, _beyond([self.wires[k] for k in numbers]), strict=True):
                for terminal in terminals:
                    for one in terminal.pin.attached:
                        result[number] -= self.transfers.current(one)
        earth = self.laid.earth
        through = earth.through(self.hertz, self.earth_volts())
        # What flows in the sheet spreads; it is not counted as a source.
        wired = np.array([link.wire is not None for link in earth.links], dtype=float)
        result[len(self.wires) :] = (earth.carried * wired[:, None]).T @ through
        return result

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
            if key in at:
                amperes[at[key]] += leak
        return amperes

    def check_earth(self) -> None:
        """Raise Unbalanced where the currents into earth do not add up to nothing, within a thousandth of the
        largest: what flows into a conductor with no other way out must leave it."""
        largest = float(np.abs(self.returned).max(initial=0.0))
        rest = float(np.abs(self.returned.sum(axis=0)).max(initial=0.0))
        if rest > max(_BALANCED * largest, _NOTHING):
            raise Unbalanced(
                f"The currents that come back by earth do not add up: {rest:.2g} A of {largest:.2g} A have no way "
                "out. That is an error of ours in this design; so no hum is shown, and no comparison of earth wiring."
            )

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
                earthed = next(
                    (earth.key for earth in wiring.earths if earth.pin.name == f"{winding} {REFERENCE}"), None
                )
                earthed = earthed or next(
                    (earth.key for earth in wiring.earths for attached in earth.pin.attached
                     if block_of(self.amplifier.netlist[attached.part]) == winding), None
                )  # fmt: skip
                if earthed is not None:
                    ways.append((earthed, self.sources.leak(winding)))
        for key, leak in ways:
            yield key, leak
            whole += leak
        yield inlet.key, -whole

    def earth_volts(self) -> ComplexArray:
        """The voltage of each node of earth by what its pins send into it, V, (nodes, harmonics)."""
        return self.laid.earth.volts(self.hertz, self.returned)


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
    result = []
    for number, wire in enumerate(wires):
        seen, pending = {wire.ends[1].key}, [wire.ends[1].key]
        while pending:
            for key, by in beside[pending.pop()]:
                if by != number and key not in seen:
                    seen.add(key)
                    pending.append(key)
        result.append([terminals[key] for key in seen])
    return result
