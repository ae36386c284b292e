"""Signal earth as it is wired by each school: a network of wires with resistance, bolts, and the sheet.

``star``: every return has a wire of its own to one point. ``bus``: one wire along the signal's way, from the inputs
to the supply, each return where it comes by. ``local stars``: each stage's returns meet at its tag strip, and the
strips at one point. ``daisy chain``: one wire from each to the nearest, in no order. ``chassis``: each body's return
goes to the sheet where it stands. In all but the last the network meets the sheet at one bolt.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from thermionic.chassis.catalogue import material
from thermionic.chassis.document import Layout
from thermionic.chassis.fields import MU0
from thermionic.chassis.nets import EARTH, PROTECTIVE
from thermionic.chassis.sheet import conductances
from thermionic.chassis.wires import Kind, Terminal, Wire, Wiring, length_of
from thermionic.chassis.wiring import Way
from thermionic.devices.base import Array, ComplexArray
from thermionic.lazily import lazily

COPPER_OHM_METRE = 1.72e-8
# Resistance of a soldered joint and of a bolt through bare metal, Ω: as measured on good ones, unsure by three times.
JOINT_OHM, BOLT_OHM, BREAKER_OHM = 0.5e-3, 1e-3, 10.0
AGED_OHM = 50e-3  # of a bolt's contact to bare metal after years: oxide, a loosened nut; a usual figure, very unsure
SCREEN_OHM = 0.02  # a metre of a usual braid
SHEET = "sheet"
SAME = 0.01  # m: what is bolted nearer than this is on one bolt


@dataclass(frozen=True, eq=False)
class Link:
    """A conductor of the earth network between two of its nodes: Ω and H; the wire that it is, where it is one, and
    whether a bolted contact is in it."""

    key: str
    ends: tuple[str, str]
    ohm: float
    henry: float = 0.0
    wire: Wire | None = None
    bolted: bool = False

    def admittance(self, hertz: Array) -> ComplexArray:
        """S, (frequencies,)."""
        impedance: ComplexArray = (self.ohm + 2j * np.pi * np.asarray(hertz) * self.henry).astype(np.complex128)
        return 1.0 / impedance


@dataclass(frozen=True, eq=False)
class EarthNetwork:
    """Nodes (terminals by key, the sheet's bolts) and the links between them; voltages are to ``reference``.

    ``ways`` are the polylines along which a field makes an EMF: those of the wires, and for the sheet one from its
    first bolt straight to each other; ``carried`` (links, ways) says of which ways each link's EMF is the sum.
    ``sheet`` are the nodes that are places on the sheet."""

    nodes: tuple[str, ...]
    links: tuple[Link, ...]
    reference: str
    ways: tuple[Array, ...] = ()
    carried: Array = field(default_factory=lambda: np.zeros((0, 0)))
    sheet: frozenset[str] = frozenset()

    def with_links(self, links: Sequence[Link], ways: dict[str, Array] | None = None) -> EarthNetwork:
        """The same ways with other links, each with the EMF that its key had before; a new one has that of the
        polyline that ``ways`` has for its key, or none."""
        rows = {link.key: row for row, link in enumerate(self.links)}
        more = [link for link in links if ways and link.key in ways]
        carried = np.zeros((len(links), len(self.ways) + len(more)))
        for row, link in enumerate(links):
            if link.key in rows:
                carried[row, : len(self.ways)] = self.carried[rows[link.key]]
            elif link in more:
                carried[row, len(self.ways) + more.index(link)] = 1.0
        nodes = dict.fromkeys((*self.nodes, *(end for link in links for end in link.ends)))
        added = tuple(ways[link.key] for link in more) if ways else ()
        return replace(self, nodes=tuple(nodes), links=tuple(links), carried=carried, ways=(*self.ways, *added))

    def aged(self) -> EarthNetwork:
        """The same years later: every bolted contact of AGED_OHM, soldered joints as they were."""
        return self.with_links(
            [replace(link, ohm=link.ohm - BOLT_OHM + AGED_OHM) if link.bolted else link for link in self.links]
        )

    @lazily
    def _solved(self) -> dict[bytes, tuple[ComplexArray, ComplexArray]]:
        return {}

    @lazily
    def _incidence(self) -> Array:
        """+1 for a link's first end, -1 for its second: (links, nodes)."""
        at = {node: place for place, node in enumerate(self.nodes)}
        result = np.zeros((len(self.links), len(self.nodes)))
        for row, link in enumerate(self.links):
            result[row, at[link.ends[0]]], result[row, at[link.ends[1]]] = 1.0, -1.0
        return result

    def _admittances(self, hertz: Array) -> tuple[ComplexArray, ComplexArray]:
        """The nodes' impedances, Ω, (frequencies, nodes, nodes), nothing at the reference, and the links' own
        admittances, S, (links, frequencies)."""
        key = np.asarray(hertz, dtype=float).tobytes()
        if key not in self._solved:
            each = np.array([link.admittance(hertz) for link in self.links]).reshape(len(self.links), len(hertz))
            incidence, place = self._incidence, self.nodes.index(self.reference)
            whole = np.stack([incidence.T @ (each[:, k : k + 1] * incidence) for k in range(len(hertz))])
            # What hangs on nothing keeps to earth through a hundred megohms.
            lonely = np.abs(np.einsum("hnn->hn", whole)).max(axis=0) == 0
            whole[:, lonely, lonely] = 1e-8
            kept = np.delete(np.arange(len(self.nodes)), place)
            impedances: ComplexArray = np.zeros(whole.shape, dtype=np.complex128)
            impedances[np.ix_(np.arange(len(hertz)), kept, kept)] = np.linalg.inv(
                whole[np.ix_(np.arange(len(hertz)), kept, kept)]
            )
            self._solved[key] = impedances, each
        return self._solved[key]

    def volts(self, hertz: Array, amperes: ComplexArray, emf: ComplexArray | None = None) -> ComplexArray:
        """The voltage of every node, (nodes, frequencies), for currents into them (nodes, frequencies) and an EMF in
        each link from its first to its second end (links, frequencies)."""
        impedances, each = self._admittances(hertz)
        into = amperes.astype(complex)
        if emf is not None:
            into = into - self._incidence.T @ (each * emf)
        result: ComplexArray = np.einsum("hnm,mh->nh", impedances, into, optimize=True)
        return result

    def through(self, hertz: Array, volts: ComplexArray, emf: ComplexArray | None = None) -> ComplexArray:
        """The current in each link from its first to its second end, A, (links, frequencies)."""
        _, each = self._admittances(hertz)
        drop = self._incidence @ volts
        result: ComplexArray = each * (drop if emf is None else drop + emf)
        return result

    def adjoint(self, hertz: Array, weights: ComplexArray) -> tuple[ComplexArray, ComplexArray]:
        """Of the sum of ``weights`` (nodes, frequencies) times the nodes' voltages: what it gains by an ampere into
        each node (nodes, frequencies), and by a volt of EMF in each link (links, frequencies)."""
        impedances, each = self._admittances(hertz)
        gains: ComplexArray = np.einsum("hnm,nh->mh", impedances, weights.astype(complex), optimize=True)
        return gains, -each * (self._incidence @ gains)


def earth_network(wiring: Wiring, layout: Layout, order: dict[str, float]) -> EarthNetwork:
    """Signal earth as the layout's school wires it, with the screens of wires that are earthed at both ends, the
    frames of mains transformers on the sheet and the way from there to the inlet's earth; ``order`` says how far
    along the signal's way each body is."""
    return _Earths(wiring, layout, order).network()


class _Earths:
    def __init__(self, wiring: Wiring, layout: Layout, order: dict[str, float]) -> None:
        self.wiring, self.layout, self.order = wiring, layout, order
        self.way = Way(layout)
        terminals = wiring.earths
        self.bolt = next((terminal for terminal in terminals if terminal.body.nature.earth_bolt), None)
        self.own = [terminal for terminal in terminals if terminal is not self.bolt]
        self.links: list[Link] = []
        self.sheet: set[str] = set()
        self.spokes: dict[str, Array] = {}

    def network(self) -> EarthNetwork:
        if not self.own or self.bolt is None:
            names = tuple(one.key for one in self.own) or ("none",)
            return EarthNetwork(names, (), names[0])
        within = self._within_bodies()
        school = self.layout.earthing.school
        {
            "star": self._star, "bus": self._bus, "local stars": self._local, "chassis": self._chassis,
            "daisy chain": self._chain,
        }[school](within)  # fmt: skip
        if school != "chassis":
            touching = [] if self.layout.earthing.jacks_insulated else [
                one for one in within if one.body.nature.on_panel
            ]  # fmt: skip
            below = [*touching, *self._mains_side()]
            self._bolted([self.bolt, *below] if below else [])
        self._screens(self.wiring.wires)
        nodes = dict.fromkeys([one.key for one in (self.bolt, *self.own)])
        nodes |= dict.fromkeys(end for link in self.links for end in link.ends)
        ways, carried = self._ways()
        return EarthNetwork(tuple(nodes), tuple(self.links), self.bolt.key, ways, carried, frozenset(self.sheet))

    def _ways(self) -> tuple[tuple[Array, ...], Array]:
        ways = [link.wire.points for link in self.links if link.wire is not None]
        spokes = {name: len(ways) + number for number, name in enumerate(self.spokes)}
        ways += list(self.spokes.values())
        carried = np.zeros((len(self.links), len(ways)))
        wire = 0
        for row, link in enumerate(self.links):
            if link.wire is not None:
                carried[row, wire] = 1.0
                wire += 1
            elif link.ends[0] in self.sheet and link.ends[1] in self.sheet:
                for end, sign in zip(link.ends, (-1.0, 1.0), strict=True):
                    if end in spokes:
                        carried[row, spokes[end]] = sign
        return tuple(ways), carried

    def _within_bodies(self) -> list[Terminal]:
        """One terminal of each body in each channel, its others there joined to it by short wires."""
        together: dict[tuple[str, int], list[Terminal]] = {}
        for one in self.own:
            together.setdefault((one.body.key, _channel(one)), []).append(one)
        for first, *others in together.values():
            for other in others:
                self._join(first, other)
        return [ends[0] for ends in together.values()]

    def _join(self, one: Terminal, other: Terminal, bolted: bool = False, more_ohm: float = 0.0) -> None:
        self._wired("earth", one, other, self.layout.earthing.gauge, bolted, more_ohm)

    def _wired(
        self, kind: Kind, one: Terminal, other: Terminal, square: float, bolted: bool, more_ohm: float = 0.0
    ) -> None:
        """A wire of so many square millimetres, ``bolted`` at one of its ends."""
        wire = self.way.wire(kind, EARTH if kind == "earth" else PROTECTIVE, one, other)
        length = length_of(wire.points)
        gauge = square * 1e-6
        ohm = COPPER_OHM_METRE * length / gauge + 2 * JOINT_OHM + bolted * BOLT_OHM + more_ohm
        # The inductance of a round wire, mu0 l/2pi (ln(2l/a) - 3/4): E. B. Rosa, Bull. Bur. Stand. 4 (1908), p. 301.
        radius = (gauge / np.pi) ** 0.5
        henry = MU0 * length / (2 * np.pi) * max(np.log(max(2 * length / radius, 2.2)) - 0.75, 0.1)
        self.links.append(Link(wire.key, (wire.ends[0].key, wire.ends[1].key), ohm, float(henry), wire, bolted))

    def _breaker(self) -> float:
        return BREAKER_OHM if self.layout.earthing.breaker else 0.0

    def _star(self, ends: list[Terminal]) -> None:
        assert self.bolt is not None
        for end in ends:
            self._join(end, self.bolt, bolted=True)

    def _bus(self, ends: list[Terminal]) -> None:
        assert self.bolt is not None
        shared = sorted((end for end in ends if _channel(end) == 0), key=self._along)
        first = [one for one in shared if self._along(one) <= 1.0]
        supply = [one for one in shared if self._along(one) > 1.0]
        channels = [sorted((end for end in ends if _channel(end) == number), key=self._along) for number in (1, 2)]
        for one, other in itertools.pairwise(supply):
            self._join(one, other)
        for chain in channels:
            whole = [*chain, *supply[:1]]
            for one, other in itertools.pairwise(whole):
                self._join(one, other)
        # What both channels share before the supply (the volume control) is on the bus of the first.
        main = channels[0] or channels[1] or supply
        if not any(channels):
            whole = [*first, *supply[:1]]
            for one, other in itertools.pairwise(whole):
                self._join(one, other)
            main = whole
        else:
            for one in first:
                near = min(main, key=lambda end: abs(self._along(end) - self._along(one)))
                self._join(one, near)
        at = main[0] if self.layout.earthing.bolt == "inputs" else (supply or main)[-1]
        self._join(at, self.bolt, bolted=True, more_ohm=self._breaker())

    def _screens(self, wires: Sequence[Wire]) -> None:
        """A screen that is earthed at both ends joins the earths that are nearest to them."""
        both = {wire.wire for wire in self.layout.wires if wire.shielded and wire.screen == "both ends"}
        for wire in wires:
            if wire.key not in both:
                continue
            ends = [
                min(self.own, key=lambda one, at=at: float(np.abs(one.at - at).sum()))  # type: ignore[misc]
                for at in (wire.points[0], wire.points[-1])
            ]
            if ends[0] is ends[1]:
                continue
            screen = replace(wire, key=f"screen of {wire.key}", kind="earth", net=EARTH, ends=(ends[0], ends[1]))
            ohm = SCREEN_OHM * length_of(wire.points) + 2 * JOINT_OHM
            self.links.append(Link(screen.key, (ends[0].key, ends[1].key), ohm, 1e-9, screen))

    def _chain(self, ends: list[Terminal]) -> None:
        """From the bolt to the nearest, from there to the next, whoever it is."""
        assert self.bolt is not None
        here, left = self.bolt, list(ends)
        while left:
            near = min(left, key=lambda one: float(np.abs(one.at - here.at).sum()))
            self._join(near, here, bolted=here is self.bolt)
            left.remove(near)
            here = near

    def _along(self, one: Terminal) -> float:
        return self.order.get(one.body.key, 2.0)

    def _local(self, ends: list[Terminal]) -> None:
        assert self.bolt is not None
        hubs = [end for end in ends if end.body.nature.hub] or ends[:1]
        for end in ends:
            if end in hubs:
                self._join(end, self.bolt, bolted=True)
                continue
            blocks = set(end.body.blocks)
            alike = [hub for hub in hubs if _channel(hub) in (0, _channel(end))] or hubs
            hub = min(
                alike,
                key=lambda similar: (
                    not blocks & set(similar.body.blocks),
                    abs(self._along(similar) - self._along(end)),
                    float(np.abs(similar.at - end.at).sum()),
                ),
            )
            self._join(end, hub)

    def _chassis(self, ends: list[Terminal]) -> None:
        assert self.bolt is not None
        self._bolted([self.bolt, *ends, *self._mains_side()])

    def _mains_side(self) -> list[Terminal]:
        """What is on the sheet beside signal earth: the bolt of protective earth, with its wire from the inlet, and
        the frames of the mains transformers."""
        if self.wiring.protective is None:
            return []
        inlet, bolt = self.wiring.protective
        self._wired("protective earth", bolt, inlet, self.layout.earthing.protective_gauge, bolted=True)
        return [bolt, *self.wiring.frames]

    def _bolted(self, ends: Sequence[Terminal]) -> None:
        """Terminals that are on the sheet where they stand, and the sheet between them."""
        if not ends:
            return
        box = self.layout.box
        bolts: dict[tuple[float, float], str] = {}
        for end in ends:
            x, y = np.clip(end.at[:2], 0, [box.width, box.depth])
            place = round(float(x) / SAME) * SAME, round(float(y) / SAME) * SAME
            name = bolts.setdefault(place, f"{SHEET} {len(bolts) + 1}")
            self.links.append(Link(f"{end.key} > {name}", (end.key, name), BOLT_OHM + JOINT_OHM, 2e-8, bolted=True))
        names = list(bolts.values())
        self.sheet |= set(names)
        first = next(iter(bolts))
        for place, name in list(bolts.items())[1:]:
            self.spokes[name] = np.array([[*first, -box.sheet], [*place, -box.sheet]])
        between = conductances(box.width, box.depth, sheet_ohm(self.layout), tuple(bolts))
        for i in range(len(names)):
            for j in range(i):
                if -between[i, j] > 1e-3:
                    ends_ = (names[j], names[i])
                    self.links.append(Link(f"{SHEET}: {names[j]} > {names[i]}", ends_, float(-1 / between[i, j])))


def _channel(terminal: Terminal) -> int:
    """The channel that a terminal is of: that of all that meets there, else of its body."""
    channels = {one.channel for one in terminal.pin.attached}
    return channels.pop() if len(channels) == 1 else terminal.body.channel


def sheet_ohm(layout: Layout) -> float:
    """The sheet's resistance a square, Ω."""
    return 1.0 / (material(layout.box.material)["conductivity"] * layout.box.sheet)
