"""The diagrams of a stage as SVG geometry: anode curves, those of a pair together, and the balance of a splitter."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from bold_anode.frame.plots import Axes, Handle, Plot, Scale, Ticks, both_ways, decades, px, round_steps
from thermionic.amplifier import (
    AnodeDiagram,
    CompositeDiagram,
    PairBalance,
    SolvedAmplifier,
    anode_diagram,
    composite_diagram,
    pair_balance,
)
from thermionic.values import Quantity, display


def plots(amplifier: SolvedAmplifier, block_id: str) -> list[Plot]:
    """What can be drawn of a block: its curves, those of both its halves as one tube, its balance."""
    uses = amplifier.compiled.tubes_of(block_id)
    written = amplifier.load.written
    result = [_plot(anode_diagram(amplifier, block_id), uses[0].type.type, written)] if uses else []
    composite = composite_diagram(amplifier, block_id)
    if composite:
        result.append(_composite_plot(composite, written))
    balance = pair_balance(amplifier, block_id)
    if balance:
        result.append(_balance_plot(balance))
    return result


def _plot(diagram: AnodeDiagram, tube: str, written: Callable[[float], str]) -> Plot:
    """An anode diagram on the sheet."""
    axes = Axes((0.0, diagram.most_volt), (0.0, diagram.most_ampere))
    lines, labels = axes.ends(diagram.volts, diagram.curves, "g")
    if diagram.spread is not None:
        low, high = (np.minimum(side, 3 * diagram.most_ampere) for side in diagram.spread)
        around = np.concatenate([diagram.volts, diagram.volts[::-1]])
        lines.insert(0, axes.curve("band", around, np.concatenate([low, high[::-1]])))
    least = diagram.limit_watt / diagram.most_ampere
    if least < diagram.most_volt:
        limit_volts = np.linspace(max(least, diagram.most_volt / 200), diagram.most_volt, 60)
        lines.append(axes.line("limit", ((v, diagram.limit_watt / v) for v in limit_volts.tolist())))
    if diagram.limit_volt < diagram.most_volt:
        lines.append(axes.line("limit", ((diagram.limit_volt, at) for at in (0.0, diagram.most_ampere))))
    lines.append(axes.line("dc", diagram.dc_line))
    lines.append(axes.line("ac", diagram.ac_line))
    lines.append(axes.line("swing", diagram.swing.tolist()))
    lines += [axes.line("half", path.tolist()) for _, path in diagram.ellipses]
    key = [
        ("ac", "AC load line"),
        ("dc", "DC load line"),
        ("swing", f"swing at {written(diagram.swing_output)} out"),
        ("limit", "dissipation limit"),
        ("band", "idle curve, tubes 15 % weaker to stronger"),
    ]
    if diagram.ellipses:
        key.append(("half", "the loudspeaker's ellipses at 50 Hz and 10 kHz, small signal"))
    if diagram.screen_volt is not None:
        key.append(("note", _screen(diagram)))
    drawn = axes.plot(
        f"Anode curves of the {tube} with its load lines",
        ("anode to cathode, V", "anode current, mA", ""),
        lines,
        labels,
        Ticks(
            [(v, f"{v:g}") for v in round_steps(diagram.most_volt)],
            [(i, f"{i * 1e3:g}") for i in round_steps(diagram.most_ampere)],
        ),
        key,
        diagram.operating_point,
    )
    return replace(drawn, handles=_handles(axes, diagram))


def _handles(axes: Axes, diagram: AnodeDiagram) -> tuple[Handle, ...]:
    """The operating point, and the load line by a point on it a third of the way to its end."""
    volt, ampere = diagram.operating_point
    (end, _), _ = diagram.ac_line
    at = volt + 0.6 * (min(end, diagram.most_volt) - volt)
    down = ampere * (end - at) / (end - volt) if end > volt else ampere
    return (
        Handle("point", px(axes.x(volt)), px(axes.y(ampere)), "Operating point: drag it, the parts follow"),
        Handle(
            "line", px(axes.x(at)), px(axes.y(down)), "Load line: drag it round the operating point, the load follows"
        ),
    )


def _composite_plot(diagram: CompositeDiagram, written: Callable[[float], str]) -> Plot:
    """Both halves of a pair as one tube."""
    axes = Axes((-diagram.most_volt, diagram.most_volt), (-diagram.most_ampere, diagram.most_ampere))
    lines, labels = axes.ends(diagram.volts, diagram.curves, "+g")
    ends = (-diagram.most_volt, diagram.most_volt)
    lines.append(axes.line("half", diagram.half_a.tolist()))
    lines.append(axes.line("half", diagram.half_b.tolist()))
    lines.append(axes.line("ac", ((v, diagram.idle_ampere - v / diagram.load_ohm) for v in ends)))
    lines.append(axes.line("swing", diagram.swing.tolist()))
    volts, amperes = round_steps(diagram.most_volt, 3), round_steps(diagram.most_ampere, 3)
    load = display(4 * diagram.load_ohm, Quantity.RESISTANCE)
    return axes.plot(
        "Both halves of the pair as one tube, with its load line",
        ("anode of side a from idle, V", "side a less side b, mA", ""),
        lines,
        labels,
        Ticks(
            [(v, f"{v:+g}" if v else "0") for v in both_ways(volts)],
            [(i, f"{i * 1e3:+g}" if i else "0") for i in both_ways(amperes)],
        ),
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
    db, degrees = round_steps(most_db, 3), round_steps(most_degrees, 3)
    across = Scale(10.0, 100e3, log=True)
    level = Axes(across, (-most_db, most_db), "Hz")
    phase = Axes(across, (-most_degrees, most_degrees))
    return level.plot(
        "Balance of the two sides against frequency",
        ("frequency, Hz", "side a over side b, dB", "from opposite, degrees"),
        [
            level.curve("ac", balance.hertz, balance.level_db, "level", "dB"),
            phase.curve("dc", balance.hertz, balance.phase_degrees, "phase", "°"),
        ],
        [],
        Ticks(
            decades(10.0, 100e3),
            [(v, f"{v:+g}" if v else "0") for v in both_ways(db)],
            phase.ticks_right((v, f"{v:+g}" if v else "0") for v in both_ways(degrees)),
        ),
        [("ac", "level"), ("dc", "phase")],
    )


def _screen(diagram: AnodeDiagram) -> str:
    at = f"screen at {display(diagram.screen_volt or 0.0, Quantity.VOLTAGE)}"
    return f"{at}, following {diagram.screen_follows:.0%} of the swing" if diagram.screen_follows > 0.02 else at
