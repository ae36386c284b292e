"""The laws of devices with a state of heat, light or flux, and what each reads; compiled, see tube_laws."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

from thermionic.compiled import compiled, inlined
from thermionic.devices.knees import softplus
from thermionic.devices.numbers import Number, places

KNEE_VOLT = 0.25  # how softly a gas tube leaves zero current; its own jitter is larger
DARK_OHM = 1e9
AMBIENT_KELVIN = 298.15
# Newton may try any temperature; the laws are held to what could be.
COLDEST, HOTTEST = 200.0, 3600.0


class GasRegulatorNumbers(NamedTuple):
    """What the law of a gas regulator reads; see GasRegulator. ``lit`` is 1 or 0."""

    extinction_volt: Number
    ohm: Number
    lit: Number


class ThermistorNumbers(NamedTuple):
    """What the law of a thermistor reads; see Thermistor."""

    cold_ohm: Number
    beta_kelvin: Number
    loss_w_per_k: Number


class LampNumbers(NamedTuple):
    """What the law of a lamp reads; see Lamp."""

    watt: Number
    volt: Number
    hot_kelvin: Number


class FuseNumbers(NamedTuple):
    """What the law of a fuse reads; see Fuse."""

    siemens: Number
    cooling_second: Number


class CoreNumbers(NamedTuple):
    """What the law of a core that saturates reads; see SaturableTransformer. ``power`` is a whole number."""

    henry: Number
    knee_weber: Number
    power: Number


GAS = places(GasRegulatorNumbers)
THERMISTOR = places(ThermistorNumbers)
LAMP = places(LampNumbers)
FUSE = places(FuseNumbers)
CORE = places(CoreNumbers)


@inlined
def gas_regulator(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    i[0], g[0, 0] = v[0] / DARK_OHM, 1.0 / DARK_OHM
    if p[GAS.lit] > 0.0:
        soft, slope = softplus((v[0] - p[GAS.extinction_volt]) / KNEE_VOLT)
        i[0] += KNEE_VOLT / p[GAS.ohm] * soft
        g[0, 0] += slope / p[GAS.ohm]


@compiled
def thermistor(p: Any, kelvin: float) -> tuple[float, float, float, float]:
    """Conductance, S, and heat lost, W, each with its derivative by temperature; see Thermistor."""
    beta, loss = p[THERMISTOR.beta_kelvin], p[THERMISTOR.loss_w_per_k]
    y = math.exp(-beta * (1.0 / kelvin - 1.0 / AMBIENT_KELVIN)) / p[THERMISTOR.cold_ohm]
    return y, y * beta / kelvin**2, loss * (kelvin - AMBIENT_KELVIN), loss


@compiled
def lamp(p: Any, kelvin: float) -> tuple[float, float, float, float]:
    """Conductance, S, and heat lost, W, each with its derivative by temperature; see Lamp."""
    watt, volt, hot = p[LAMP.watt], p[LAMP.volt], p[LAMP.hot_kelvin]
    y = watt / volt**2 * (hot / kelvin) ** 1.2
    scale = watt / (hot**4 - AMBIENT_KELVIN**4)
    return y, -1.2 * y / kelvin, scale * (kelvin**4 - AMBIENT_KELVIN**4), 4.0 * scale * kelvin**3


@inlined
def hot(is_lamp: bool, p: Any, v: Any, i: Any, g: Any) -> None:
    volt = v[0]
    wanted = AMBIENT_KELVIN + v[1]
    kelvin = min(max(wanted, COLDEST), HOTTEST)
    y, y_by_t, loss, loss_by_t = lamp(p, kelvin) if is_lamp else thermistor(p, kelvin)
    if wanted != kelvin:
        # Outside the range the loss goes on as a straight line, so that there is always a way back.
        y_by_t = 0.0
        loss += loss_by_t * (wanted - kelvin)
    i[0], i[1] = y * volt, loss - y * volt**2
    g[0, 0], g[0, 1] = y, y_by_t * volt
    g[1, 0], g[1, 1] = -2.0 * y * volt, loss_by_t - y_by_t * volt**2


@inlined
def fuse(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    y, tau = p[FUSE.siemens], p[FUSE.cooling_second]
    i[0], i[1] = y * v[0], v[1] / tau - (y * v[0]) ** 2
    g[0, 0] = y
    g[1, 0], g[1, 1] = -2.0 * y * y * v[0], 1.0 / tau


@inlined
def core(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    henry, knee, times = p[CORE.henry], p[CORE.knee_weber], int(p[CORE.power])
    u = v[0] / knee
    bend = min(max(u, -4.0), 4.0)
    raised = (bend * bend) ** times
    slope = (2 * times + 1) * raised / henry
    i[0] = bend * raised * knee / henry + slope * (u - bend) * knee
    g[0, 0] = slope
