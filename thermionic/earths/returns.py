"""The earth wiring of a layout, solved: every voltage, every current, and what they do at each grid and at the
load."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from thermionic.chassis.body import Attached
from thermionic.chassis.earthing import SHEET, EarthNetwork, Link
from thermionic.chassis.humming import Humming
from thermionic.chassis.laid import Laid
from thermionic.chassis.transfer import rms
from thermionic.chassis.wires import Terminal
from thermionic.circuit.netlist import GROUND
from thermionic.devices.base import Array, ComplexArray
from thermionic.performance.levels import reference_output, source_for

if TYPE_CHECKING:
    import networkx

TONE = 1000.0  # Hz, at which crosstalk is computed


@dataclass(frozen=True)
class EarthNode:
    """A place on signal earth: its key, what it is in words, where (x, y), m; the volts between it and the chassis,
    V rms; what flows into it there, A rms."""

    key: str
    name: str
    at: tuple[float, float]
    volt: float
    ampere: float


@dataclass(frozen=True)
class EarthLink:
    """A conductor of the earth wiring: its key, its ends' keys and names, Ω, the current in it, A rms, with its
    strongest frequency, Hz; whether it is on the way of the charging pulses; its way, (points, 2), m, or None for
    what is no wire."""

    key: str
    ends: tuple[str, str]
    name: str
    ohm: float
    ampere: float
    hertz: float
    pulses: bool
    points: Array | None


@dataclass(frozen=True)
class AtGrid:
    """What the earth wiring puts between a tube's grid and its cathode, V rms, and what that alone leaves at the
    load, V rms."""

    name: str
    volt: float
    at_load: float


@dataclass(frozen=True)
class EarthLoop:
    """A closed loop of earth conductors: in words, its area in the plan, m², the EMF that the fields of this layout
    make in it, V rms, and the current that follows, A rms."""

    name: str
    links: tuple[str, ...]
    area: float
    emf: float
    ampere: float


@dataclass(frozen=True)
class Returns:
    """The earth wiring, solved, for one channel's load. ``crosstalk_db`` is what the other channel leaves in this one
    by the shared earth, at the reference output, dB (None with one channel)."""

    nodes: tuple[EarthNode, ...]
    links: tuple[EarthLink, ...]
    grids: tuple[AtGrid, ...]
    loops: tuple[EarthLoop, ...]
    load_volt: float
    reference_volt: float
    crosstalk_db: float | None
    channel: int

    def below(self, volt: float) -> float:
        """A voltage in dB below the reference."""
        return float(20 * np.log10(self.reference_volt / max(volt, 1e-12)))


def returns(laid: Laid) -> Returns:
    """The earth wiring of a layout, of the worse channel. Raises Unbalanced."""
    laid.humming.check_earth()
    humming = laid.humming
    result = [_of_channel(laid, humming, channel) for channel in humming.numbers]
    return max(result, key=lambda one: one.load_volt)


def _of_channel(laid: Laid, humming: Humming, channel: int) -> Returns:
    earth, hertz = laid.earth, humming.hertz
    amperes = humming.returned
    emf_ways = humming.earth_emf
    emf = earth.carried @ emf_ways
    volts = earth.volts(hertz, amperes)
    induced = earth.volts(hertz, 0 * amperes, emf)
    through = earth.through(hertz, volts + induced, emf)
    weights = humming.earth_weights(channel)
    terminals = {earth.key: earth for earth in laid.wiring.earths}
    pulses = _pulse_links(earth, humming, through)
    return Returns(
        tuple(_node(key, terminals, volts[row], amperes[row]) for row, key in enumerate(earth.nodes)),
        tuple(_link(link, terminals, through[row], hertz, row in pulses) for row, link in enumerate(earth.links)),
        tuple(_grids(laid, humming, channel, volts)),
        tuple(_loops(laid, earth, emf, through)),
        rms((weights * volts).sum(axis=0)),
        laid.hum.reference_volt,
        _crosstalk(laid, channel),
        channel,
    )


def _node(key: str, terminals: dict[str, Terminal], volt: ComplexArray, ampere: ComplexArray) -> EarthNode:
    terminal = terminals.get(key)
    if terminal is None:
        return EarthNode(key, key, (0.0, 0.0), rms(volt), 0.0)
    at = float(terminal.at[0]), float(terminal.at[1])
    return EarthNode(key, f"{terminal.body.title}, {terminal.pin.name}", at, rms(volt), rms(ampere))


def _named(key: str, terminals: dict[str, Terminal]) -> str:
    terminal = terminals.get(key)
    return terminal.body.title if terminal else "the sheet"


def _link(link: Link, terminals: dict[str, Terminal], ampere: ComplexArray, hertz: Array, pulses: bool) -> EarthLink:
    name = " to ".join(_named(end, terminals) for end in link.ends)
    points = link.wire.points[:, :2] if link.wire is not None else None
    strongest = float(hertz[int(np.argmax(np.abs(ampere)))])
    return EarthLink(link.key, link.ends, name, link.ohm, rms(ampere), strongest, pulses, points)


def _pulse_links(earth: EarthNetwork, humming: Humming, through: ComplexArray) -> set[int]:
    """The links on the charging pulses' way: from where the most comes back to where it is taken, along the largest
    currents."""
    drawn = np.sqrt((np.abs(humming.returned) ** 2).sum(axis=1) / 2)
    if len(drawn) < 2 or drawn.max() <= 1e-6:
        return set()
    one, other = (earth.nodes[k] for k in np.argsort(drawn)[::-1][:2])
    import networkx  # large, and only these two want it

    graph: networkx.Graph[str] = networkx.Graph()
    for row, link in enumerate(earth.links):
        graph.add_edge(*link.ends, row=row, weight=1.0 / (rms(through[row]) + 1e-9))
    if one not in graph or other not in graph or not networkx.has_path(graph, one, other):
        return set()
    path = networkx.shortest_path(graph, one, other, weight="weight")
    return {graph.edges[a, b]["row"] for a, b in itertools.pairwise(path)}


def _grids(laid: Laid, humming: Humming, channel: int, volts: ComplexArray) -> list[AtGrid]:
    """At each tube: the earth of its cathode's network against that of its grid's, as it changes grid to cathode."""
    amplifier, at = laid.amplifier, {key: row for row, key in enumerate(laid.earth.nodes)}
    small, hertz = amplifier.small_signal, humming.hertz[:2]
    # What each part at earth does to every node: its own currents, once for all.
    system = amplifier.state.at.system
    push = np.zeros((len(hertz), system.size), dtype=complex)
    for terminal in laid.wiring.earths:
        row = at.get(terminal.key)
        for one in terminal.pin.attached if row is not None else ():
            if one.channel not in (0, channel):
                continue
            local = humming.transfers.local(one.part)
            if local is None:
                continue
            drawn = humming.transfers.moved(one.part, local, one.terminal)
            unknowns = np.array(system.place(one.part).unknowns)
            real = unknowns >= 0
            for k in range(len(hertz)):
                push[k, unknowns[real]] -= drawn[k, real] * volts[row, k]
    moved = np.stack([small.respond(hertz[k : k + 1], push[k][:, None])[0, :, 0] for k in range(len(hertz))])
    at_grids = []
    for use in amplifier.compiled.tubes:

        def potential(node: str) -> ComplexArray:
            node = amplifier.compiled.node(node)
            if node == GROUND:
                return np.zeros(len(hertz), dtype=complex)
            value: ComplexArray = moved[:, system.node(node)]
            return value

        own = potential(use.grid) - potential(use.cathode)
        gain = humming.transfers.of_terminal(Attached(use.part, list(use.nodes).index("grid"), channel))[: len(hertz)]
        at_grids.append(AtGrid(f"{use.part} {use.type.type}", rms(own), rms(own * gain)))
    return at_grids


def _loops(laid: Laid, earth: EarthNetwork, emf: ComplexArray, through: ComplexArray) -> list[EarthLoop]:
    """The loops of a network, the smallest that make up all of them. The sheet is one piece: a loop within it is none
    of wires, and one through it goes the shortest way from bolt to bolt."""
    import networkx

    graph: networkx.Graph[str] = networkx.Graph()
    sheet: networkx.Graph[str] = networkx.Graph()
    terminals = {earth.key: earth for earth in laid.wiring.earths}
    for row, link in enumerate(earth.links):
        one, other = (SHEET if end in earth.sheet else end for end in link.ends)
        if one == other:
            sheet.add_edge(*link.ends, row=row, ohm=link.ohm)
        elif graph.has_edge(one, other):  # a second way between the same two is a loop by itself
            between = f"{link.key} between"
            graph.add_edge(one, between, row=row, begins=one)
            graph.add_edge(between, other, row=None, begins=between)
        else:
            graph.add_edge(one, other, row=row, begins=one)

    def across(begin: str, end: str) -> list[tuple[int, float]]:
        path = networkx.shortest_path(sheet, begin, end, weight="ohm")
        rows = [sheet.edges[a, b]["row"] for a, b in itertools.pairwise(path)]
        return [(row, 1.0 if earth.links[row].ends[0] == a else -1.0) for row, a in zip(rows, path, strict=False)]

    earth_loops = []
    for cycle in networkx.minimum_cycle_basis(graph):
        ordered = _in_order(graph, cycle)
        wires = []
        for a, b in zip(ordered, [*ordered[1:], ordered[0]], strict=True):
            edge = graph.edges[a, b]
            if edge["row"] is not None:
                wires.append((edge["row"], 1.0 if edge["begins"] == a else -1.0))
        steps = []
        for (row, sign), (following, onward) in zip(wires, [*wires[1:], wires[0]], strict=True):
            steps.append((row, sign))
            end, begin = earth.links[row].ends[sign > 0], earth.links[following].ends[onward < 0]
            if end != begin:
                steps += across(end, begin)
        whole = np.sum([sign * emf[row] for row, sign in steps], axis=0)
        around = [terminals[node].at[:2] for node in ordered if node in terminals]
        x, y = np.array([one[0] for one in around]), np.array([one[1] for one in around])
        area = abs(float(np.dot(x, np.roll(y, -1)) - np.dot(y, np.roll(x, -1)))) / 2
        named = [_named(node, terminals) for node in ordered if not node.endswith(" between")]
        names = list(dict.fromkeys(named))
        earth_loops.append(
            EarthLoop(
                ", ".join(names),
                tuple(earth.links[row].key for row, _ in steps),
                area,
                rms(whole),
                max(rms(through[row]) for row, _ in steps),
            )
        )
    return sorted(earth_loops, key=lambda one: -one.emf)


def _in_order(graph: networkx.Graph, cycle: list[str]) -> list[str]:
    """The nodes of a cycle as one comes by them."""
    inside, ordered = graph.subgraph(cycle), [cycle[0]]
    while len(ordered) < len(cycle):
        ordered.append(next((n for n in inside[ordered[-1]] if n not in ordered), ordered[0]))
    return ordered


def _crosstalk(laid: Laid, channel: int) -> float | None:
    """What the other channel's signal leaves in this one by the earth that they share, dB against it."""
    amplifier = laid.amplifier
    if amplifier.design.channels < 2 or channel == 0:
        return None
    other = 3 - channel
    hertz = np.array([TONE])
    driven = source_for(amplifier, reference_output(amplifier)) * np.sqrt(2) / amplifier.tone_volt
    phasors = amplifier.reference_phasors * driven
    system = amplifier.state.at.system
    at = {key: row for row, key in enumerate(laid.earth.nodes)}
    amperes = np.zeros((len(at), 1), dtype=complex)
    weights = np.zeros((len(at), 1), dtype=complex)
    tone = laid.transfers.at(hertz)
    for terminal in laid.wiring.earths:
        row = at.get(terminal.key)
        for one in terminal.pin.attached if row is not None else ():
            if one.channel in (0, channel):
                weights[row] += tone.of_terminal(one)
            local = tone.local(one.part) if one.channel in (0, other) else None
            if local is not None:
                place = system.place(one.part)
                row_of = tone.moved(one.part, local.transpose(0, 2, 1), one.terminal)[0]
                amperes[row, 0] -= row_of @ system.local(place, phasors)
    left = float(abs((weights * laid.earth.volts(hertz, amperes)).sum()))
    own = abs(phasors[system.node(amplifier.compiled.node(amplifier.load.node))])
    return 20 * float(np.log10(max(left, 1e-12) / max(own, 1e-12)))
