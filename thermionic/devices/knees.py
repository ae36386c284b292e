"""Knees that laws are made of, as compiled scalar functions with their slopes."""

from __future__ import annotations

import math

from thermionic.compiled import compiled

BOLTZMANN, CHARGE, KELVIN = 1.380649e-23, 1.602176634e-19, 300.15
THERMAL_VOLT = BOLTZMANN * KELVIN / CHARGE  # kT/q at 27 °C, the usual nominal temperature of circuit simulators
_BEND = 40.0


@compiled
def softplus(u: float) -> tuple[float, float]:
    """ln(1 + e^u) and its derivative, without overflow."""
    e = math.exp(-abs(u))
    # As the library's log1p, in two thirds of its time: what rounding has left of 1 + e is put back.
    whole = 1.0 + e
    soft = math.log(whole) + (e - (whole - 1.0)) / whole
    if u > 0:
        return u + soft, 1.0 / (1.0 + e)
    return soft, e / (1.0 + e)


@compiled
def power(base: float, exponent: float) -> float:
    """``base``, not below zero, to any exponent; sooner than the library's, and within 1e-14 for any that
    voltages come to."""
    return math.exp(exponent * math.log(base)) if base > 0.0 else 0.0


@compiled
def bounded_exp(u: float) -> tuple[float, float]:
    """e^u and its derivative, continued as its tangent above 40: Newton may try any voltage."""
    low = min(u, _BEND)
    e = math.exp(low)
    return e * (1.0 + u - low), e


@compiled
def wright_omega(z: float) -> float:
    """The w of w + ln w = z.

    P. W. Lawrence, R. M. Corless and D. J. Jeffrey, "Algorithm 917: complex double-precision evaluation of the Wright
    omega function", ACM Trans. Math. Software 38 (2012), art. 20, on the real line.
    """
    if z < -40.0:
        return math.exp(z)
    if z < 1.0:
        w = math.exp(z) if z < -2.0 else math.exp((z - 1.0) * 2.0 / 3.0)
    else:
        w = z - math.log(z) + math.log(z) / z
    for _ in range(2):
        left = z - w - math.log(w)
        whole = 2.0 * (1.0 + w) * (1.0 + w + 2.0 / 3.0 * left)
        w *= 1.0 + left / (1.0 + w) * (whole - left) / (whole - 2.0 * left)
    return w


@compiled
def junction(u: float, saturation: float, slope_volt: float, ohm: float) -> tuple[float, float]:
    """Current and its derivative of a Shockley junction of ``slope_volt`` = n kT/q behind ``ohm`` at u volts.

    In closed form with the Wright omega function: T. C. Banwell and A. Jayakumar, "Exact analytical solution
    for current flow through diode with series resistance", Electronics Letters 36 (2000), p. 291.
    """
    scaled = saturation * ohm / slope_volt
    total = slope_volt / ohm * wright_omega(math.log(scaled) + u / slope_volt + scaled)
    return total - saturation, 1.0 / (ohm + slope_volt / max(total, 1e-300))
