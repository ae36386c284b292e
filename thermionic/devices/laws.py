"""The nonlinear devices' equations as compiled scalar functions; the classes' docstrings say what they stand for.

A law takes a device's numbers ``p``, in the order that its class gives them, its sensed voltages ``v`` and the phase,
and writes its currents ``i`` (injects,) and their slopes ``g`` (injects, ports), which come to it as zeros.
"""

from __future__ import annotations

import math
from enum import IntEnum
from typing import Any

import numba
import numpy as np

from thermionic.compiled import REAL, WHOLE, compiled, gives, inlined, ready, takes
from thermionic.devices.converter_laws import converter, linear_regulator
from thermionic.devices.knees import THERMAL_VOLT, bounded_exp, junction, power, softplus
from thermionic.devices.programs import run

KNEE_VOLT = 0.25  # how softly a gas tube leaves zero current; its own jitter is larger
DARK_OHM = 1e9
AMBIENT_KELVIN = 298.15
# Newton may try any temperature; the laws are held to what could be.
COLDEST, HOTTEST = 200.0, 3600.0
NO_BREAKDOWN = 1e6  # volts, from which on a diode has none
NO_GRID_CURRENT = -30.0  # e to the power of it, of amperes at most
NEXT_TO_NOTHING = 1e-8  # whose square is nothing beside 1
LEAST_DRIVE, MOST_DRIVE = 1e-3, 2.0  # of a pentode, between which its screen's share follows it
# Gauss-Legendre on a filament's length: exact for the polynomials that its own volts stand for.
ALONG, WEIGHT = (0.5 * points for points in np.polynomial.legendre.leggauss(4))
ALONG = ALONG + 0.5


class Law(IntEnum):
    """Which of the laws below is a device's own."""

    TRIODE = 0
    FILAMENT_TRIODE = 1
    PENTODE = 2
    VACUUM_RECTIFIER = 3
    DIODE = 4
    JUNCTION_CHARGE = 5
    ZENER = 6
    SELENIUM = 7
    GAS_REGULATOR = 9
    BIPOLAR = 10
    MOSFET = 11
    THERMISTOR = 12
    LAMP = 13
    FUSE = 14
    CORE = 15
    PROGRAM = 16
    CONVERTER = 17
    LINEAR_REGULATOR = 18


@compiled
def _grid_current(grid_g: float, grid_xi: float, grid_c: float, vg: float) -> tuple[float, float]:
    """Dempwolf, Holters and Zölzer's grid current and its derivative; see Triode. Nothing where it is below any
    leakage, which is most of the time."""
    if grid_c * vg < NO_GRID_CURRENT:
        return 0.0, 0.0
    soft, slope = softplus(grid_c * vg)
    w = soft / grid_c
    ig = grid_g * power(w, grid_xi)
    return ig, grid_xi * ig / max(w, 1e-100) * slope


@compiled
def _effective_volt(mu: float, kp: float, kvb: float, vg: float, va: float) -> tuple[float, float, float]:
    """Koren's effective voltage and its derivatives by vg and va; see Triode."""
    square = kvb + va * va
    root = math.sqrt(square)
    soft, slope = softplus(kp * (1.0 / mu + vg / root))
    return va * soft / kp, va * slope / root, soft / kp - slope * vg * va * va / (square * root)


@compiled
def _behind_grid(gain: float, ex: float, e: float, e_vg: float, e_va: float) -> tuple[float, float, float]:
    """The current behind a grid of one pitch at an effective voltage, and its derivatives by vg and va, A and S; see
    Triode."""
    i = gain * power(e, ex)
    by_e = ex * i / max(e, 1e-100)
    return i, by_e * e_vg, by_e * e_va


@inlined
def _space_current(p: Any, vg: float, va: float) -> tuple[float, float, float, float, float, float]:
    """The space current of a triode's numbers and its derivatives by vg and va, A and S; and those of its effective
    voltage; see Triode."""
    if va <= 0.0:
        return 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
    gain = 2.0 / p[2]
    e, e_vg, e_va = _effective_volt(p[0], p[3], p[4], vg, va)
    i, i_vg, i_va = _behind_grid(gain, p[1], e, e_vg, e_va)
    if p[8] > 0.0:
        less, less_vg, less_va = _effective_volt(p[9], p[3], p[4], vg, va)
        coarse, coarse_vg, coarse_va = _behind_grid(p[8] * gain, p[1], less, less_vg, less_va)
        i, i_vg, i_va = i + coarse, i_vg + coarse_vg, i_va + coarse_va
    return i, i_vg, i_va, e, e_vg, e_va


