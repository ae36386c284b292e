"""The diagrams of a stage as SVG geometry: anode curves, those of a pair together, and the balance of a splitter."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np
from django.utils.safestring import mark_safe

from thermionic.amplifier import (
    AnodeDiagram,
    CompositeDiagram,
    PairBalance,
    SolvedAmplifier,
    anode_diagram,
    composite_diagram,
    pair_balance,
)
from thermionic.devices.base import Array
from thermionic.values import Quantity, display

LEFT, TOP, WIDTH, HEIGHT, RIGHT = 46.0, 26.0, 428.0, 240.0, 40.0


@dataclass(frozen=True)
class Line:
    """A polyline; ``kind`` says what it is and so how it looks."""

    kind: str
    points: str


@dataclass(frozen=True)
class Label:
    """What is written at a place: a tick on an axis, or the end of a curve."""

    x: str
    y: str
    text: str


@dataclass(frozen=True)
class Plot:
    """Everything to be placed, in the pixels of a sheet of ``sheet`` width and height. ``key`` names the lines: the
    kind, and words; kind "note" for a remark."""

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


def _px(value: float) -> str:
    return mark_safe(f"{value:.1f}")


class _Axes:
    """Scales to the sheet: (least, most) across and up."""

    def __init__(self, across: tuple[float, float], up: tuple[float, float]) -> None:
        self.across, self.up = across, up

    def x(self, value: float) -> float:
        return LEFT + WIDTH * (value - self.across[0]) / (self.across[1] - self.across[0])

    def y(self, value: float) -> float:
        return TOP + HEIGHT * (1 - (value - self.up[0]) / (self.up[1] - self.up[0]))

    def line(self, kind: str, points: Iterable[tuple[float, float]]) -> Line:
        return Line(kind, mark_safe(" ".join([f"{self.x(a):.1f},{self.y(b):.1f}" for a, b in points])))

    def curves(
        self, volts: Array, curves: Iterable[tuple[float, Array]], form: str
    ) -> tuple[list[Line], list[Label]]:
        """Curves over voltage, as far as they are on the sheet, each with its grid voltage at its end where there is
        room for that."""
        lines: list[Line] = []
        ends: list[tuple[float, float, str]] = []
        for grid, current in curves:
            inside = (current >= self.up[0]) & (current <= self.up[1])
            if inside.sum() < 2:
                continue
            at, currents = volts[inside], current[inside]
            lines.append(self.line("curve", zip(at.tolist(), currents.tolist(), strict=True)))
            x, y = self.x(at[-1]) + 3, max(self.y(currents[-1]) + 4, TOP + 10)
            if not any(abs(x - left) < 28 and abs(y - base) < 11 for left, base, _ in ends):
                ends.append((x, y, f"{grid:{form}}" if grid else "0 V"))
        return lines, [Label(_px(x), _px(y), text) for x, y, text in ends]

    def ticks_across(self, values: Iterable[tuple[float, str]]) -> tuple[Label, ...]:
        return tuple(Label(_px(self.x(value)), _px(TOP + HEIGHT + 16), text) for value, text in values)

    def ticks_up(self, values: Iterable[tuple[float, str]], x: float = LEFT - 6) -> tuple[Label, ...]:
        return tuple(Label(_px(x), _px(self.y(value) + 4), text) for value, text in values)

    def plot(
        self,
        title: str,
        titles: tuple[str, str, str],
        lines: list[Line],
        labels: list[Label],
        across: Iterable[tuple[float, str]],
        up: Iterable[tuple[float, str]],
        key: list[tuple[str, str]],
        point: tuple[float, float] | None = None,
        right: tuple[Label, ...] = (),
    ) -> Plot:
        """The diagram with its frame, grid and axes."""
        across, up = list(across), list(up)
        grid = [f"M{self.x(value):.1f} {TOP:g}v{HEIGHT:g}" for value, _ in across]
        grid += [f"M{LEFT:g} {self.y(value):.1f}h{WIDTH:g}" for value, _ in up]
        return Plot(
            title,
            (LEFT + WIDTH + RIGHT, TOP + HEIGHT + 40),
            (LEFT, TOP, WIDTH, HEIGHT),
            "".join(grid),
            tuple(line for line in lines if line.points),
            tuple(labels),
            (_px(self.x(point[0])), _px(self.y(point[1]))) if point else None,
            self.ticks_across(across),
            self.ticks_up(up),
            right,
            titles,
            tuple(key),
        )


def plots(amplifier: SolvedAmplifier, block_id: str) -> list[Plot]:
    """What can be drawn of a block: its curves, those of both its halves as one tube, its balance."""
    uses = amplifier.compiled.tubes_of(block_id)
    written = amplifier.load.written
    found = [_plot(anode_diagram(amplifier, block_id), uses[0].type.type, written)] if uses else []
    composite = composite_diagram(amplifier, block_id)
    if composite:
        found.append(_composite_plot(composite, written))
    balance = pair_balance(amplifier, block_id)
    if balance:
        found.append(_balance_plot(balance))
    return found


def _plot(diagram: AnodeDiagram, tube: str, written: Callable[[float], str]) -> Plot:
    """An anode diagram on the sheet."""
    axes = _Axes((0.0, diagram.most_volt), (0.0, diagram.most_ampere))
    lines, labels = axes.curves(diagram.volts, diagram.curves, "g")
    least = diagram.limit_watt / diagram.most_ampere
    if least < diagram.most_volt:
        limit_volts = np.linspace(max(least, diagram.most_volt / 200), diagram.most_volt, 60)
        lines.append(axes.line("limit", ((v, diagram.limit_watt / v) for v in limit_volts.tolist())))
    if diagram.limit_volt < diagram.most_volt:
        lines.append(axes.line("limit", ((diagram.limit_volt, at) for at in (0.0, diagram.most_ampere))))
    lines.append(axes.line("dc", diagram.dc_line))
    lines.append(axes.line("ac", diagram.ac_line))
    lines.append(axes.line("swing", diagram.swing.tolist()))
    key = [
        ("ac", "AC load line"),
        ("dc", "DC load line"),
        ("swing", f"swing at {written(diagram.swing_output)} out"),
        ("limit", "dissipation limit"),
    ]
    if diagram.screen_volt is not None:
        key.append(("note", _screen(diagram)))
    return axes.plot(
        f"Anode curves of the {tube} with its load lines",
        ("anode to cathode, V", "anode current, mA", ""),
        lines,
        labels,
        [(v, f"{v:g}") for v in _round_steps(diagram.most_volt)],
        [(i, f"{i * 1e3:g}") for i in _round_steps(diagram.most_ampere)],
        key,
        diagram.operating_point,
    )


def _composite_plot(diagram: CompositeDiagram, written: Callable[[float], str]) -> Plot:
    """Both halves of a pair as one tube."""
    axes = _Axes((-diagram.most_volt, diagram.most_volt), (-diagram.most_ampere, diagram.most_ampere))
    lines, labels = axes.curves(diagram.volts, diagram.curves, "+g")
    ends = (-diagram.most_volt, diagram.most_volt)
    lines.append(axes.line("half", diagram.half_a.tolist()))
    lines.append(axes.line("half", diagram.half_b.tolist()))
    lines.append(axes.line("ac", ((v, diagram.idle_ampere - v / diagram.load_ohm) for v in ends)))
    lines.append(axes.line("swing", diagram.swing.tolist()))
    volts, amperes = _round_steps(diagram.most_volt, 3), _round_steps(diagram.most_ampere, 3)
    load = display(4 * diagram.load_ohm, Quantity.RESISTANCE)
    return axes.plot(
        "Both halves of the pair as one tube, with its load line",
        ("anode of side a from idle, V", "side a less side b, mA", ""),
        lines,
        labels,
        [(v, f"{v:+g}" if v else "0") for v in _both_ways(volts)],
        [(i, f"{i * 1e3:+g}" if i else "0") for i in _both_ways(amperes)],
        [
            ("ac", f"load line of {load} anode to anode"),
            ("swing", f"swing at {written(diagram.swing_output)} out"),
            ("half", "each half"),
            ("note", "curves by grid swing of side a"),
        ],
        (0.0, diagram.idle_ampere),
    )


def _balance_plot(balance: PairBalance) -> Plot:
    """How the two sides differ over the audio range."""
    heard = (balance.hertz >= 20) & (balance.hertz <= 50e3)
    most_db = max(float(np.abs(balance.level_db[heard]).max()) * 1.15, 0.5)
    most_degrees = max(float(np.abs(balance.phase_degrees[heard]).max()) * 1.15, 5.0)
    db, degrees = _round_steps(most_db, 3), _round_steps(most_degrees, 3)
    level = _Axes((1.0, 5.0), (-most_db, most_db))
    phase = _Axes((1.0, 5.0), (-most_degrees, most_degrees))
    log = np.log10(balance.hertz).tolist()
    return level.plot(
        "Balance of the two sides against frequency",
        ("frequency, Hz", "side a over side b, dB", "from opposite, degrees"),
        [
            level.line("ac", zip(log, balance.level_db.tolist(), strict=True)),
            phase.line("dc", zip(log, balance.phase_degrees.tolist(), strict=True)),
        ],
        [],
        [(float(place), text) for place, text in enumerate(("10", "100", "1k", "10k", "100k"), start=1)],
        [(v, f"{v:+g}" if v else "0") for v in _both_ways(db)],
        [("ac", "level"), ("dc", "phase")],
        right=phase.ticks_up([(v, f"{v:+g}" if v else "0") for v in _both_ways(degrees)], LEFT + WIDTH + 5),
    )


def _both_ways(steps: list[float]) -> list[float]:
    return [-step for step in reversed(steps) if step] + steps


def _screen(diagram: AnodeDiagram) -> str:
    at = f"screen at {display(diagram.screen_volt or 0.0, Quantity.VOLTAGE)}"
    return f"{at}, following {diagram.screen_follows:.0%} of the swing" if diagram.screen_follows > 0.02 else at


def _round_steps(most: float, count: int = 6) -> list[float]:
    """Round values from 0 up to ``most``, some ``count``."""
    rough = most / count
    decade = 10.0 ** np.floor(np.log10(rough))
    step = next(rung * decade for rung in (1, 2, 2.5, 5, 10) if rung * decade >= rough * 0.999)
    return [round(step * place, 12) for place in range(int(most / step + 1e-9) + 1)]
