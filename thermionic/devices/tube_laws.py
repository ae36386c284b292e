"""The laws of tubes as compiled scalar functions, with the numbers that each reads; the classes of the devices say
what they stand for.

A law takes a device's numbers ``p``, its sensed voltages ``v`` and the phase, and writes its currents ``i``
(injects,) and their slopes ``g`` (injects, ports), which come to it as zeros.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numpy as np

from thermionic.compiled import compiled, inlined
from thermionic.devices.knees import power, softplus
from thermionic.devices.numbers import Number, places

NO_GRID_CURRENT = -30.0  # e to the power of it, of amperes at most: below any leakage
NEXT_TO_NOTHING = 1e-8  # whose square is nothing beside 1
LEAST_DRIVE, MOST_DRIVE = 1e-3, 2.0  # of a pentode, between which its screen's share follows it
GRID_VOLT = 1.0  # up to which Newton may move a tube's grid freely
# Gauss-Legendre on a filament's length: exact for the polynomials that its own volts stand for.
ALONG, WEIGHT = (0.5 * points for points in np.polynomial.legendre.leggauss(4))
ALONG = ALONG + 0.5


class TriodeNumbers(NamedTuple):
    """What the law of a triode reads; see TriodeCoefficients. ``scale`` multiplies every current."""

    mu: Number
    ex: Number
    kg1: Number
    kp: Number
    kvb: Number
    grid_g: Number
    grid_xi: Number
    grid_c: Number
    coarse_share: Number
    coarse_mu: Number
    scale: Number


class PentodeNumbers(NamedTuple):
    """What the law of a pentode reads: those of a triode first; see PentodeCoefficients."""

    mu: Number
    ex: Number
    kg1: Number
    kp: Number
    kvb: Number
    grid_g: Number
    grid_xi: Number
    grid_c: Number
    coarse_share: Number
    coarse_mu: Number
    scale: Number
    shield: Number
    screen_share: Number
    knee_perveance: Number
    knee_sharpness: Number
    screen_slope: Number
    screen_drive: Number


class VacuumRectifierNumbers(NamedTuple):
    """What the law of a vacuum rectifier reads; see VacuumRectifier."""

    perveance: Number
    knee_volt: Number


TRIODE = places(TriodeNumbers)
PENTODE = places(PentodeNumbers)
RECTIFIER = places(VacuumRectifierNumbers)
assert PentodeNumbers._fields[: len(TRIODE)] == TriodeNumbers._fields  # the triode within a pentode reads them


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
    gain = 2.0 / p[TRIODE.kg1]
    e, e_vg, e_va = _effective_volt(p[TRIODE.mu], p[TRIODE.kp], p[TRIODE.kvb], vg, va)
    i, i_vg, i_va = _behind_grid(gain, p[TRIODE.ex], e, e_vg, e_va)
    if p[TRIODE.coarse_share] > 0.0:
        less, less_vg, less_va = _effective_volt(p[TRIODE.coarse_mu], p[TRIODE.kp], p[TRIODE.kvb], vg, va)
        coarse, coarse_vg, coarse_va = _behind_grid(
            p[TRIODE.coarse_share] * gain, p[TRIODE.ex], less, less_vg, less_va
        )
        i, i_vg, i_va = i + coarse, i_vg + coarse_vg, i_va + coarse_va
    return i, i_vg, i_va, e, e_vg, e_va


@inlined
def triode(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    ia, ia_vg, ia_va, _, _, _ = _space_current(p, v[0], v[1])
    ig, ig_vg = _grid_current(p[TRIODE.grid_g], p[TRIODE.grid_xi], p[TRIODE.grid_c], v[0])
    scale = p[TRIODE.scale]
    i[0], i[1] = scale * ig, scale * ia
    g[0, 0] = scale * ig_vg
    g[1, 0], g[1, 1] = scale * ia_vg, scale * ia_va


@inlined
def filament_triode(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    for point in range(len(ALONG)):
        s, weight = ALONG[point], WEIGHT[point] * p[TRIODE.scale]
        vg, va = v[0] - s * v[2], v[1] - s * v[2]
        ia, ia_vg, ia_va, _, _, _ = _space_current(p, vg, va)
        ig, ig_vg = _grid_current(p[TRIODE.grid_g], p[TRIODE.grid_xi], p[TRIODE.grid_c], vg)
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
def pentode(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    vg, vs, va = v[0], v[1], v[2]
    scale, shield, screen_share = p[PENTODE.scale], p[PENTODE.shield], p[PENTODE.screen_share]
    knee_perveance, sharpness = p[PENTODE.knee_perveance], p[PENTODE.knee_sharpness]
    screen_slope, screen_drive = p[PENTODE.screen_slope], p[PENTODE.screen_drive]
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
        drive = e * p[PENTODE.mu] / ve
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
    ig, ig_vg = _grid_current(p[PENTODE.grid_g], p[PENTODE.grid_xi], p[PENTODE.grid_c], vg)
    i[0], i[1], i[2] = scale * ig, scale * (ik - ia), scale * ia
    g[0, 0] = scale * ig_vg
    g[1, 0], g[1, 1], g[1, 2] = scale * (ik_vg - ia_vg), scale * (ik_vs - ia_vs), scale * (ik_va - ia_va)
    g[2, 0], g[2, 1], g[2, 2] = scale * ia_vg, scale * ia_vs, scale * ia_va


@inlined
def vacuum_rectifier(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    perveance, knee = p[RECTIFIER.perveance], p[RECTIFIER.knee_volt]
    for side in range(2):
        if knee > 0.0:
            soft, bend = softplus(v[side] / knee)
            root = math.sqrt(knee * soft)
        else:
            root, bend = math.sqrt(max(v[side], 0.0)), 1.0
        i[side] = perveance * root * root * root
        g[side, side] = 1.5 * perveance * root * bend


@inlined
def limit_grid(p: Any, new: Any, old: Any) -> None:
    """Hold Newton's next grid voltage to ``GRID_VOLT``, or twice as far up as it was."""
    new[0] = min(new[0], max(GRID_VOLT, 2.0 * old[0]))
