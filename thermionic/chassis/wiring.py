"""Every wire that a layout needs, from pin to pin, with its way.

The wires of a net make a tree of least length over the pins that it joins. What carries the mains, a heater's or a
rectifier's alternating current goes in pairs, along the edges of the box; signal earth goes by the school that the
layout has (``earthing``). Wires lie under the top sheet, each class at its own depth, with square corners.
"""

from __future__ import annotations

import itertools
from collections import defaultdict
from collections.abc import Iterable, Sequence
from operator import itemgetter

import numpy as np
from scipy.sparse.csgraph import minimum_spanning_tree

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import HeaterFeed, HeaterUse, Rectified, Winding
from thermionic.chassis.body import Body, Pin
from thermionic.chassis.document import Layout, Placed
from thermionic.chassis.geometry import in_room
from thermionic.chassis.nets import EARTH, Net, nets_of
from thermionic.chassis.wires import (
    DEPTH,
    FRAME,
    HEATER_SPACING,
    MAINS_SPACING,
    Kind,
    Pair,
    Terminal,
    Wire,
    Wiring,
)
from thermionic.devices.base import Array

_EDGES = {"mains", "HT AC", "heater"}
_EDGE = 0.008  # m, of a wire in a corner from the walls


def wired(amplifier: SolvedAmplifier, bodies: Sequence[Body], layout: Layout) -> Wiring:
    """The wires of a layout; what is not placed has none."""
    placed = {placed_body.body: placed_body for placed_body in layout.placed}
    here = [body for body in bodies if body.key in placed]

    def named(body: Body, pin: Pin) -> Terminal:
        return Terminal(body, pin, in_room(layout.box, placed[body.key], pin.at))

    nets: dict[Net, list[Terminal]] = defaultdict(list)
    for body in here:
        for pin in body.pins:
            if pin.net is not None:
                nets[pin.net].append(named(body, pin))
    earths = tuple(nets.pop(EARTH, ()))
    way = Way(layout)
    kinds = _Kinds(amplifier)
    wires: list[Wire] = []
    for net, terminals in nets.items():
        for one, other in tree(terminals):
            wires.append(way.wire(kinds.of(net, one, other), net, one, other))
    pairs = _Pairs(amplifier, here, placed, way).all()
    frames = tuple(named(body, Pin(FRAME, (0.0, 0.0, 0.0))) for body in here if body.nature.mains_iron)
    inlet, bolt = protective_ends(here)
    protective = None
    if inlet and bolt:
        ends = [named(body, body.pin(body.nature.protective_pin)) for body in (inlet, bolt)]
        protective = ends[0], ends[1]
    return Wiring(tuple(wires), tuple(pairs), earths, frames, protective)


def protective_ends(bodies: Sequence[Body]) -> tuple[Body | None, Body | None]:
    """The ends of protective earth's wire: the mains inlet and the bolt; None for what is not there."""
    ends = [body for body in bodies if body.nature.protective_pin]
    inlet = next((body for body in ends if body.nature.mains_stop is not None), None)
    return inlet, next((body for body in ends if body.nature.mains_stop is None), None)


def tree(terminals: Sequence[Terminal]) -> list[tuple[Terminal, Terminal]]:
    """The joints of a net, by least length (by x, y and z together, as wires go)."""
    if len(terminals) < 2:
        return []
    at = np.array([terminal.at for terminal in terminals])
    apart = np.abs(at[:, None] - at[None]).sum(axis=2)
    # A zero would be no joint to scipy: terminals at one place are a nanometre apart.
    joints = minimum_spanning_tree(apart + 1e-9).tocoo()
    return [
        (terminals[one], terminals[other])
        for one, other in zip(joints.row.tolist(), joints.col.tolist(), strict=True)
    ]


class _Kinds:
    """Which class the wires of a net are of."""

    def __init__(self, amplifier: SolvedAmplifier) -> None:
        self.nets = nets_of(amplifier.compiled)
        compiled = amplifier.compiled
        self.rails = {net: "bias" if rail.bias else "HT" for net, rail in self.nets.rails.items()}
        loads = {
            self.nets.of(load.node, channel) for load in compiled.loads for channel in self.nets.copies(load.block)
        }
        iron = {
            self.nets.of(node, channel)
            for use in compiled.transformers
            for node in amplifier.netlist[use.part].nodes
            for channel in self.nets.copies(use.block)
        }
        self.output = (iron | loads) - {EARTH}
        self.loops = self.nets.loops

    def of(self, net: Net, one: Terminal, other: Terminal) -> Kind:
        if net in self.rails:
            return "bias" if self.rails[net] == "bias" else "HT"
        if any(attached.part in self.loops for end in (one, other) for attached in end.pin.attached) and (
            net in self.output
        ):
            return "feedback"
        return "output" if net in self.output else "signal"


