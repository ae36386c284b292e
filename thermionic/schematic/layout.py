"""Laying out the sketches of blocks: chains left to right, broken into rows, feedback in lanes underneath."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from typing import TypeVar

from thermionic.blocks import Block, Flow, Group, Sketch, split
from thermionic.blocks.sketch import AXIS, SIGNAL, SUPPLY_RAIL, Figure, Flag, Mark, Point, Symbol
from thermionic.design import Design

# A row is as wide as this, unless one block alone is wider.
WIDEST = 860.0
# How much a character takes of a row, for the ends of wires that go on elsewhere; and the height of a lane of
# feedback.
SUPPLY_FLOWS = (Flow.MAINS, Flow.CORE, Flow.RAIL, Flow.WINDING, Flow.BIAS)
CHARACTER, LANE, MARGIN, GAP = 7.6, 66.0, 14.0, 26.0


Drawn = TypeVar("Drawn", Mark, Symbol, Flag, Figure)


def moved(one: Drawn, dx: float, dy: float) -> Drawn:
    """The same somewhere else; ``dataclasses.replace``, of which a drawing needs a thousand, is ten times as slow."""
    new = object.__new__(type(one))
    new.__dict__.update(one.__dict__, x=one.x + dx, y=one.y + dy)
    return new


@dataclass(frozen=True)
class Ground:
    """What a block stands on: its id and its box."""

    block: str
    x: float
    y: float
    width: float
    height: float


@dataclass
class Sheet:
    """A laid-out drawing: everything in the units of the sketches, from 0 to ``width`` and ``height``."""

    width: float = 0.0
    height: float = 0.0
    marks: list[Mark] = field(default_factory=list)
    wires: list[list[Point]] = field(default_factory=list)
    dots: list[Point] = field(default_factory=list)
    symbols: list[Symbol] = field(default_factory=list)
    flags: list[Flag] = field(default_factory=list)
    figures: list[Figure] = field(default_factory=list)
    grounds: list[Ground] = field(default_factory=list)

    def take(self, other: Sheet | Sketch, dx: float, dy: float) -> None:
        """Put another's content in, moved."""
        self.marks += [moved(mark, dx, dy) for mark in other.marks]
        self.wires += [[(x + dx, y + dy) for x, y in wire] for wire in other.wires]
        self.dots += [(x + dx, y + dy) for x, y in other.dots]
        self.symbols += [moved(symbol, dx, dy) for symbol in other.symbols]
        self.flags += [moved(flag, dx, dy) for flag in other.flags]
        self.figures += [moved(figure, dx, dy) for figure in other.figures]

    def extent(self) -> tuple[float, float]:
        """The highest and lowest of all that is drawn, labels with it."""
        tops = [y for wire in self.wires for _, y in wire] + [flag.y - 12 for flag in self.flags]
        tops += [figure.y - 12 for figure in self.figures] + [symbol.y - 18 for symbol in self.symbols]
        bottoms = [y for wire in self.wires for _, y in wire] + [flag.y + 4 for flag in self.flags]
        bottoms += [figure.y + 4 for figure in self.figures] + [symbol.y + 18 for symbol in self.symbols]
        for mark in self.marks:
            middle, half = mark.y + mark.label[1], 24 if mark.heat else 16
            tops += [mark.y - mark.size[1] / 2, middle - half]
            bottoms += [mark.y + mark.size[1] / 2, middle + half]
        return min(tops, default=0.0), max(bottoms, default=0.0)


def signal_sheet(design: Design) -> Sheet:
    """The signal's way, with feedback underneath."""
    loops = [block for block in design.blocks if block.group is Group.FEEDBACK]
    others = [block for block in design.blocks if block.group not in (Group.FEEDBACK, Group.SUPPLY)]
    return _Layout(design, (Flow.SIGNAL, Flow.PAIR)).sheet(others, loops)


def block_sheet(design: Design, block_id: str) -> Sheet:
    """One block by itself, with flags for what it takes."""
    block = design.block(block_id)
    flows = SUPPLY_FLOWS if block.group is Group.SUPPLY else (Flow.SIGNAL, Flow.PAIR)
    layout = _Layout(design, flows)
    layout.tapped = {}
    return layout.sheet([], [block]) if block.group is Group.FEEDBACK else layout.sheet([block], [])


def supply_sheet(design: Design) -> Sheet:
    """The supplies."""
    blocks = [block for block in design.blocks if block.group is Group.SUPPLY]
    return _Layout(design, SUPPLY_FLOWS).sheet(blocks, [])


