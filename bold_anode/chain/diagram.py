"""The anode diagram of a stage as SVG geometry."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from django.utils.safestring import mark_safe

from thermionic.amplifier import AnodeDiagram
from thermionic.values import Quantity, display

LEFT, TOP, WIDTH, HEIGHT = 54.0, 12.0, 420.0, 240.0


@dataclass(frozen=True)
class Curve:
    """A polyline with its label at its end."""

    points: str
    label: str = ""
    x: str = ""
    y: str = ""


@dataclass(frozen=True)
class Tick:
    """A tick: where along its axis, and what is written there."""

    at: str
    text: str


@dataclass(frozen=True)
class Plot:
    """Everything to be placed, in the pixels of a sheet of ``sheet`` width and height."""

    sheet: tuple[float, float]
    frame: tuple[float, float, float, float]
    curves: tuple[Curve, ...]
    dc_line: str
    ac_line: str
    limit: str
    volt_limit: str
    swing: str
    point: tuple[str, str]
    grid: str
    volts: tuple[Tick, ...]
    milliamperes: tuple[Tick, ...]
    swing_text: str
    screen_text: str = ""


def _px(value: float) -> str:
    return mark_safe(f"{value:.1f}")


def plot(diagram: AnodeDiagram, *, power: bool = True) -> Plot:
    """Scale an anode diagram to the sheet."""

    def x(volt: float) -> float:
        return LEFT + WIDTH * volt / diagram.most_volt

    def y(ampere: float) -> float:
        return TOP + HEIGHT * (1 - ampere / diagram.most_ampere)

    def path(points: Iterable[tuple[float, float]]) -> str:
        return mark_safe(" ".join([f"{x(v):.1f},{y(i):.1f}" for v, i in points]))

    curves = []
    for grid_volt, current in diagram.curves:
        inside = current <= diagram.most_ampere
        at, currents = diagram.volts[inside], current[inside]
        if len(at) < 2:
            continue
        label = f"{grid_volt:g}" if grid_volt else "0 V"
        curves.append(
            Curve(
                path(zip(at.tolist(), currents.tolist(), strict=True)),
                label,
                _px(x(at[-1]) + 3),
                _px(max(y(currents[-1]) + 4, TOP + 10)),
            )
        )
    least = diagram.limit_watt / diagram.most_ampere
    limit_volts = np.linspace(max(least, diagram.most_volt / 200), diagram.most_volt, 60)
    limit = path((v, diagram.limit_watt / v) for v in limit_volts.tolist()) if least < diagram.most_volt else ""
    volts = tuple(Tick(_px(x(v)), f"{v:g}") for v in _round_steps(diagram.most_volt))
    amperes = tuple(Tick(_px(y(i)), f"{i * 1e3:g}") for i in _round_steps(diagram.most_ampere))
    return Plot(
        sheet=(LEFT + WIDTH + 40, TOP + HEIGHT + 40),
        frame=(LEFT, TOP, WIDTH, HEIGHT),
        curves=tuple(curves),
        dc_line=path(diagram.dc_line),
        ac_line=path(diagram.ac_line),
        limit=limit,
        volt_limit=_px(x(diagram.limit_volt)) if diagram.limit_volt < diagram.most_volt else "",
        swing=path(diagram.swing.tolist()),
        point=(_px(x(diagram.operating_point[0])), _px(y(diagram.operating_point[1]))),
        grid="".join(
            [f"M{tick.at} {TOP:g}v{HEIGHT:g}" for tick in volts]
            + [f"M{LEFT:g} {tick.at}h{WIDTH:g}" for tick in amperes]
        ),
        volts=volts,
        milliamperes=amperes,
        swing_text=f"swing at {_output(diagram, power)} out",
        screen_text="" if diagram.screen_volt is None else _screen(diagram),
    )


def _output(diagram: AnodeDiagram, power: bool) -> str:
    return display(diagram.swing_watt, Quantity.POWER) if power else display(diagram.swing_volt, Quantity.VOLTAGE)


def _screen(diagram: AnodeDiagram) -> str:
    at = f"screen at {display(diagram.screen_volt or 0.0, Quantity.VOLTAGE)}"
    return f"{at}, following {diagram.screen_follows:.0%} of the swing" if diagram.screen_follows > 0.02 else at


def _round_steps(most: float) -> list[float]:
    """Round values from 0 up to ``most``, some five or six."""
    rough = most / 6
    decade = 10.0 ** np.floor(np.log10(rough))
    step = next(rung * decade for rung in (1, 2, 2.5, 5, 10) if rung * decade >= rough * 0.999)
    return [round(step * count, 12) for count in range(int(most / step + 1e-9) + 1)]
