"""Passive networks from a signal to a signal: parts in series and to earth, compiled and drawn as a ladder."""

from __future__ import annotations

from abc import abstractmethod
from dataclasses import dataclass
from typing import ClassVar

from thermionic.blocks.base import Block
from thermionic.blocks.build import Bench
from thermionic.blocks.fields import named
from thermionic.blocks.ports import Flow, SignalRef
from thermionic.blocks.sketch import Sketch
from thermionic.circuit.netlist import GROUND


@dataclass(frozen=True)
class Series:
    """Parts in series with the signal, side by side where there are several."""

    names: tuple[str, ...]


@dataclass(frozen=True)
class Shunt:
    """Parts one under the other from the signal to earth."""

    names: tuple[str, ...]


class Ladder(Block):
    """A network of rungs, given by ``rungs``."""

    input: SignalRef = named("Input")

    suffixes: ClassVar[dict[str, str]] = {"out": ""}

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.SIGNAL}

    @abstractmethod
    def rungs(self) -> list[Series | Shunt]:
        """The rungs from the input on; parts that are not fitted are passed over."""

    def _fitted(self) -> list[Series | Shunt]:
        result: list[Series | Shunt] = []
        for rung in self.rungs():
            names = tuple(name for name in rung.names if getattr(self, name) is not None)
            if names:
                result.append(type(rung)(names))
        return result

    def compile(self, bench: Bench) -> None:
        rungs = self._fitted()
        last = max((place for place, rung in enumerate(rungs) if isinstance(rung, Series)), default=-1)
        at = bench.take("input")
        if last < 0:
            bench.join(bench.node("out"), at)
        for place, rung in enumerate(rungs):
            if isinstance(rung, Series):
                following = bench.node("out") if place == last else bench.node(f"n{place + 1}")
                for name in rung.names:
                    bench.fit(name, at, following)
                at = following
            else:
                above = at
                for depth, name in enumerate(rung.names):
                    below = GROUND if depth == len(rung.names) - 1 else bench.node(f"n{place + 1}_{depth + 1}")
                    bench.fit(name, above, below)
                    above = below

    def sketch(self, pen: Sketch) -> None:
        y, x = pen.level, 0.0
        pen.start("input", 0, y)
        for rung in self._fitted():
            if isinstance(rung, Series):
                start = x
                x = pen.lying(rung.names[0], x, y, 84)
                for row, name in enumerate(rung.names[1:], start=1):
                    down = y + 62 * row
                    pen.dot(start, y)
                    pen.dot(x, y)
                    pen.wire((start, y), (start, down))
                    pen.lying(name, start, down, 84)
                    pen.wire((x, down), (x, y))
            else:
                pen.wire((x, y), (x + 16, y))
                x += 16
                pen.dot(x, y)
                top = y
                for name in rung.names:
                    pen.upright(name, x, top, top + 44, top + 78)
                    top += 78
                pen.earth(x, top)
                pen.wire((x, y), (x + 66, y))
                x += 66
        pen.wire((x, y), (x + 14, y))
        pen.end("out", x + 14, y)
        pen.width = x + 14
