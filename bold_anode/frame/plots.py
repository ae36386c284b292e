"""Plots as SVG geometry: axes, straight or logarithmic, lines that can be read off with the pointer, and a key."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from django.template import loader
from django.utils.safestring import SafeString, mark_safe

from thermionic.devices.base import Array

LEFT, TOP, WIDTH, HEIGHT, RIGHT, LITTLE, BELOW = 46.0, 26.0, 428.0, 240.0, 40.0, 16.0, 40.0
# For two and three side by side.
HALF, THIRD = 318.0, 200.0


@dataclass(frozen=True)
class Line:
    """A polyline; ``kind`` says what it is and so how it looks. One with a ``name`` is read off with the pointer: on
    ``scale`` (least, most, ``lin`` or ``log``) in ``unit``."""

    kind: str
    points: str
    name: str = ""
    unit: str = ""
    scale: str = ""


@dataclass(frozen=True)
class Label:
    """What is written at a place: a tick on an axis, or the end of a curve."""

    x: str
    y: str
    text: str


@dataclass(frozen=True)
class Handle:
    """What can be dragged: its kind, where it is, and in words what moving it does."""

    kind: str
    x: str
    y: str
    words: str


class Ticks(NamedTuple):
    """What is written beside the axes: values and words across and up, and labels for a second scale on the right."""

    across: Iterable[tuple[float, str]]
    up: Iterable[tuple[float, str]]
    right: Iterable[Label] = ()


@dataclass(frozen=True)
class Plot:
    """Everything to be placed, in the pixels of a sheet of ``sheet`` width and height. ``key`` names the lines: the
    kind, and words; kind "note" for a remark. ``across_scale`` is that of the axis along which it is read, and
    ``across_unit`` its unit."""

    title: str
    sheet: tuple[float, float]
    frame: tuple[float, float, float, float]
    grid: str
    lines: tuple[Line, ...]
    labels: tuple[Label, ...]
    point: tuple[str, str] | None
    across: tuple[Label, ...]
    up: tuple[Label, ...]
    right: tuple[Label, ...]
    titles: tuple[str, str, str]
    key: tuple[tuple[str, str], ...]
    across_scale: str
    across_unit: str
    up_scale: str = ""
    handles: tuple[Handle, ...] = ()

    @property
    def foot(self) -> float:
        """Where the title of the axis across is written."""
        return self.sheet[1] - 5

    @property
    def middle(self) -> float:
        """Where the axis across has its middle."""
        return self.frame[0] + self.frame[2] / 2

    @property
    def is_wide(self) -> bool:
        """Whether it is too wide for a telephone's page, and is moved about there."""
        return self.sheet[0] > 450

    @property
    def is_read(self) -> bool:
        """Whether anything of it can be read off."""
        return any(line.name for line in self.lines)


def drawn(plots: Iterable[Plot], first: int = 1) -> list[SafeString]:
    """The plots as SVG, each with a number of its own on the page."""
    return [
        mark_safe(loader.render_to_string("frame/plot.svg", {"plot": plot, "number": number}))
        for number, plot in enumerate(plots, start=first)
    ]


def px(value: float) -> str:
    """A place on the sheet."""
    return SafeString(f"{value:.1f}")


@dataclass(frozen=True)
class Scale:
    """From the least to the most of an axis, straight or by the logarithm."""

    least: float
    most: float
    log: bool = False

    def share(self, value: float) -> float:
        """How far along a value is, 0 to 1 on the sheet."""
        if self.log:
            low, high = np.log(self.least), np.log(self.most)
            return float((np.log(max(value, 1e-30)) - low) / (high - low))
        return (value - self.least) / (self.most - self.least)

    def shares(self, values: Array) -> Array:
        """The same of many."""
        if self.log:
            low, high = np.log(self.least), np.log(self.most)
            result: Array = (np.log(np.maximum(values, 1e-30)) - low) / (high - low)
            return result
        straight: Array = (values - self.least) / (self.most - self.least)
        return straight

    @property
    def words(self) -> str:
        """For what reads the plot off in the browser."""
        return f"{self.least:.8g} {self.most:.8g} {'log' if self.log else 'lin'}"