class _Layout:
    """One sheet being laid out along references that carry ``flows``."""

    def __init__(self, design: Design, flows: tuple[Flow, ...]) -> None:
        self.design, self.flows = design, flows
        self._main: dict[str, str] = {}
        letters = {section for block in design.blocks for section in block.sections}
        types = {section: design.tube_of(section.partition(".")[0]) for section in letters}
        self.types = {section: type_.type for section, type_ in types.items()}
        self.kinds = {section: type_.section(section[-1]).kind for section, type_ in types.items()}
        self.rails = frozenset(
            f"{block.id}.{port}"
            for block in design.blocks
            for port, flow in block.ports().items()
            if flow in (Flow.RAIL, Flow.BIAS)
        )
        self.tapped: dict[str, set[str]] = {}
        for block in design.blocks:
            if block.group is Group.FEEDBACK:
                for reference in block.references.values():
                    producer, port = split(reference)
                    self.tapped.setdefault(producer, set()).add(port)

    def main_field(self, block: Block) -> str:
        """The reference by which a block hangs on the one to its left; "" for the first of a chain."""
        result = self._main.get(block.id)
        if result is None:
            result = self._main[block.id] = self._find_main(block)
        return result

    def _find_main(self, block: Block) -> str:
        for name, flows in type(block).reference_fields().items():
            if set(flows) & set(self.flows) and Flow.PLACE not in flows and name in block.references:
                return name
        return ""

    def chains(self, blocks: list[Block]) -> list[list[Block]]:
        """The blocks as chains: each goes on with the first that takes from its last and is not yet placed."""
        left = {block.id: block for block in blocks}
        after: dict[str, list[Block]] = {}
        for block in blocks:
            name = self.main_field(block)
            producer = split(block.references[name])[0] if name else ""
            after.setdefault(producer if producer in left else "", []).append(block)
        result: list[list[Block]] = []
        pending = list(after.get("", []))
        while pending:
            chain = [pending.pop(0)]
            while following := after.get(chain[-1].id):
                # The longest way on is the main one: a branch that ends at once is drawn by itself.
                following.sort(key=lambda one: -self._reach(one, after))
                chain.append(following[0])
                pending += following[1:]
            result.append(chain)
        return result

    def _reach(self, block: Block, after: dict[str, list[Block]]) -> int:
        return 1 + max((self._reach(one, after) for one in after.get(block.id, [])), default=0)

    def sheet(self, blocks: list[Block], loops: list[Block]) -> Sheet:
        """Everything on one sheet."""
        rows: list[_Row] = []
        for chain in self.chains(blocks):
            row = _Row()
            before: Block | None = None
            for place, block in enumerate(chain):
                pen = self.draw(block, before, row)
                wide = pen.width
                if place == len(chain) - 2 and chain[-1].group is Group.LOAD:
                    # A load stays with what drives it.
                    wide += self.draw(chain[-1], None, row).width
                if row.width and row.width + wide > WIDEST:
                    rows.append(row)
                    row, before = _Row(), None
                    pen = self.draw(block, before, row)
                row.put(block, pen, self.main_field(block) if before else "")
                before = block
            rows.append(row)
        self._open_ends(rows, blocks)
        where = {block_id: row for row in rows for block_id in row.sketches}
        for loop in loops:
            self._loop(loop, rows, where)
        return _stacked(rows)

    def draw(self, block: Block, before: Block | None, row: _Row) -> Sketch:
        """A block's sketch, behind the one to its left if it hangs on that."""
        name = self.main_field(block)
        level: float = SIGNAL if Flow.SIGNAL in self.flows else SUPPLY_RAIL
        joined: frozenset[str] = frozenset()
        if before is not None and name:
            producer, port = split(block.references[name])
            ends = row.ends.get(producer, {})
            if port in ends or f"{port}_a" in ends:
                joined = frozenset((name,))
                level = ends[port][1] if port in ends else AXIS
        pen = self._pen(block, level, joined)
        block.sketch(pen)
        return pen

    def _pen(self, block: Block, level: float, joined: frozenset[str] = frozenset()) -> Sketch:
        return Sketch(
            block,
            self.design.channels,
            level,
            frozenset(self.tapped.get(block.id, ())),
            joined,
            self.rails,
            self.types,
            self.kinds,
        )

    def _open_ends(self, rows: list[_Row], blocks: Iterable[Block]) -> None:
        """Say where a wire goes on that leaves a block and does not simply go into the next."""
        known = {block.id for block in blocks}
        for row in rows:
            for block_id in row.sketches:
                for port, (x, y) in row.ends[block_id].items():
                    plain = port.removesuffix("_a").removesuffix("_b")
                    reference = f"{block_id}.{plain if plain in self.design.block(block_id).ports() else port}"
                    going = [
                        block.label
                        for block in self.design.blocks
                        if block.id in known and self.main_field(block) and (block_id, block.id) not in row.joined
                        and block.references[self.main_field(block)] == reference
                    ]  # fmt: skip
                    if going:
                        text = "to " + ", ".join(dict.fromkeys(going)).lower()
                        # Windings follow a mains transformer with their symbols in the way.
                        deep = self.design.block(block_id).ports().get(plain) is Flow.CORE
                        row.sheet.flags.append(Flag(text, x + 5, y + (98 if deep else 17), "start", "reference"))
                        row.width = max(row.width, x + 10 + CHARACTER * len(text))

    def _loop(self, loop: Block, rows: list[_Row], where: dict[str, _Row]) -> None:
        """Feedback or an extra part: in a lane under the row of what it joins, else in a row of its own."""
        # Where each reference on this sheet leads to: the row, the place in it, whether a wire leaves upwards.
        result: list[tuple[_Row, Point, bool]] = []
        for reference in loop.references.values():
            producer, port = split(reference)
            home = where.get(producer)
            point = home.places.get(producer, {}).get(port) if home else None
            if home is not None and point is not None:
                result.append((home, point, port in home.sketches[producer].upwards))
        together = len(result) == 2 and result[0][0] is result[1][0]
        row = result[0][0] if together else _Row()
        if not together:
            rows.append(row)
        pen = self._pen(loop, row.lane() if together else SIGNAL)
        pen.span = (result[0][1], result[1][1]) if together else None
        loop.sketch(pen)
        row.sheet.take(pen, 0.0, 0.0)
        if together:
            row.lanes += 1
        else:
            row.width = max(row.width, pen.width)
            for home, point, up in result:
                home.sheet.wires.append([point, (point[0], point[1] + (-14 if up else 16))])
                text_y = point[1] + (-18 if up else 28)
                anchor, dx = ("start", 2) if up else ("end", -4)
                home.sheet.flags.append(Flag(loop.label.lower(), point[0] + dx, text_y, anchor, "reference"))
            row.sheet.grounds.append(Ground(loop.id, 0, 0, row.width, 2 * SIGNAL))