class Way:
    """How a wire goes from here to there in a layout's box."""

    def __init__(self, layout: Layout) -> None:
        self.layout, self.box = layout, layout.box
        self._choices = {wire.wire: wire for wire in layout.wires}

    def wire(self, kind: Kind, net: Net, one: Terminal, other: Terminal) -> Wire:
        """A wire between two terminals, as the layout's choices have it."""
        if other.key < one.key:
            one, other = other, one
        key = f"{one.key} > {other.key}"
        choice = self._choices.get(key)
        bends = choice.bends if choice else None
        points = self.points(one.at, other.at, kind, bends)
        return Wire(key, kind, net, (one, other), points, bool(choice and choice.shielded), bends is not None)

    def points(
        self, start: Array, end: Array, kind: Kind, bends: Sequence[tuple[float, float]] | None = None
    ) -> Array:
        """The way of a wire of a class: (points, 3)."""
        depth = -self.box.sheet - DEPTH[kind]
        plan: list[tuple[float, float]]
        if bends is not None:
            plan = [(start[0], start[1]), *bends, (end[0], end[1])]
        elif kind in _EDGES:
            plan = self._along_edges(start, end)
        else:
            plan = [(start[0], start[1]), (end[0], start[1]), (end[0], end[1])]
            if abs(end[1] - start[1]) > abs(end[0] - start[0]):
                plan[1] = (start[0], end[1])
        points = [start, *(np.array([x, y, depth]) for x, y in plan), end]
        kept = [points[0]]
        for point in points[1:]:
            if np.abs(point - kept[-1]).max() > 1e-4:
                kept.append(point)
        return np.array(kept if len(kept) > 1 else [start, end])

    def _along_edges(self, start: Array, end: Array) -> list[tuple[float, float]]:
        """Out to the nearest edge, round by the shorter way, and in again; straight across where that is hardly
        longer than to the edge and back."""
        w, d = self.box.width, self.box.depth
        low, high = np.array([_EDGE, _EDGE]), np.array([w - _EDGE, d - _EDGE])
        a, b = np.clip(start[:2], low, high), np.clip(end[:2], low, high)
        one, other = self._edge(a), self._edge(b)
        direct = float(np.abs(a - b).sum())
        if direct <= float(np.abs(a - one).sum() + np.abs(b - other).sum()) or direct < 0.03:
            return [(start[0], start[1]), (b[0], a[1]), (end[0], end[1])]
        return [(start[0], start[1]), tuple(one), *self._round(one, other), tuple(other), (end[0], end[1])]

    def _edge(self, at: Array) -> Array:
        """The nearest place along the edges."""
        w, d = self.box.width, self.box.depth
        places = [(_EDGE, at[1]), (w - _EDGE, at[1]), (at[0], _EDGE), (at[0], d - _EDGE)]
        return np.array(min(places, key=lambda place: abs(place[0] - at[0]) + abs(place[1] - at[1])))

    def _round(self, one: Array, other: Array) -> list[tuple[float, float]]:
        """The corners between two places along the edges, the shorter way."""
        w, d = self.box.width - 2 * _EDGE, self.box.depth - 2 * _EDGE
        corners = [(_EDGE, _EDGE), (_EDGE + w, _EDGE), (_EDGE + w, _EDGE + d), (_EDGE, _EDGE + d)]
        at_corner = [0.0, w, w + d, 2 * w + d]
        whole = 2 * (w + d)

        def along(place: Array) -> float:
            x, y = place[0] - _EDGE, place[1] - _EDGE
            if y < 1e-6:
                return float(x)
            if x > w - 1e-6:
                return float(w + y)
            if y > d - 1e-6:
                return float(2 * w + d - x)
            return float(whole - y)

        s, t = along(one), along(other)
        forward = (t - s) % whole
        if forward <= whole / 2:
            passed = [(c - s) % whole for c in at_corner]
            return [corners[k] for k in np.argsort(passed) if 1e-6 < passed[k] < forward - 1e-6]
        passed = [(s - c) % whole for c in at_corner]
        return [corners[k] for k in np.argsort(passed) if 1e-6 < passed[k] < whole - forward - 1e-6]


