"""A laid-out drawing with the solved numbers on it, ready for the template, which only places it.

Coordinates are CSS pixels, one a unit of the sheet. Symbols follow IEC 60617.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from django.utils.safestring import SafeString

from bold_anode.chain.lettering import width
from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks import sketch
from thermionic.blocks.facets import RectifierUse, TubeUse
from thermionic.blocks.ports import block_at, split
from thermionic.design import field as value_at
from thermionic.design import find
from thermionic.errors import DesignRefused
from thermionic.schematic import Sheet
from thermionic.supplies.ripple import written_ripple
from thermionic.values import Quantity, display


def _geometry(text: str) -> SafeString:
    """Geometry as it goes into the SVG: made of numbers and our own words here, so nothing is left to escape."""
    return SafeString(text)


def _place(x: float, y: float, turn: int = 0, flip: bool = False) -> SafeString:
    """The transform that puts, turns and mirrors a symbol."""
    return _geometry(
        f"translate({x:g} {y:g})" + (" scale(1 -1)" if flip else "") + (f" rotate({turn})" if turn else "")
    )


@dataclass(frozen=True)
class Symbol:
    """One symbol. ``kind`` names what is drawn, ``place`` is the transform that puts and turns it."""

    kind: str
    place: str


@dataclass(frozen=True)
class PartMark:
    """A part that can be selected: its symbol, its designator and value with where they are written, and the outline
    that is the target for pointer and keyboard. ``path`` is the part's in the design, ``main`` the value that the
    arrow keys step ("" if none). ``heat`` is what it dissipates, written beside it where that matters.
    ``box`` is what the label takes up: left, top, right, bottom."""

    path: str
    main: str
    designator: str
    text: str
    symbol: Symbol
    label: str
    anchor: str
    outline: str
    spoken: str
    heat: str
    changed: bool
    block: str
    box: tuple[float, float, float, float]


@dataclass(frozen=True)
class Label:
    """A solved figure or a name beside its node. ``kind`` is ht, bias, signal, heat, ripple or reference; ``changed``
    follows if it differs from before. ``key`` names it between revisions; ``reference`` is the rail's that it stands
    for."""

    key: str
    x: str
    y: str
    anchor: str
    text: str
    kind: str
    reference: str
    box: tuple[float, float, float, float]


@dataclass(frozen=True)
class Stand:
    """The ground that a block stands on, shaded where it is selected."""

    block: str
    x: str
    y: str
    width: str
    height: str


@dataclass
class Drawing:
    """Everything to be placed, with the size of the sheet."""

    width: float = 0
    height: float = 0
    parts: list[PartMark] = field(default_factory=list)
    symbols: list[Symbol] = field(default_factory=list)
    labels: list[Label] = field(default_factory=list)
    stands: list[Stand] = field(default_factory=list)
    wiring: SafeString = field(default_factory=lambda: _geometry(""))
    joints: SafeString = field(default_factory=lambda: _geometry(""))


# The height of a line of a label.
LINE = 15.0


def _box(x: float, baseline: float, anchor: str, lines: list[tuple[str, str]]) -> tuple[float, float, float, float]:
    """What lines of text, each with its kind, take up: left, top, right, bottom."""
    wide = max((width(text, kind) for kind, text in lines), default=0.0)
    left = x - (wide if anchor == "end" else wide / 2 if anchor == "middle" else 0.0)
    return left, baseline - 11.0, left + wide, baseline + LINE * (max(len(lines), 1) - 1) + 3.0


class _Pen:
    """Puts solved numbers on a sheet, knowing the amplifier and what it was before."""

    def __init__(self, amplifier: SolvedAmplifier, before: SolvedAmplifier | None) -> None:
        self.amplifier, self.before = amplifier, before
        # The blocks that no change has touched.
        earlier = {block.id: block for block in before.design.blocks} if before else {}
        self.untouched = {block.id for block in amplifier.design.blocks if earlier.get(block.id) is block}

    def part(self, mark: sketch.Mark) -> PartMark:
        """A part with its designator, value and heat."""
        designator = mark.designator if mark.designator and "." not in mark.designator else self._designator(mark)
        designator = designator.strip()
        text = mark.text
        if mark.main and not text:
            text = value_at(self.amplifier.design, mark.main).text
        heat = self._heat(mark)
        texts = [one for one in (("designator", designator), ("value", text), ("heat", heat)) if one[1]]
        x, middle = mark.x + mark.label[0], mark.y + mark.label[1]
        baseline = middle - LINE * len(texts) / 2 + 11.0
        wide, high = mark.size
        spoken = f"{designator} {text} {heat}".strip() + f", {mark.name.lower()}"
        return PartMark(
            path=mark.path,
            main=mark.main,
            designator=designator,
            text=text,
            symbol=Symbol(mark.symbol, _place(mark.x, mark.y, mark.turn, mark.flip)),
            label=_place(x, baseline),
            anchor=mark.label[2],
            outline=_geometry(f"M{mark.x - wide / 2:g} {mark.y - high / 2:g}h{wide:g}v{high:g}h{-wide:g}z"),
            spoken=spoken,
            heat=heat,
            changed=self._value_differs(mark.main),
            block=block_at(mark.path),
            box=_box(x, baseline, mark.label[2], texts),
        )

    def _designator(self, mark: sketch.Mark) -> str:
        try:
            names = self.amplifier.compiled.designators(mark.path, mark.side)
        except KeyError:
            return ""
        if mark.designator:  # a position's sections
            wanted = {section.partition(".")[0].upper() for section in mark.designator.split(",")}
            compiled = self.amplifier.compiled
            uses: tuple[TubeUse | RectifierUse, ...] = (*compiled.tubes, *compiled.rectifier_tubes)
            own = {use.part for use in uses if use.envelope.upper() in wanted}
            names = tuple(name for name in names if name in own) or names
            letters = {section.replace(".", "").upper() for section in mark.designator.split(",")}
            names = tuple(name for name in names if name.upper() in letters) or names
            return names[0] if len(names) == 1 else f"{names[0]} to {names[-1]}"
        return names[0]

    def _heat(self, mark: sketch.Mark) -> str:
        if not mark.heat:
            return ""
        names = self.amplifier.compiled.designators(mark.path, mark.side)
        watt = max(self.amplifier.parts[name].dissipation for name in names)
        return display(watt, Quantity.POWER, 2) if watt >= 0.05 else ""

    def _value_differs(self, main: str) -> bool:
        """Whether the value at a path is not what it was before."""
        if self.before is None or not main:
            return False
        first, _, rest = main.partition("/")
        if first == "blocks" and rest.partition("/")[0] in self.untouched:
            return False
        try:
            return bool(find(self.before.design, main).value != find(self.amplifier.design, main).value)
        except DesignRefused:
            return True

    def figure(self, figure: sketch.Figure) -> Label:
        """A solved number, marked if it differs from before."""
        return self._label(
            figure.of if figure.what == "voltage" else f"{figure.of}/{figure.what}{figure.side}",
            figure.x,
            figure.y,
            figure.anchor,
            figure.kind,
            lambda amplifier: _FIGURES[figure.what](amplifier, figure),
            "",
        )

    def flag(self, flag: sketch.Flag) -> Label:
        """A name at the end of a wire, a rail's with its voltage."""

        def text(amplifier: SolvedAmplifier) -> str:
            if not flag.rail:
                return flag.text
            block, port = split(flag.rail)
            node = amplifier.design.block(block).node(port)
            return f"{flag.text} {display(amplifier.voltage(node), Quantity.VOLTAGE)}"

        return self._label(f"{flag.path}@{flag.x:g}", flag.x, flag.y, flag.anchor, flag.kind, text, flag.rail)

    def _label(
        self, key: str, x: float, y: float, anchor: str, kind: str, value: Callable[[SolvedAmplifier], str], rail: str
    ) -> Label:
        text = value(self.amplifier)
        changed = " changed" if self._differs(value, text) else ""
        return Label(key, _geometry(f"{x:g}"), _geometry(f"{y:g}"), anchor, text, kind + changed, rail,
                       _box(x, y, anchor, [(kind, text)]))  # fmt: skip

    def _differs(self, value: Callable[[SolvedAmplifier], str], text: str) -> bool:
        if self.before is None:
            return False
        try:
            return value(self.before) != text
        except (KeyError, StopIteration, ValueError):
            return True


