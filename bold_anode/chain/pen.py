"""What a circuit drawing is made of, and the pen that puts it on the sheet.

A view object computes where everything goes, the template only places it. Coordinates are CSS pixels. Symbols follow
IEC 60617.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from django.utils.safestring import SafeString, mark_safe

from thermionic.blocks import SolvedAmplifier
from thermionic.design import Capacitor, Design, Resistor
from thermionic.design import field as value_at
from thermionic.errors import DesignRefused
from thermionic.values import Quantity, display, written


def _geometry(text: str) -> SafeString:
    """Geometry as it goes into the SVG: made of numbers and our own words here, so nothing is left to escape."""
    return mark_safe(text)


def _px(value: float) -> SafeString:
    """A coordinate as it goes into the SVG."""
    return _geometry(f"{value:g}")


def _place(x: float, y: float, turn: int = 0) -> SafeString:
    """The transform that puts and turns a symbol."""
    return _geometry(f"translate({x:g} {y:g})" + (f" rotate({turn})" if turn else ""))


@dataclass(frozen=True)
class Symbol:
    """One symbol. ``kind`` names what is drawn, ``place`` is the transform that puts and turns it."""

    kind: str
    place: str


@dataclass(frozen=True)
class PartMark:
    """A part that can be selected: its symbol, its designator and value with where they are written, and the outline
    that is the target for pointer and keyboard. ``path`` is the part's in the design, ``main`` the value that the
    arrow keys step ("" if none). ``heat`` is what it dissipates, written beside it where that matters."""

    path: str
    main: str
    designator: str
    text: str
    symbol: Symbol
    label: str
    anchor: str
    outline: str
    spoken: str
    heat: str = ""
    marks: str = ""


@dataclass(frozen=True)
class Reading:
    """A solved figure beside its node. ``kind`` is ht, bias, signal or heat; ``changed`` follows if it differs from
    before. ``key`` names it between revisions."""

    key: str
    x: str
    y: str
    anchor: str
    text: str
    kind: str


@dataclass
class Drawing:
    """Everything to be placed, with the size of the sheet."""

    width: float = 0
    height: float = 0
    parts: list[PartMark] = field(default_factory=list)
    symbols: list[Symbol] = field(default_factory=list)
    wires: list[str] = field(default_factory=list)
    dots: list[str] = field(default_factory=list)
    readings: list[Reading] = field(default_factory=list)

    @property
    def wiring(self) -> SafeString:
        """All wires as one path."""
        return _geometry("".join(self.wires))

    @property
    def joints(self) -> SafeString:
        """All joints as one path."""
        return _geometry("".join(self.dots))

    # id, tube, left edge and width of each stage
    stages: list[tuple[str, str, str, str]] = field(default_factory=list)


class Pen:
    """Draws onto a Drawing, knowing the solved amplifier and what it was before."""

    def __init__(
        self, amplifier: SolvedAmplifier, before: SolvedAmplifier | None, severities: dict[str, str]
    ) -> None:
        self.sheet = Drawing()
        self.amplifier = amplifier
        self.design: Design = amplifier.design
        self.before = before
        self.severities = severities

    def wire(self, *points: tuple[float, float]) -> None:
        """A wire through the points."""
        self.sheet.wires.append("M" + "L".join(f"{x:g} {y:g}" for x, y in points))

    def dot(self, x: float, y: float) -> None:
        """A joint."""
        self.sheet.dots.append(f"M{x - 3:g} {y:g}a3 3 0 1 0 6 0a3 3 0 1 0 -6 0")

    def symbol(self, kind: str, x: float, y: float) -> None:
        """A symbol that cannot be selected."""
        self.sheet.symbols.append(Symbol(kind, _place(x, y)))

    def stage(self, stage_id: str, tube: str, left: float, right: float) -> None:
        """The ground that a stage stands on, shaded where it is selected."""
        self.sheet.stages.append((stage_id, tube, _px(left), _px(right - left)))

    def earth(self, x: float, y: float) -> None:
        """A connection to signal earth."""
        self.symbol("earth", x, y)

    def figure(
        self, key: str, x: float, y: float, kind: str, value: Callable[[SolvedAmplifier], str], anchor: str = "start"
    ) -> None:
        """A solved figure, marked if it differs from before."""
        text = value(self.amplifier)
        self.sheet.readings.append(
            Reading(key, _px(x), _px(y), anchor, text, kind + (" changed" if self._differs(value, text) else ""))
        )

    def volts(self, node: str, x: float, y: float, kind: str = "ht", anchor: str = "start") -> None:
        """A node's voltage beside it."""
        self.figure(node, x, y, kind, lambda amp: display(amp.voltage(node), Quantity.VOLTAGE), anchor)

    def _differs(self, value: Callable[[SolvedAmplifier], str], text: str) -> bool:
        if self.before is None:
            return False
        try:
            return value(self.before) != text
        except (KeyError, StopIteration):
            return True

    def part(
        self,
        path: str,
        kind: str,
        x: float,
        y: float,
        text: str,
        name: str,
        *,
        main: str = "",
        turn: int = 0,
        label: tuple[float, float, str] | None = None,
        size: tuple[float, float] = (30, 56),
        heat: bool = False,
        designator: str | None = None,
    ) -> None:
        """A part that can be selected, with its label to the right unless told otherwise."""
        designator = self.amplifier.compiled.designator(path) if designator is None else designator
        width, height = size if not turn else (size[1], size[0])
        at = label or (x + 15, y - 2, "start")
        watts = ""
        if heat:
            dissipation = self.amplifier.part(path).dissipation
            if dissipation >= 0.05:
                watts = display(dissipation, Quantity.POWER, 2)
        self.sheet.parts.append(
            PartMark(
                path=path,
                main=main,
                designator=designator,
                text=text,
                symbol=Symbol(kind, _place(x, y, turn)),
                label=_place(at[0], at[1]),
                anchor=at[2],
                outline=_geometry(f"M{x - width / 2:g} {y - height / 2:g}h{width:g}v{height:g}h{-width:g}z"),
                spoken=f"{designator} {text} {watts}".strip() + f", {name}",
                heat=watts,
                marks=self._marks(path, main),
            )
        )

    def _marks(self, path: str, main: str) -> str:
        """The classes of a part: the severity of the worst finding about it, and whether it changed."""
        severity = self.severities.get(path)
        return (f" finding-{severity}" if severity else "") + (" changed" if self._value_differs(main) else "")

    def _value_differs(self, main: str) -> bool:
        """Whether the value at a path is not what it was before."""
        if self.before is None or not main:
            return False
        try:
            return value_at(self.before.design, main).value != value_at(self.design, main).value
        except DesignRefused:
            return True

    def resistor(
        self, path: str, part: Resistor, x: float, y: float, name: str, *, turn: int = 0,
        label: tuple[float, float, str] | None = None,
    ) -> None:  # fmt: skip
        """A resistor with its value and heat."""
        self.part(path, "resistor", x, y, written(part.ohm, Quantity.RESISTANCE), name,
                  main=f"{path}/ohm", turn=turn, label=label, heat=True)  # fmt: skip

    def capacitor(
        self, path: str, part: Capacitor, x: float, y: float, name: str, *, turn: int = 0, polarised: bool = False,
        label: tuple[float, float, str] | None = None,
    ) -> None:  # fmt: skip
        """A capacitor with its value."""
        kind = "capacitor-polarised" if polarised else "capacitor"
        self.part(path, kind, x, y, written(part.farad, Quantity.CAPACITANCE), name,
                  main=f"{path}/farad", turn=turn, label=label)  # fmt: skip