class _Pairs:
    """The pairs: mains, heaters, and from the windings to their rectifiers."""

    def __init__(
        self, amplifier: SolvedAmplifier, bodies: Sequence[Body], placed: dict[str, Placed], way: Way
    ) -> None:
        self.amplifier, self.bodies, self.placed, self.way = amplifier, bodies, placed, way
        self.compiled = amplifier.compiled
        self.nets = nets_of(amplifier.compiled)
        self.iron = [body for body in bodies if body.nature.mains_iron]

    def all(self) -> Iterable[Pair]:
        """Every pair."""
        yield from self._mains()
        yield from self._rectifiers()
        yield from self._heaters()

    def _place(self, body: Body, pins: Sequence[str]) -> Array:
        """The middle of some pins of a body, in the room."""
        own = {pin.name: pin.at for pin in body.pins}
        at = np.mean([own[pin] for pin in pins if pin in own] or [(0.0, 0.0, -body.sizes.below)], axis=0)
        return in_room(self.way.box, self.placed[body.key], tuple(at))

    def _mains(self) -> Iterable[Pair]:
        stops = [(stop, body) for body in self.bodies if (stop := body.nature.mains_stop) is not None]
        if not stops or not self.iron:
            return
        places = [
            (body.key, self._place(body, [pin.name for pin in body.pins]))
            for _, body in sorted(stops, key=itemgetter(0))
        ]
        for iron in self.iron:
            primary = iron.key, self._place(iron, ("live", "neutral"))
            yield self._pair("mains", "mains", places[-1], primary, 0.03)
        for one, other in itertools.pairwise(places):
            yield self._pair("mains", "mains", one, other, 0.03)

    def _pair(
        self, kind: Kind, of: str, one: tuple[str, Array], other: tuple[str, Array], pitch: float,
        behind: tuple[Body, ...] = (),
    ) -> Pair:  # fmt: skip
        key = f"{of}: {one[0]} > {other[0]}"
        choice = self.way.layout.choice(key)
        points = self.way.points(one[1], other[1], kind, choice.bends)
        spacing = MAINS_SPACING if kind in ("mains", "HT AC") else HEATER_SPACING
        return Pair(key, kind, of, points, spacing, pitch, (one[0], other[0]), behind)

    def _rectifiers(self) -> Iterable[Pair]:
        windings = {winding.block: winding for winding in self.compiled.said(Winding)}
        for use in self.compiled.said(Rectified):
            iron = next((body for body in self.iron if use.winding in body.blocks), None)
            there = self._holding(use.parts)
            if iron is None or there is None:
                continue
            ends = [f"{use.winding} {end}" for end in ("a", "centre", "b")]
            pins = [pin.name for pin in there.pins if any(one.part in use.parts for one in pin.attached)]
            pitch = 0.03 if windings[use.winding].block else 0.0
            yield self._pair(
                "HT AC",
                use.winding,
                (iron.key, self._place(iron, ends)),
                (there.key, self._place(there, pins)),
                pitch,
            )

    def _holding(self, parts: Sequence[str]) -> Body | None:
        return next(
            (body for body in self.bodies if any(one.part in parts for pin in body.pins for one in pin.attached)),
            None,
        )

    def _heaters(self) -> Iterable[Pair]:
        tubes = [body for body in self.bodies if body.heaters]
        fed: set[str] = set()
        for feed in self.compiled.said(HeaterFeed):
            uses = [use for use in self.compiled.said(HeaterUse) if use.block == feed.block]
            names = {use.envelope for use in uses}
            fed |= names
            heated = [body for body in tubes if body.envelope in names]
            iron = next((body for body in self.iron if feed.winding and feed.winding in body.blocks), None)
            if iron is not None:
                yield from self._chain(feed.block, iron, [f"{feed.winding} a", f"{feed.winding} b"], heated)
            elif not feed.winding and (source := self._fed_from(feed)) is not None:
                yield from self._chain(feed.block, source, [self._hot(source, feed)], heated)
        unfed = [body for body in tubes if body.envelope not in fed]
        iron = next((body for body in self.iron if any(pin.name == "heater a" for pin in body.pins)), None)
        if iron is not None and unfed:
            yield from self._chain("heaters", iron, ["heater a", "heater b"], unfed)

    def _fed_from(self, feed: HeaterFeed) -> Body | None:
        """Where the DC of a heater string is taken from: its regulator, else a can or a strip."""
        holding = [body for body in self.bodies if self._hot(body, feed) and not body.nature.glass]
        return min(holding, key=lambda body: not body.nature.sink, default=None)

    def _hot(self, body: Body, feed: HeaterFeed) -> str:
        net = self.nets.of(feed.node)
        return next((pin.name for pin in body.pins if pin.net == net), "")

    def _chain(self, of: str, iron: Body, pins: Sequence[str], tubes: list[Body]) -> Iterable[Pair]:
        """From the transformer to the nearest bottle, from there to the next."""
        at, start = self._place(iron, pins), iron.key
        left = list(tubes)
        while left:
            here = at
            tube = min(left, key=lambda body: float(np.abs(self._place(body, body.heaters) - here).sum()))
            there = self._place(tube, tube.heaters)
            yield self._pair(
                "heater", of, (start, at), (tube.key, there), self.way.layout.heater_pitch, tuple(left)
            )  # fmt: skip
            left.remove(tube)
            at, start = there, tube.key
