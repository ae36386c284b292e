"""The laws of what holds its output: converters and linear regulators, as compiled scalar functions; see laws."""

from __future__ import annotations

from typing import Any, NamedTuple

from thermionic.compiled import compiled
from thermionic.devices.knees import softplus
from thermionic.devices.numbers import Number, places

CONVERTER_KNEE = 0.005  # of its limits, within which a converter comes to them


class ConverterNumbers(NamedTuple):
    """What the law of a converter reads; see Converter."""

    volt: Number
    ohm: Number
    limit_ampere: Number
    least_volt: Number
    efficiency: Number
    idle_watt: Number


class LinearRegulatorNumbers(NamedTuple):
    """What the law of a linear regulator reads; see LinearRegulator. ``knee_volt`` is how softly it drops out."""

    volt: Number
    ohm: Number
    limit_ampere: Number
    dropout_volt: Number
    idle_ampere: Number
    knee_volt: Number


CONVERTER = places(ConverterNumbers)
REGULATOR = places(LinearRegulatorNumbers)


@compiled
def converter(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    volt, ohm, limit = p[CONVERTER.volt], p[CONVERTER.ohm], p[CONVERTER.limit_ampere]
    least, efficiency, idle = p[CONVERTER.least_volt], p[CONVERTER.efficiency], p[CONVERTER.idle_watt]
    fed = v[0] / least
    short, short_slope = softplus((1.0 - fed) / CONVERTER_KNEE)
    held, held_slope = 1.0 - CONVERTER_KNEE * short, short_slope
    if held < 0.0:
        held, held_slope = 0.0, 0.0
    wanted, by_input, by_output = (volt * held - v[1]) / ohm, volt * held_slope / least / ohm, -1.0 / ohm
    knee = CONVERTER_KNEE * limit
    over, over_slope = softplus((wanted - limit) / knee)
    left, left_slope = softplus((wanted - knee * over) / knee)
    ampere = knee * left
    slope = left_slope * (1.0 - over_slope)
    i[1] = -ampere
    g[1, 0], g[1, 1] = -slope * by_input, -slope * by_output
    # What it gives, through its losses, is what it takes; far below its least volts it takes as a resistance does.
    given = max(v[1], 0.0) * ampere / efficiency
    across, across_slope = (v[0], 1.0) if v[0] > 0.5 * least else (0.5 * least, 0.0)
    i[0] = given / across + idle * v[0] / (least * least)
    g[0, 0] = (
        max(v[1], 0.0) * slope * by_input / efficiency / across
        - given / (across * across) * across_slope
        + idle / (least * least)
    )
    rising = ampere if v[1] > 0.0 else 0.0
    g[0, 1] = (rising + max(v[1], 0.0) * slope * by_output) / efficiency / across


@compiled
def linear_regulator(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    volt, ohm, limit = p[REGULATOR.volt], p[REGULATOR.ohm], p[REGULATOR.limit_ampere]
    dropout, idle, knee = p[REGULATOR.dropout_volt], p[REGULATOR.idle_ampere], p[REGULATOR.knee_volt]
    # The lesser of what it is set to and what its input leaves.
    short, short_slope = softplus((volt - (v[0] - dropout)) / knee)
    wanted, by_input = (volt - knee * short - v[1]) / ohm, short_slope / ohm
    width = CONVERTER_KNEE * limit
    over, over_slope = softplus((wanted - limit) / width)
    left, left_slope = softplus((wanted - width * over) / width)
    slope = left_slope * (1.0 - over_slope)
    i[1] = -width * left
    g[1, 0], g[1, 1] = -slope * by_input, slope / ohm
    fed, fed_slope = softplus((v[0] - dropout) / knee)
    i[0] = width * left + idle * fed / (fed + 1.0)
    g[0, 0] = slope * by_input + idle * fed_slope / knee / ((fed + 1.0) * (fed + 1.0))
    g[0, 1] = -slope / ohm