class Axes:
    """Scales to the sheet: (least, most) across and up, straight unless they say that they are logarithmic."""

    def __init__(
        self,
        across: tuple[float, float] | Scale,
        up: tuple[float, float] | Scale,
        across_unit: str = "",
        width: float = WIDTH,
        height: float = HEIGHT,
    ) -> None:
        self.across = across if isinstance(across, Scale) else Scale(*across)
        self.up = up if isinstance(up, Scale) else Scale(*up)
        self.across_unit, self.width, self.height = across_unit, width, height

    def x(self, value: float) -> float:
        """Where a value across is on the sheet."""
        return LEFT + self.width * self.across.share(value)

    def y(self, value: float) -> float:
        """Where a value up is on the sheet."""
        return TOP + self.height * (1 - self.up.share(value))

    def line(self, kind: str, points: Iterable[tuple[float, float]], name: str = "", unit: str = "") -> Line:
        """A line through points (across, up)."""
        across, up = np.array(list(points), dtype=float).reshape(-1, 2).T
        return self._drawn(kind, across, self.up.shares(up), name, unit)

    def curve(self, kind: str, across: Sequence[float] | Array, up: Array, name: str = "", unit: str = "") -> Line:
        """A line through arrays of values, held within a sheet's height of the frame."""
        shares = np.clip(self.up.shares(np.asarray(up, dtype=float)), -1.0, 2.0)
        return self._drawn(kind, np.asarray(across, dtype=float), shares, name, unit)

    def _drawn(self, kind: str, across: Array, shares: Array, name: str, unit: str) -> Line:
        """A line through values across, each at a share of the height."""
        x, y = LEFT + self.width * self.across.shares(across), TOP + self.height * (1 - shares)
        text = " ".join([f"{a:.1f},{b:.1f}" for a, b in zip(x.tolist(), y.tolist(), strict=True)])
        return Line(kind, SafeString(text), name, unit, self.up.words)

    def ends(self, volts: Array, curves: Iterable[tuple[float, Array]], form: str) -> tuple[list[Line], list[Label]]:
        """Curves over voltage, as far as they are on the sheet, each with its grid voltage at its end where there is
        room for that."""
        lines: list[Line] = []
        ends: list[tuple[float, float, str]] = []
        for grid, current in curves:
            inside = (current >= self.up.least) & (current <= self.up.most)
            if inside.sum() < 2:
                continue
            at, currents = volts[inside], current[inside]
            lines.append(self.line("curve", zip(at.tolist(), currents.tolist(), strict=True)))
            x, y = self.x(at[-1]) + 3, max(self.y(currents[-1]) + 4, TOP + 10)
            if not any(abs(x - left) < 28 and abs(y - base) < 11 for left, base, _ in ends):
                ends.append((x, y, f"{grid:{form}}" if grid else "0 V"))
        return lines, [Label(px(x), px(y), text) for x, y, text in ends]

    def ticks_across(self, values: Iterable[tuple[float, str]]) -> tuple[Label, ...]:
        """Words under the axis across."""
        return tuple(Label(px(self.x(value)), px(TOP + self.height + 16), text) for value, text in values)

    def ticks_up(self, values: Iterable[tuple[float, str]], x: float = LEFT - 6) -> tuple[Label, ...]:
        """Words beside the axis up."""
        return tuple(Label(px(x), px(self.y(value) + 4), text) for value, text in values)

    def ticks_right(self, values: Iterable[tuple[float, str]]) -> tuple[Label, ...]:
        """Words on the right, for a second scale."""
        return self.ticks_up(values, LEFT + self.width + 5)

    def plot(
        self,
        title: str,
        titles: tuple[str, str, str],
        lines: list[Line],
        labels: list[Label],
        ticks: Ticks,
        key: list[tuple[str, str]],
        point: tuple[float, float] | None = None,
    ) -> Plot:
        """The diagram with its frame, grid and axes."""
        across, up, right = list(ticks.across), list(ticks.up), tuple(ticks.right)
        grid = [f"M{self.x(value):.1f} {TOP:g}v{self.height:g}" for value, _ in across]
        grid += [f"M{LEFT:g} {self.y(value):.1f}h{self.width:g}" for value, _ in up]
        return Plot(
            title,
            (LEFT + self.width + (RIGHT if right or labels else LITTLE), TOP + self.height + BELOW),
            (LEFT, TOP, self.width, self.height),
            "".join(grid),
            tuple(line for line in lines if line.points),
            tuple(labels),
            (px(self.x(point[0])), px(self.y(point[1]))) if point else None,
            self.ticks_across(across),
            self.ticks_up(up),
            right,
            titles,
            tuple(key),
            self.across.words,
            self.across_unit,
            self.up.words,
        )


def both_ways(steps: list[float]) -> list[float]:
    """Steps below nought as well as above."""
    return [-step for step in reversed(steps) if step] + steps


def round_steps(most: float, wanted: int = 6) -> list[float]:
    """Round numbers from nought up to the most, about so many."""
    size = most / wanted
    decade = 10.0 ** np.floor(np.log10(size))
    step = next(rung * decade for rung in (1.0, 2.0, 2.5, 5.0, 10.0) if rung * decade >= size * 0.999)
    return [step * count for count in range(int(most / step + 1e-9) + 1)]


_DECADES = {
    -3: "0.001",
    -2: "0.01",
    -1: "0.1",
    0: "1",
    1: "10",
    2: "100",
    3: "1k",
    4: "10k",
    5: "100k",
    6: "1M",
    7: "10M",
}


def decades(least: float, most: float) -> list[tuple[float, str]]:
    """The powers of ten from least to most, with their words."""
    first, last = int(np.ceil(np.log10(least) - 1e-9)), int(np.floor(np.log10(most) + 1e-9))
    return [(10.0**power, _DECADES.get(power, f"1e{power}")) for power in range(first, last + 1)]