@dataclass
class _Row:
    """One row: what is drawn in it so far, from the left."""

    sheet: Sheet = field(default_factory=Sheet)
    width: float = 0.0
    sketches: dict[str, Sketch] = field(default_factory=dict)
    ends: dict[str, dict[str, Point]] = field(default_factory=dict)
    places: dict[str, dict[str, Point]] = field(default_factory=dict)
    joined: set[tuple[str, str]] = field(default_factory=set)
    lanes: int = 0
    _floor: float = 0.0

    def put(self, block: Block, pen: Sketch, main: str) -> None:
        """Add a block's sketch at the right, wired to the one before by the reference ``main``."""
        lead = max((CHARACTER * len(flag.text) for flag in pen.flags if flag.kind == "lead"), default=0.0)
        dx = self.width + (lead + 10 if lead else 0.0)
        producer, port = split(block.references[main]) if main and main in pen.joined else ("", "")
        for key, (x, y) in pen.starts.items():
            side = key[len(main) :] if key.startswith(main) else ""
            end = self.ends.get(producer, {}).get(port + side) or self.ends.get(producer, {}).get(port)
            if end is not None:
                self.joined.add((producer, block.id))
                self.sheet.wires.append(
                    [end, (dx + x, y)] if end[1] == y else [end, (dx + x, end[1]), (dx + x, y)]
                )  # fmt: skip
        self.sheet.take(pen, dx, 0.0)
        self.sheet.grounds.append(Ground(block.id, dx, 0.0, pen.width, 0.0))
        self.sketches[block.id] = pen
        self.ends[block.id] = {name: (x + dx, y) for name, (x, y) in pen.ends.items()}
        self.places[block.id] = {name: (x + dx, y) for name, (x, y) in pen.places.items()}
        self.width = dx + pen.width

    def lane(self) -> float:
        """The height of the next lane under the row."""
        if not self.lanes:
            self._floor = self.sheet.extent()[1] + LANE * 0.75
        return self._floor + LANE * self.lanes


def _stacked(rows: list[_Row]) -> Sheet:
    whole = Sheet()
    y = MARGIN
    for row in rows:
        top, bottom = row.sheet.extent()
        # What is written to the left of the first block.
        before = max(
            (
                CHARACTER * (len(flag.text) + (7 if flag.rail else 0)) - flag.x
                for flag in row.sheet.flags
                if flag.anchor == "end"
            ),
            default=0,
        )
        dx = MARGIN + max(before, 0.0)
        row.width += max(before, 0.0)
        whole.take(row.sheet, dx, y - top)
        whole.grounds += [
            replace(ground, x=ground.x + dx, y=y - MARGIN / 2, height=bottom - top + MARGIN)
            for ground in row.sheet.grounds
        ]
        whole.width = max(whole.width, row.width + 2 * MARGIN)
        y += bottom - top + GAP
    whole.height = y - GAP + MARGIN
    return whole
