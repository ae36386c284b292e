"""The output transformer of a project: what the tubes see, its limits, what is left alone."""

from __future__ import annotations

from typing import Any

import numpy as np

from bold_anode.amps.rooms import Shown
from bold_anode.amps.studies import shown as study_shown
from bold_anode.frame.figures import Figure
from bold_anode.frame.plots import HALF, Axes, Plot, Scale, Ticks, both_ways, decades, drawn, round_steps
from bold_anode.frame.requests import Request
from bold_anode.iron.models import SOURCES
from bold_anode.iron.operations import origins_of
from thermionic import design as documents
from thermionic.amplifier import SolvedAmplifier
from thermionic.iron.output import (
    HALVES_EVERY,
    RATED_RISE,
    Limits,
    Reflected,
    ageing,
    limits,
    output_transformer,
    reflected,
)
from thermionic.iron.saturating import SaturatingCycle, saturating_cycle
from thermionic.iron.taps import unused
from thermionic.values import Quantity, display


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The tab."""
    amplifier = shown.solved.amplifier
    use = output_transformer(amplifier)
    if use is None or not amplifier.load.power:
        return "iron/output.html", {"use": None}
    result = limits(amplifier)
    seen = reflected(amplifier)
    cycle = saturating_cycle(amplifier)
    plots = [_reflected_plot(seen, use.primary_ohm)]
    if cycle is not None:
        plots.append(_cycle_plot(cycle))
    return "iron/output.html", {
        "use": use,
        "transformer": amplifier.design.block(use.block),
        "plots": drawn(plots),
        "cycle": cycle,
        "figures": _figures(amplifier, result, seen),
        "core_figures": _core_figures(result),
        "rated": result.rated_watt is not None,
        "derating": _derating(result),
        "unused": unused(amplifier),
        "ageing": [
            {"share": f"{one.share:.0%}", "heat": display(one.heat_watt, Quantity.POWER), "life": _times(one.life)}
            for one in ageing(amplifier)
        ],
        "halves": HALVES_EVERY,
        "rise": RATED_RISE,
        "fields": _fields(amplifier, use.block, origins_of(shown.project)),
        "sources": SOURCES,
        **study_shown(request, shown.project, "taps"),
        **study_shown(request, shown.project, "lows"),
        **study_shown(request, shown.project, "unloaded"),
    }


def _times(value: float) -> str:
    return f"{value:.2g} ×" if value < 100 else "over 100 ×"


def _fields(amplifier: SolvedAmplifier, block_id: str, origins: dict[str, str]) -> list[dict[str, Any]]:
    """The transformer's own values, to be typed where they are read, with where each came from."""
    paths = [f"blocks/{block_id}"]
    if documents.fitted(amplifier.design, f"blocks/{block_id}/core"):
        paths.append(f"blocks/{block_id}/core")
    return [
        {
            "path": field.path,
            "label": field.title,
            "text": field.text,
            "from": origins.get(field.path, "assumed") if field.text else "",
        }
        for path in paths
        for field in documents.fields_at(amplifier.design, path)
        if field.quantity is not None and not field.refers
    ]


def _reflected_plot(seen: Reflected, wanted: float) -> Plot:
    least = 10 ** np.floor(np.log10(seen.ohm.min()))
    most = 10 ** np.ceil(np.log10(seen.ohm.max()))
    across = Scale(10.0, 100e3, log=True)
    axes = Axes(across, Scale(float(least), float(most), log=True), "Hz", HALF)
    phase = Axes(across, (-90.0, 90.0), "Hz", HALF)
    return axes.plot(
        "What the whole primary shows",
        ("frequency, Hz", "primary, Ω", "phase, degrees"),
        [
            axes.line("ideal", ((10.0, wanted), (100e3, wanted))),
            phase.curve("second", seen.hertz, seen.phase_degrees, "phase", "°"),
            axes.curve("ac", seen.hertz, seen.ohm, "primary", "Ω"),
        ],
        [],
        Ticks(
            decades(10.0, 100e3),
            decades(float(least), float(most)),
            phase.ticks_right((v, f"{v:+g}" if v else "0") for v in both_ways([0.0, 45.0, 90.0])),
        ),
        [("ac", "size"), ("second", "phase"), ("ideal", "nominal")],
    )


def _cycle_plot(cycle: SaturatingCycle) -> Plot:
    across = cycle.share / cycle.hertz
    most = 1.15 * float(max(np.abs(cycle.magnetising).max(), np.abs(cycle.carried).max()))
    axes = Axes((0.0, 1.0 / cycle.hertz), (-most, most), "s", HALF)
    return axes.plot(
        "One cycle with the core at its rating",
        (f"{cycle.hertz:.0f} Hz at the drive for full output, ms", "primary current, mA", ""),
        [
            axes.curve("second", across, cycle.carried, "into the load", "A"),
            axes.curve("ac", across, cycle.magnetising, "magnetising", "A"),
        ],
        [],
        Ticks(
            [(v / 1e3, f"{v:g}") for v in round_steps(1e3 / cycle.hertz, 4)],
            [(v / 1e3, f"{v:+g}" if v else "0") for v in both_ways(round_steps(1e3 * most, 3))],
        ),
        [("ac", "magnetises the core"), ("second", "into the load")],
    )


def _figures(amplifier: SolvedAmplifier, found: Limits, seen: Reflected) -> list[Figure]:
    hertz, watt, ohm, ampere = Quantity.FREQUENCY, Quantity.POWER, Quantity.RESISTANCE, Quantity.CURRENT
    figures = [
        Figure("Primary at 1 kHz, with this load", display(seen.at(1e3), ohm)),
        Figure("At 50 Hz and 10 kHz", f"{display(seen.at(50.0), ohm)}, {display(seen.at(10e3), ohm)}"),
        Figure("Inductance takes 3 dB at", display(found.low_hertz, hertz, 2)),
        Figure("Leakage takes 3 dB at", display(found.high_hertz, hertz, 2)),
        Figure("Copper costs", f"{found.copper_db:.2f} dB"),
        Figure("Copper's heat", f"{display(found.copper_watt, watt)} at full output, "
               f"{display(found.idle_copper_watt, watt)} idle"),
        Figure("Steady current in the primary", display(found.steady_ampere, ampere)
               + (f", {display(found.allowed_ampere, ampere)} allowed" if found.allowed_ampere else "")),
    ]  # fmt: skip
    if found.resonance_hertz:
        figures.insert(4, Figure("Leakage rings with the capacitance at", display(found.resonance_hertz, hertz, 2)))
    return figures


def _core_figures(found: Limits) -> list[Figure]:
    if found.core_hertz is None:
        return []
    return [Figure("Full output takes the core to its rating at", display(found.core_hertz, Quantity.FREQUENCY, 2))]


def _derating(found: Limits) -> str:
    """What using a transformer below its rating gives, in a sentence; "" without a rating."""
    if found.rated_watt is None or found.rated_hertz is None:
        return ""
    share = found.full / found.rated_watt
    if share >= 0.95:
        if share > 1.05:
            return (
                f"It is asked for {share:.1f} times the {found.rated_watt:g} W that it is rated for: the core gives "
                f"out {share**0.5:.1f} times as high as its {found.rated_hertz:g} Hz, and the copper runs hotter."
            )
        return ""
    return (
        f"Used at {found.full:.3g} W of the {found.rated_watt:g} W that it is rated for: the flux at any frequency "
        f"is {share**0.5:.0%} of what it may be, so full output goes {1 / share**0.5:.1f} times as low (but for the "
        f"steady current), and its copper has {share:.0%} of the heat."
    )
