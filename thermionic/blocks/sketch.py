"""How a block draws itself: symbols, wires, labels and figures on a grid of its own, laid out by ``schematic``.

The signal runs left to right; the HT comes down from flags at the top, earth is at the bottom. A balanced pair is
drawn once, for side a above the axis, and mirrored for side b below it. One unit is a pixel at full size; the rows
are those below. A label is given by where its middle is, seen from its part's, so that it can be mirrored too.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field

from thermionic.blocks.base import Block
from thermionic.blocks.fields import Component
from thermionic.blocks.ports import split

# The rows of a stage, and the axis that the halves of a pair are mirrored about.
RAIL, LOAD, ANODE, SIGNAL, CATHODE, BIAS, EARTH = 34, 76, 116, 166, 212, 250, 296
AXIS = 350
# The rows of a supply.
SUPPLY_RAIL, SUPPLY_PART, SUPPLY_EARTH = 44, 92, 140

Point = tuple[float, float]
LabelAt = tuple[float, float, str]


@dataclass(frozen=True)
class Mark:
    """A part to be selected. ``x`` and ``y`` are its middle, ``turn`` its angle (90 for one that lies), ``flip``
    whether it is upside down, ``label`` the middle of its label seen from there with its anchor, ``lines`` how many
    lines the label has. ``text`` stands beside the designator where the part has no value of its own; ``main`` is
    the path of the value that it has."""

    path: str
    side: str
    symbol: str
    x: float
    y: float
    size: tuple[float, float]
    label: LabelAt
    name: str
    text: str = ""
    main: str = ""
    designator: str = ""
    turn: int = 0
    flip: bool = False
    heat: bool = False
    count: int = 1


@dataclass(frozen=True)
class Says:
    """What is written and spoken of a part, see Mark; ``spoken`` is its name, by default its field's title."""

    text: str = ""
    main: str = ""
    spoken: str = ""
    designator: str = ""
    count: int = 1
    heat: bool = False


NOTHING = Says()


@dataclass(frozen=True)
class Symbol:
    """A symbol that cannot be selected."""

    kind: str
    x: float
    y: float
    flip: bool = False
    turn: int = 0


@dataclass(frozen=True)
class Flag:
    """A name at the end of a wire that goes on elsewhere: ``path`` is the reference's, ``node`` what it is worth."""

    text: str
    x: float
    y: float
    anchor: str
    kind: str
    path: str = ""
    rail: str = ""
    flip: bool = False


@dataclass(frozen=True)
class Figure:
    """A solved number: ``what`` is voltage, ripple, heat or watts; ``of`` a node or a part's path."""

    what: str
    of: str
    x: float
    y: float
    anchor: str
    kind: str
    side: str = ""


