"""The whole amplifier against frequency, and what it makes of a square wave."""

from __future__ import annotations

from typing import Any

import numpy as np

from bold_anode.amps.rooms import Shown
from bold_anode.frame.figures import Figure
from bold_anode.frame.plots import HALF, THIRD, Axes, Plot, Scale, Ticks, both_ways, decades, drawn, round_steps
from bold_anode.frame.requests import Request
from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.solved import REFERENCE_HERTZ
from thermionic.performance.response import HIGHEST, LOWEST, SQUARES, SquareWave, Sweep, square_wave, sweep
from thermionic.values import Quantity, display

FREQUENCIES = Scale(LOWEST, HIGHEST, log=True)
_FLOOR = -30.0


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The tab."""
    amplifier = shown.solved.amplifier
    result = sweep(amplifier)
    squares = [square_wave(amplifier, hertz) for hertz in SQUARES]
    plots = [_response_plot(result), _impedance_plot(result), *(_square_plot(square) for square in squares)]
    return "chain/response.html", {
        "plots": drawn(plots),
        "figures": _figures(result),
        "squares": [(_hertz(square.hertz), _square_figures(square)) for square in squares],
        "linear": any(square.linear for square in squares),
        "written": amplifier.load.written(_level(amplifier, squares[0])),
    }


def _level(amplifier: SolvedAmplifier, square: SquareWave) -> float:
    return square.ideal_volt**2 / amplifier.load.ohm if amplifier.load.power else square.ideal_volt


def _response_plot(found: Sweep) -> Plot:
    most = max(5.0, float(np.ceil(found.decibels.max() / 5.0 + 0.2) * 5.0))
    level = Axes(FREQUENCIES, (_FLOOR, most), "Hz", HALF)
    shown = found.decibels >= _FLOOR
    turned = max(180.0, float(np.ceil(np.abs(found.degrees[shown]).max() / 90.0) * 90.0))
    phase = Axes(FREQUENCIES, (-turned, turned), "Hz", HALF)
    return level.plot(
        "Response and phase against frequency",
        ("frequency, Hz", "level against 1 kHz, dB", "phase, degrees"),
        [
            phase.curve("second", found.hertz, found.degrees, "phase", "°"),
            level.curve("ac", found.hertz, found.decibels, "level", "dB"),
        ],
        [],
        Ticks(
            decades(LOWEST, HIGHEST),
            [(float(v), f"{v:+g}" if v else "0") for v in np.arange(_FLOOR, most + 1, 5.0)],
            phase.ticks_right(
                (v, f"{v:+g}" if v else "0") for v in both_ways([90.0 * n for n in range(int(turned / 90.0) + 1)])
            ),
        ),
        [("ac", "level"), ("second", "phase")],
    )


def _impedance_plot(found: Sweep) -> Plot:
    ohm = np.abs(found.output_ohm)
    least, most = (10 ** edge(np.log10(value)) for edge, value in ((np.floor, ohm.min()), (np.ceil, ohm.max())))
    if most / least < 100:
        most = 100 * least
    axes = Axes(FREQUENCIES, Scale(float(least), float(most), log=True), "Hz", HALF)
    # On one logarithmic sheet the damping factor is the same curve upside down, so it has a scale of its own.
    inverse = Scale(found.load_ohm / float(most), found.load_ohm / float(least), log=True)
    damping = Axes(FREQUENCIES, inverse, "Hz", HALF)
    return axes.plot(
        "Output impedance and damping against frequency",
        ("frequency, Hz", "output impedance, Ω", "damping factor"),
        [
            damping.curve("second", found.hertz, found.damping, "damping factor", "×"),
            axes.curve("ac", found.hertz, ohm, "impedance", "Ω"),
        ],
        [],
        Ticks(
            decades(LOWEST, HIGHEST),
            decades(float(least), float(most)),
            damping.ticks_right(decades(damping.up.least, damping.up.most)),
        ),
        [("ac", "impedance"), ("second", f"damping factor, {display(found.load_ohm, Quantity.RESISTANCE)} over it")],
    )


def _square_plot(square: SquareWave) -> Plot:
    most = max(float(np.abs(square.volts).max()), square.ideal_volt) * 1.15
    scale, unit = (1e6, "µs") if square.hertz > 2e3 else (1e3, "ms")
    period = float(square.seconds[-1])
    axes = Axes((0.0, period), (-most, most), "s", THIRD, 170.0)
    sign = float(np.sign(square.volts[len(square.volts) // 4])) or 1.0
    half = len(square.volts) // 2
    ideal = np.full(len(square.volts), sign * square.ideal_volt)
    ideal[half:] *= -1
    steps = round_steps(most, 2)
    return axes.plot(
        f"Square wave of {_hertz(square.hertz)} at the load",
        (f"{_hertz(square.hertz)} square wave, {unit}", "V at the load", ""),
        [
            axes.curve("ideal", square.seconds, ideal),
            axes.curve("ac", square.seconds, square.volts, "at the load", "V"),
        ],
        [],
        Ticks(
            [(v / scale, f"{v:g}") for v in round_steps(period * scale, 5)],
            [(v, f"{v:+g}" if v else "0") for v in both_ways(steps)],
        ),
        [],
    )


def _figures(found: Sweep) -> list[Figure]:
    low = found.response.corner(REFERENCE_HERTZ, upwards=False)
    high = found.response.corner(REFERENCE_HERTZ, upwards=True)
    ohm = np.abs(found.output_ohm)

    def at(hertz: float) -> str:
        value = float(np.exp(np.interp(np.log(hertz), np.log(found.hertz), np.log(ohm))))
        return f"{display(value, Quantity.RESISTANCE)}, damping {found.load_ohm / value:.3g}"

    heard = (found.hertz >= 20.0) & (found.hertz <= 20e3)
    inside = found.decibels[heard]
    return [
        Figure("-3 dB at the lower end", display(low, Quantity.FREQUENCY) if low else "under 1 Hz"),
        Figure("-3 dB at the upper end", display(high, Quantity.FREQUENCY) if high else "over 1 MHz"),
        Figure("20 Hz to 20 kHz", f"{inside.min():+.2f} to {inside.max():+.2f} dB"),
        *(Figure(f"Output impedance at {_hertz(hertz)}", at(hertz)) for hertz in (20.0, 1e3, 20e3)),
    ]


def _square_figures(square: SquareWave) -> list[Figure]:
    """What is worth reading off it: the low one's tilt, the high one's rise."""
    result = [Figure("Overshoot", f"{square.overshoot:.1%}")]
    if square.hertz <= REFERENCE_HERTZ:
        result.append(Figure("Tilt", f"{square.tilt:.1%}"))
    else:
        rise = square.rise_seconds
        result.append(Figure("Rises in", _seconds(rise) if rise is not None else "more than half a period"))
    return result


def _seconds(value: float) -> str:
    return f"{value * 1e6:.3g} µs" if value < 1e-3 else f"{value * 1e3:.3g} ms"


def _hertz(value: float) -> str:
    return display(value, Quantity.FREQUENCY)