@inlined
def _triode(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    ia, ia_vg, ia_va, _, _, _ = _space_current(p, v[0], v[1])
    ig, ig_vg = _grid_current(p[5], p[6], p[7], v[0])
    scale = p[10]
    i[0], i[1] = scale * ig, scale * ia
    g[0, 0] = scale * ig_vg
    g[1, 0], g[1, 1] = scale * ia_vg, scale * ia_va


@inlined
def _filament_triode(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    for point in range(len(ALONG)):
        s, weight = ALONG[point], WEIGHT[point] * p[10]
        vg, va = v[0] - s * v[2], v[1] - s * v[2]
        ia, ia_vg, ia_va, _, _, _ = _space_current(p, vg, va)
        ig, ig_vg = _grid_current(p[5], p[6], p[7], vg)
        i[0] += weight * ig
        i[1] += weight * ia
        i[2] -= weight * s * (ig + ia)
        g[0, 0] += weight * ig_vg
        g[0, 2] -= weight * s * ig_vg
        g[1, 0] += weight * ia_vg
        g[1, 1] += weight * ia_va
        g[1, 2] -= weight * s * (ia_vg + ia_va)
        g[2, 0] -= weight * s * (ig_vg + ia_vg)
        g[2, 1] -= weight * s * ia_va
        g[2, 2] += weight * s * s * (ig_vg + ia_vg + ia_va)


@inlined
def _pentode(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    vg, vs, va = v[0], v[1], v[2]
    scale, shield, screen_share, knee_perveance, sharpness = p[10], p[11], p[12], p[13], p[14]
    screen_slope, screen_drive = p[15], p[16]
    up = va > 0.0
    positive = max(va, 0.0)
    # The cathode current, by the equivalent voltage of screen and anode.
    share = 1.0 / (1.0 + 1.0 / shield)
    ve = share * (vs + positive / shield)
    ik, ik_vg, by_ve, e, e_vg, e_ve = _space_current(p, vg, ve)
    ik_vs = by_ve * share
    ik_va = by_ve * share / shield if up else 0.0

    # The anode's part of it above the knee.
    screen = max(vs, 1e-3)
    mixed = positive + 0.1 * screen
    r = screen_share / (1.0 - screen_share) * power(1.1 * screen / mixed, screen_slope)
    ln_vg, ln_ve = 0.0, 0.0
    if screen_drive > 0.0 and ve > 0.0:
        # How far the grid lets the tube go: the effective voltage over its value at no bias.
        drive = e * p[0] / ve
        r *= power(min(max(drive, LEAST_DRIVE), MOST_DRIVE), screen_drive)
        if LEAST_DRIVE < drive < MOST_DRIVE:
            ln_vg = screen_drive * e_vg / e
            ln_ve = screen_drive * (e_ve / e - 1.0 / ve)
    part = 1.0 / (1.0 + r)
    by = -r * part * part
    part_vg = by * ln_vg
    part_vs = by * share * ln_ve
    part_va = by * share / shield * ln_ve if up else 0.0
    if vs > 1e-3:
        part_vs += by * screen_slope * (1.0 / screen - 0.1 / mixed)
    if up:
        part_va -= by * screen_slope / mixed

    ia, ia_vg, ia_vs, ia_va = 0.0, 0.0, 0.0, 0.0
    if up:
        # The knee. Far below it the ratio is huge: work with the smaller of the ratio and its inverse.
        volt = max(va, 1e-9)
        line = knee_perveance * volt * math.sqrt(volt)
        plain = part * ik
        ratio = plain / line
        small = power(min(ratio, 1.0 / max(ratio, 1e-300)), sharpness)
        above = ratio <= 1.0
        rounded = 1.0 - small / sharpness if small < NEXT_TO_NOTHING else power(1.0 + small, -1.0 / sharpness)
        ia = (plain if above else line) * rounded
        # d ln ia / d ln plain = 1 / (1 + ratio^n), and the rest is the line's.
        by_plain = (1.0 if above else small) / (1.0 + small)
        per_plain = by_plain * ia / max(plain, 1e-100)
        own = (1.0 - by_plain) * ia * 1.5 / volt
        ia_vg = per_plain * (part * ik_vg + ik * part_vg)
        ia_vs = per_plain * (part * ik_vs + ik * part_vs)
        ia_va = per_plain * (part * ik_va + ik * part_va) + own
    ig, ig_vg = _grid_current(p[5], p[6], p[7], vg)
    i[0], i[1], i[2] = scale * ig, scale * (ik - ia), scale * ia
    g[0, 0] = scale * ig_vg
    g[1, 0], g[1, 1], g[1, 2] = scale * (ik_vg - ia_vg), scale * (ik_vs - ia_vs), scale * (ik_va - ia_va)
    g[2, 0], g[2, 1], g[2, 2] = scale * ia_vg, scale * ia_vs, scale * ia_va


@inlined
def _vacuum_rectifier(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    perveance, knee = p[0], p[1]
    for side in range(2):
        if knee > 0.0:
            soft, bend = softplus(v[side] / knee)
            root = math.sqrt(knee * soft)
        else:
            root, bend = math.sqrt(max(v[side], 0.0)), 1.0
        i[side] = perveance * root * root * root
        g[side, side] = 1.5 * perveance * root * bend


@inlined
def _diode(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    saturation, slope_volt, ohm, breakdown_volt, breakdown_ampere = p[0], p[1] * THERMAL_VOLT, p[2], p[3], p[4]
    if ohm > 0.0:
        i[0], g[0, 0] = junction(v[0], saturation, slope_volt, ohm)
    else:
        e, slope = bounded_exp(v[0] / slope_volt)
        i[0], g[0, 0] = saturation * (e - 1.0), saturation * slope / slope_volt
    if breakdown_volt < NO_BREAKDOWN:
        e, slope = bounded_exp(-(v[0] + breakdown_volt) / slope_volt)
        i[0] -= breakdown_ampere * e
        g[0, 0] += breakdown_ampere * slope / slope_volt


@inlined
def _junction_charge(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    farad, built_in, grading, transit, saturation, polarity = p[0], p[1], p[2], p[3], p[4], p[6]
    slope_volt = p[5] * THERMAL_VOLT
    volt = polarity * v[0]
    e, slope = bounded_exp(volt / slope_volt)
    low = min(volt, 0.5 * built_in)
    rest = 1.0 - low / built_in
    left = 1.0 - grading
    charge = farad * built_in / left * (1.0 - rest**left)
    capacity = farad * rest**-grading
    above = volt - low
    bend = grading / (built_in * rest)
    charge += capacity * above * (1.0 + 0.5 * bend * above) + transit * saturation * (e - 1.0)
    capacity = capacity * (1.0 + bend * above) + transit * saturation * slope / slope_volt
    i[0] = -1e9 * polarity * charge
    g[0, 0] = -1e9 * capacity


@inlined
def _zener(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    volt, test_ampere, ohm, saturation = p[0], p[1], p[2], p[3]
    e, slope = bounded_exp(v[0] / THERMAL_VOLT)
    own = max(ohm - THERMAL_VOLT / test_ampere, 1e-3)
    # v = volt + ohm (i - test) + Vt ln(i / test): a junction whose "saturation" is the test current, less that.
    backward, back_slope = junction(-v[0] - volt, test_ampere, THERMAL_VOLT, own)
    i[0] = saturation * (e - 1.0) - backward - test_ampere
    g[0, 0] = back_slope + saturation * slope / THERMAL_VOLT


@inlined
def _selenium(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    plates = p[0]
    i[0], g[0, 0] = junction(v[0], p[1], plates * p[2] * THERMAL_VOLT, plates * p[3])


@inlined
def _gas_regulator(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    i[0], g[0, 0] = v[0] / DARK_OHM, 1.0 / DARK_OHM
    if p[2] > 0.0:
        soft, slope = softplus((v[0] - p[0]) / KNEE_VOLT)
        i[0] += KNEE_VOLT / p[1] * soft
        g[0, 0] += slope / p[1]


@inlined
def _bipolar(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    saturation, forward_beta, reverse_beta, early_volt, knee = p[0], p[1], p[2], p[3], p[4]
    forward_volt, reverse_volt, polarity = p[5] * THERMAL_VOLT, p[6] * THERMAL_VOLT, p[7]
    reverse_early, reverse_knee = p[8], p[9]
    vbe, vbc = polarity * v[0], polarity * v[1]
    e, slope = bounded_exp(vbe / forward_volt)
    f, f_slope = saturation * (e - 1.0), saturation * slope / forward_volt
    e, slope = bounded_exp(vbc / reverse_volt)
    r, r_slope = saturation * (e - 1.0), saturation * slope / reverse_volt
    early = 1.0 - vbc / early_volt - vbe / reverse_early
    by_vbc = -1.0 / early_volt if early > 0.05 else 0.0
    by_vbe = -1.0 / reverse_early if early > 0.05 else 0.0
    early = max(early, 0.05)
    injected = f / knee + r / reverse_knee
    root = math.sqrt(1.0 + 4.0 * max(injected, 0.0))
    inverse = 2.0 * early / (1.0 + root)  # 1 / qb
    inverse_by_injected = -inverse / (1.0 + root) * 2.0 / root if injected > 0.0 else 0.0
    through = f - r
    i[0] = polarity * f / forward_beta
    i[1] = polarity * r / reverse_beta
    i[2] = polarity * through * inverse
    g[0, 0] = f_slope / forward_beta
    g[1, 1] = r_slope / reverse_beta
    per_early = through * 2.0 / (1.0 + root)
    g[2, 0] = f_slope * (inverse + through * inverse_by_injected / knee) + per_early * by_vbe
    g[2, 1] = r_slope * (through * inverse_by_injected / reverse_knee - inverse) + per_early * by_vbc


@inlined
def _mosfet(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    threshold, k, modulation, body_ampere, polarity = p[0], p[1], p[2], p[3], p[4]
    vgs, vds = polarity * v[0], polarity * v[1]
    upright = vds >= 0.0
    # With the ends exchanged the gate is driven from the other one.
    gate = vgs if upright else vgs - vds
    sign = 1.0 if upright else -1.0
    across = abs(vds)
    drive = max(gate - threshold, 0.0)
    used = min(across, drive)
    lift = 1.0 + modulation * across
    square = used * (drive - 0.5 * used)
    by_gate = k * used * lift
    by_across = k * ((drive - used) * lift + square * modulation)
    body, body_slope = bounded_exp(-vds / THERMAL_VOLT)
    i[0] = polarity * (sign * k * square * lift - body_ampere * (body - 1.0))
    g[0, 0] = sign * by_gate
    g[0, 1] = (by_across if upright else by_across + by_gate) + body_ampere * body_slope / THERMAL_VOLT


@compiled
def thermistor(p: Any, kelvin: float) -> tuple[float, float, float, float]:
    """Conductance, S, and heat lost, W, each with its derivative by temperature; see Thermistor."""
    y = math.exp(-p[1] * (1.0 / kelvin - 1.0 / AMBIENT_KELVIN)) / p[0]
    return y, y * p[1] / kelvin**2, p[2] * (kelvin - AMBIENT_KELVIN), p[2]


@compiled
def lamp(p: Any, kelvin: float) -> tuple[float, float, float, float]:
    """Conductance, S, and heat lost, W, each with its derivative by temperature; see Lamp."""
    watt, volt, hot = p[0], p[1], p[2]
    y = watt / volt**2 * (hot / kelvin) ** 1.2
    scale = watt / (hot**4 - AMBIENT_KELVIN**4)
    return y, -1.2 * y / kelvin, scale * (kelvin**4 - AMBIENT_KELVIN**4), 4.0 * scale * kelvin**3


@inlined
def _hot(law: int, p: Any, v: Any, i: Any, g: Any) -> None:
    volt = v[0]
    wanted = AMBIENT_KELVIN + v[1]
    kelvin = min(max(wanted, COLDEST), HOTTEST)
    y, y_by_t, loss, loss_by_t = thermistor(p, kelvin) if law == Law.THERMISTOR else lamp(p, kelvin)
    if wanted != kelvin:
        # Outside the range the loss goes on as a straight line, so that there is always a way back.
        y_by_t = 0.0
        loss += loss_by_t * (wanted - kelvin)
    i[0], i[1] = y * volt, loss - y * volt**2
    g[0, 0], g[0, 1] = y, y_by_t * volt
    g[1, 0], g[1, 1] = -2.0 * y * volt, loss_by_t - y_by_t * volt**2


@inlined
def _fuse(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    y, tau = p[0], p[1]
    i[0], i[1] = y * v[0], v[1] / tau - (y * v[0]) ** 2
    g[0, 0] = y
    g[1, 0], g[1, 1] = -2.0 * y * y * v[0], 1.0 / tau


@inlined
def _core(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    henry, knee, times = p[0], p[1], int(p[2])
    u = v[0] / knee
    bend = min(max(u, -4.0), 4.0)
    raised = (bend * bend) ** times
    slope = (2 * times + 1) * raised / henry
    i[0] = bend * raised * knee / henry + slope * (u - bend) * knee
    g[0, 0] = slope


@inlined
def _program(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    i[0] = p[0] * run(p[1:], v, g[0])
    for port in range(len(v)):
        g[0, port] *= p[0]


@inlined
def _flow(law: int, p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    if law == Law.TRIODE:
        _triode(p, v, phase, i, g)
    elif law == Law.PENTODE:
        _pentode(p, v, phase, i, g)
    elif law == Law.FILAMENT_TRIODE:
        _filament_triode(p, v, phase, i, g)
    elif law == Law.VACUUM_RECTIFIER:
        _vacuum_rectifier(p, v, phase, i, g)
    elif law == Law.DIODE:
        _diode(p, v, phase, i, g)
    elif law == Law.JUNCTION_CHARGE:
        _junction_charge(p, v, phase, i, g)
    elif law == Law.ZENER:
        _zener(p, v, phase, i, g)
    elif law == Law.SELENIUM:
        _selenium(p, v, phase, i, g)
    elif law == Law.GAS_REGULATOR:
        _gas_regulator(p, v, phase, i, g)
    elif law == Law.BIPOLAR:
        _bipolar(p, v, phase, i, g)
    elif law == Law.MOSFET:
        _mosfet(p, v, phase, i, g)
    elif law == Law.THERMISTOR or law == Law.LAMP:
        _hot(law, p, v, i, g)
    elif law == Law.FUSE:
        _fuse(p, v, phase, i, g)
    elif law == Law.CORE:
        _core(p, v, phase, i, g)
    elif law == Law.PROGRAM:
        _program(p, v, phase, i, g)
    elif law == Law.CONVERTER:
        converter(p, v, phase, i, g)
    elif law == Law.LINEAR_REGULATOR:
        linear_regulator(p, v, phase, i, g)


@ready(
    numba.void(
        takes(WHOLE, 1),
        takes(WHOLE, 2),
        takes(REAL, 2),
        takes(REAL, 2),
        takes(REAL, 1),
        gives(REAL, 2),
        gives(REAL, 3),
    )
)
def evaluate(laws: Any, at: Any, numbers: Any, v: Any, phase: Any, i: Any, g: Any) -> None:
    """All devices at all rows: adds nothing up, writes ``i`` (rows, injects) and ``g`` (rows, injects, ports), zeros
    before.

    ``laws`` (devices,) says which law is whose and ``at`` (devices, 5) where: the first of its numbers, its ports
    from and to, its injects from and to. ``numbers`` (variants, all numbers) goes round with the rows, and so does
    ``phase``; ``v`` is (rows, ports).
    """
    variants, phases = len(numbers), len(phase)
    own = turn = 0
    for row in range(len(v)):
        for device in range(len(laws)):
            first, port, ports = at[device, 0], at[device, 1], at[device, 2]
            inject, injects = at[device, 3], at[device, 4]
            _flow(
                laws[device], numbers[own, first:], v[row, port:ports], phase[turn],
                i[row, inject:injects], g[row, inject:injects, port:ports],
            )  # fmt: skip
        own, turn = own + 1 if own + 1 < variants else 0, turn + 1 if turn + 1 < phases else 0