@dataclass
class Sketch:
    """What one block draws. ``tapped`` are its ports that feedback or other blocks take besides the signal,
    ``joined`` the reference fields whose wire comes in from the left, ``level`` the height it comes in at; ``span``
    the two points that feedback joins, where they stand in one row.
    """

    block: Block
    channels: int
    level: float = SIGNAL
    tapped: frozenset[str] = frozenset()
    joined: frozenset[str] = frozenset()
    rails: frozenset[str] = frozenset()
    types: dict[str, str] = field(default_factory=dict)
    kinds: dict[str, str] = field(default_factory=dict)
    span: tuple[Point, Point] | None = None
    width: float = 0.0
    marks: list[Mark] = field(default_factory=list)
    wires: list[list[Point]] = field(default_factory=list)
    dots: list[Point] = field(default_factory=list)
    symbols: list[Symbol] = field(default_factory=list)
    flags: list[Flag] = field(default_factory=list)
    figures: list[Figure] = field(default_factory=list)
    starts: dict[str, Point] = field(default_factory=dict)
    ends: dict[str, Point] = field(default_factory=dict)
    places: dict[str, Point] = field(default_factory=dict)
    upwards: set[str] = field(default_factory=set)
    side: str = ""
    _flip: bool = False

    # Sides.

    @contextmanager
    def half(self, side: str) -> Iterator[None]:
        """Draw one half of a pair; side b is mirrored about the axis."""
        self.side, self._flip = side, side == "b"
        try:
            yield
        finally:
            self.side, self._flip = "", False

    def _y(self, y: float) -> float:
        return 2 * AXIS - y if self._flip else y

    def _key(self, name: str) -> str:
        return f"{name}_{self.side}" if self.side else name

    # Lines.

    def wire(self, *points: Point) -> None:
        """A wire through the points."""
        self.wires.append([(x, self._y(y)) for x, y in points])

    def dot(self, x: float, y: float) -> None:
        """A joint."""
        self.dots.append((x, self._y(y)))

    def earth(self, x: float, y: float) -> None:
        """A connection to signal earth."""
        self.symbols.append(Symbol("earth", x, self._y(y), self._flip))

    def symbol(self, kind: str, x: float, y: float, turn: int = 0) -> None:
        """A symbol that cannot be selected."""
        self.symbols.append(Symbol(kind, x, self._y(y), self._flip, turn))

    # Ends.

    def start(self, reference: str, x: float, y: float) -> None:
        """Where a reference's wire comes in; a flag where it does not come from the block to the left."""
        if reference in self.joined:
            self.starts[self._key(reference)] = (x, self._y(y))
        elif self.side != "b":
            name, _ = self._said(reference)
            self.flags.append(Flag(name, x - 6, self._y(y) + 4, "end", "lead", f"blocks/{self.block.id}/{reference}"))

    def _said(self, reference: str) -> tuple[str, str]:
        producer, port = split(getattr(self.block, reference))
        return (producer if port == "out" else f"{producer} {port}").replace("_", " "), producer

    def flag(self, reference: str, x: float, y: float, anchor: str = "start", above: bool = True) -> None:
        """The name of what a reference takes, at the end of its wire."""
        text, _ = self._said(reference)
        dy = -8 if above else 16
        self.flags.append(
            Flag(text, x + 2, self._y(y + 2) + (dy if not self._flip else 22 if above else -8), anchor, "reference",
                 f"blocks/{self.block.id}/{reference}")
        )  # fmt: skip

    def own_flag(self, x: float, y: float) -> Flag:
        """The name and voltage of the rail that this block makes."""
        return Flag(self.block.id.replace("_", " "), x, y, "start", "ht", rail=f"{self.block.id}.out")

    def rail(self, reference: str, x: float, y: float, anchor: str = "start") -> None:
        """The flag of the rail that something hangs on, with its voltage, to its right or its left."""
        producer, _ = split(getattr(self.block, reference))
        self.symbols.append(Symbol("rail", x, self._y(y), self._flip))
        text_y = self._y(y) + (18 if self._flip else -8)
        self.flags.append(
            Flag(
                producer.replace("_", " "),
                x + (10 if anchor == "start" else -10),
                text_y,
                anchor,
                "ht",
                f"blocks/{self.block.id}/{reference}",
                rail=getattr(self.block, reference),
            )
        )

    def end(self, port: str, x: float, y: float) -> None:
        """Where the wire of an output leaves, at the right."""
        self.ends[self._key(port)] = (x, self._y(y))

    def place(self, port: str, x: float, y: float, up: bool = False) -> None:
        """From where a wire can go down to feedback, free of everything, if something taps this port; ``up`` where a
        flag had better stand above it."""
        self.places[port] = (x, self._y(y))
        if up:
            self.upwards.add(port)

    def port(self, name: str) -> str:
        """A place's name on the side being drawn."""
        return self._key(name)

    def is_rail(self, reference: str) -> bool:
        """Whether a reference is to a supply's rail."""
        return getattr(self.block, reference) in self.rails

    def is_tapped(self, port: str) -> bool:
        """Whether feedback touches a port."""
        return port in self.tapped

    # Parts.

    def mark(
        self, name: str, symbol: str, at: tuple[float, float], *, size: tuple[float, float],
        label: LabelAt | None = None, turn: int = 0, says: Says = NOTHING,
    ) -> None:  # fmt: skip
        """A part that can be selected: the field ``name`` of the block, or the block itself for ""."""
        path = f"blocks/{self.block.id}" + (f"/{name}" if name else "")
        label_x, label_y, anchor = label or (15, 0, "start")
        self.marks.append(
            Mark(
                path, self.side, symbol, at[0], self._y(at[1]), size if not turn else (size[1], size[0]),
                (label_x, -label_y if self._flip else label_y, anchor), says.spoken or self._title(name), says.text,
                says.main, says.designator, turn, self._flip, says.heat, says.count,
            )
        )  # fmt: skip

    def _title(self, name: str) -> str:
        if not name:
            return type(self.block).title
        return str(type(self.block).model_fields[name].title or name)

    def part(
        self, name: str, x: float, y: float, *, turn: int = 0, label: LabelAt | None = None, polarised: bool = False
    ) -> bool:
        """The part that a field holds, if it holds one: upright, or lying with ``turn`` 90. Returns whether it
        does."""
        part = getattr(self.block, name)
        if part is None:
            return False
        assert isinstance(part, Component)
        polarised = polarised and getattr(part, "made", "electrolytic") == "electrolytic"
        kind = f"{part.symbol}-polarised" if polarised else part.symbol
        size = (24.0, 56.0) if kind == "choke" and turn else (30.0, 56.0)
        at = label or ((0, -31, "middle") if turn else (15, 0, "start"))
        self.mark(
            name,
            kind,
            (x, y),
            size=size,
            label=at,
            turn=turn,
            says=Says(main=f"blocks/{self.block.id}/{name}/{part.main}", heat=part.symbol in ("resistor", "choke")),
        )
        return True

    def reach(self, name: str) -> float:
        """Half the length of the part that a field holds, from its middle to where a wire meets it."""
        part = getattr(self.block, name)
        return 6.0 if part is not None and part.symbol == "capacitor" else 22.0

    def upright(
        self, name: str, x: float, top: float, y: float, bottom: float, **more: LabelAt | bool | None
    ) -> bool:
        """A part standing in a wire from ``top`` to ``bottom``, if the field holds one."""
        if getattr(self.block, name) is None:
            return False
        reach = self.reach(name)
        self.wire((x, top), (x, y - reach))
        self.wire((x, y + reach), (x, bottom))
        return self.part(name, x, y, **more)  # type: ignore[arg-type]

    def lying(self, name: str, x: float, y: float, length: float = 70, label: LabelAt | None = None) -> float:
        """A part lying in a wire at ``y`` from ``x``, if the field holds one. Returns the x where the wire goes
        on."""
        if getattr(self.block, name) is None:
            return x
        middle, reach = x + length / 2, self.reach(name)
        self.wire((x, y), (middle - reach, y))
        self.wire((middle + reach, y), (x + length, y))
        self.part(name, middle, y, turn=90, label=label)
        return x + length

    def boxed(self, reference: str, output: str, text: str, main: str) -> None:
        """A whole supply block that is a box in its rail, with the capacitor of the field ``output`` behind it."""
        top, x = SUPPLY_RAIL, 130.0  # past the name of what else hangs on its input
        self.start(reference, 0, top)
        self.wire((0, top), (x - 30, top))
        self.mark(
            "",
            "box",
            (x, top),
            size=(60, 44),
            label=(0, 42, "middle"),
            says=Says(text=text, main=f"blocks/{self.block.id}/{main}"),
        )
        self.wire((x + 30, top), (x + 60, top))
        x += 60
        if getattr(self.block, output):
            self.dot(x, top)
            self.upright(output, x, top, SUPPLY_PART, SUPPLY_EARTH, polarised=True)
            self.earth(x, SUPPLY_EARTH)
        self.flags.append(self.own_flag(x + 10, top - 12))
        self.wire((x, top), (x + 134, top))
        self.end("out", x + 134, top)
        self.width = x + 134

    def tube(
        self,
        sections: tuple[str, ...],
        x: float,
        y: float = SIGNAL,
        *,
        label: LabelAt | None = None,
        upside: bool = False,
    ) -> None:
        """The tube of a position, its grid to the left; several side by side are one symbol with their number."""
        first = sections[0]
        kind = self.kinds.get(first, "triode")
        envelopes = list(dict.fromkeys(section.partition(".")[0] for section in sections))
        text = self.types[first] + (f" ×{len(sections)}" if len(sections) > 1 else "")
        self.mark(
            "",
            kind,
            (x, y),
            size=(66, 66),
            label=label or (36, -6, "start"),
            says=Says(text=text, spoken="tube", designator=",".join(sections), count=len(envelopes)),
        )

    def volts(self, port: str, x: float, y: float, kind: str = "ht", anchor: str = "start") -> None:
        """A node's voltage beside it; ``y`` is its baseline before mirroring."""
        self.figure("voltage", self.block.node(port, self.side), x, y, kind, anchor)

    def figure(self, what: str, of: str, x: float, y: float, kind: str, anchor: str = "start") -> None:
        """A solved number."""
        at = self._y(y) + (9 if self._flip else 0)
        self.figures.append(Figure(what, of, x, at, anchor, kind, self.side))