def _volts(amplifier: SolvedAmplifier, figure: sketch.Figure) -> str:
    return display(amplifier.voltage(figure.of), Quantity.VOLTAGE)


def _ripple(amplifier: SolvedAmplifier, figure: sketch.Figure) -> str:
    ripple = written_ripple(amplifier, figure.of)
    return f"{ripple} pp" if ripple[0].isdigit() else "ripple not known"


def _heat(amplifier: SolvedAmplifier, figure: sketch.Figure) -> str:
    names = amplifier.compiled.designators(figure.of, figure.side)
    watt = max(amplifier.parts[use.part].dissipation for use in amplifier.compiled.tubes if use.part in names)
    return display(watt, Quantity.POWER)


def _output(amplifier: SolvedAmplifier, figure: sketch.Figure) -> str:
    point = amplifier.at_source
    if point is None:
        return "overdriven"
    if amplifier.load.power:
        return display(point.power_watt, Quantity.POWER)
    return f"{display(point.output_volt, Quantity.VOLTAGE)} ~"


_FIGURES: dict[str, Callable[[SolvedAmplifier, sketch.Figure], str]] = {
    "voltage": _volts,
    "ripple": _ripple,
    "heat": _heat,
    "watts": _output,
}


def drawing(sheet: Sheet, amplifier: SolvedAmplifier, before: SolvedAmplifier | None) -> Drawing:
    """The sheet with its numbers, what differs from ``before`` marked."""
    pen = _Pen(amplifier, before)
    return Drawing(
        width=sheet.width,
        height=sheet.height,
        parts=[pen.part(mark) for mark in sheet.marks],
        symbols=[
            Symbol(symbol.kind, _place(symbol.x, symbol.y, symbol.turn, symbol.flip)) for symbol in sheet.symbols
        ],
        labels=[*map(pen.figure, sheet.figures), *map(pen.flag, sheet.flags)],
        stands=[
            Stand(
                ground.block,
                *(_geometry(f"{value:g}") for value in (ground.x, ground.y, ground.width, ground.height)),
            )
            for ground in sheet.grounds
        ],
        wiring=_geometry("".join("M" + "L".join(f"{x:g} {y:g}" for x, y in wire) for wire in sheet.wires)),
        joints=_geometry("".join(f"M{x - 3:g} {y:g}a3 3 0 1 0 6 0a3 3 0 1 0 -6 0" for x, y in sheet.dots)),
    )
