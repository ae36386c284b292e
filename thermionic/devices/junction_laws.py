"""The laws of semiconductors as compiled scalar functions, with the numbers that each reads, and how far Newton may
move the voltages that each senses; the devices' classes say what they stand for.

A junction's current grows by half for every 10 mV: solved as the straight line that it is at a given voltage it is
thrown far off, and from there only crawls back. So a law is taken at a voltage that follows what the line gave by the
current's logarithm: L. W. Nagel, "SPICE2: A computer program to simulate semiconductor circuits", Memorandum
ERL-M520, University of California, Berkeley (1975), on Colon's method for junctions, and on its limits for
field-effect transistors, which are simplified here.
"""

from __future__ import annotations

import math
from typing import Any, NamedTuple

from thermionic.compiled import compiled, inlined
from thermionic.devices.knees import THERMAL_VOLT, bounded_exp, junction
from thermionic.devices.numbers import Number, places

NO_BREAKDOWN = 1e6  # volts, from which on a diode has none
FAR_VOLT = 3.5  # past a threshold, or between drain and source, from which on a transistor changes little


class DiodeNumbers(NamedTuple):
    """What the law of a diode reads; see Diode."""

    saturation_ampere: Number
    emission: Number
    ohm: Number
    breakdown_volt: Number
    breakdown_ampere: Number


class JunctionChargeNumbers(NamedTuple):
    """What the law of a junction's charge reads; see JunctionCharge."""

    farad: Number
    built_in_volt: Number
    grading: Number
    transit_second: Number
    saturation_ampere: Number
    emission: Number
    polarity: Number


class ZenerNumbers(NamedTuple):
    """What the law of a zener diode reads; see Zener."""

    volt: Number
    test_ampere: Number
    ohm: Number
    saturation_ampere: Number


class SeleniumNumbers(NamedTuple):
    """What the law of a selenium stack reads; see SeleniumRectifier."""

    plates: Number
    saturation_ampere: Number
    emission: Number
    plate_ohm: Number


class BipolarNumbers(NamedTuple):
    """What the law of a bipolar transistor reads; see Bipolar. The two emissions stand together."""

    saturation_ampere: Number
    forward_beta: Number
    reverse_beta: Number
    early_volt: Number
    knee_ampere: Number
    forward_emission: Number
    reverse_emission: Number
    polarity: Number
    reverse_early_volt: Number
    reverse_knee_ampere: Number


class MosfetNumbers(NamedTuple):
    """What the law of a field-effect transistor reads; see Mosfet."""

    threshold_volt: Number
    transconductance: Number
    modulation: Number
    body_ampere: Number
    polarity: Number


DIODE = places(DiodeNumbers)
JUNCTION = places(JunctionChargeNumbers)
ZENER = places(ZenerNumbers)
SELENIUM = places(SeleniumNumbers)
BIPOLAR = places(BipolarNumbers)
MOSFET = places(MosfetNumbers)


@inlined
def diode(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    saturation, slope_volt, ohm = p[DIODE.saturation_ampere], p[DIODE.emission] * THERMAL_VOLT, p[DIODE.ohm]
    breakdown_volt, breakdown_ampere = p[DIODE.breakdown_volt], p[DIODE.breakdown_ampere]
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
def junction_charge(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    farad, built_in, grading = p[JUNCTION.farad], p[JUNCTION.built_in_volt], p[JUNCTION.grading]
    transit, saturation, polarity = p[JUNCTION.transit_second], p[JUNCTION.saturation_ampere], p[JUNCTION.polarity]
    slope_volt = p[JUNCTION.emission] * THERMAL_VOLT
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
def zener(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    volt, test_ampere, ohm = p[ZENER.volt], p[ZENER.test_ampere], p[ZENER.ohm]
    saturation = p[ZENER.saturation_ampere]
    e, slope = bounded_exp(v[0] / THERMAL_VOLT)
    own = max(ohm - THERMAL_VOLT / test_ampere, 1e-3)
    # v = volt + ohm (i - test) + Vt ln(i / test): a junction whose "saturation" is the test current, less that.
    backward, back_slope = junction(-v[0] - volt, test_ampere, THERMAL_VOLT, own)
    i[0] = saturation * (e - 1.0) - backward - test_ampere
    g[0, 0] = back_slope + saturation * slope / THERMAL_VOLT


@inlined
def selenium(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    plates, slope_volt = p[SELENIUM.plates], p[SELENIUM.emission] * THERMAL_VOLT
    i[0], g[0, 0] = junction(v[0], p[SELENIUM.saturation_ampere], plates * slope_volt, plates * p[SELENIUM.plate_ohm])


@inlined
def bipolar(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    saturation, polarity = p[BIPOLAR.saturation_ampere], p[BIPOLAR.polarity]
    forward_beta, reverse_beta = p[BIPOLAR.forward_beta], p[BIPOLAR.reverse_beta]
    forward_volt, reverse_volt = (
        p[BIPOLAR.forward_emission] * THERMAL_VOLT,
        p[BIPOLAR.reverse_emission] * THERMAL_VOLT,
    )
    early_volt, reverse_early = p[BIPOLAR.early_volt], p[BIPOLAR.reverse_early_volt]
    knee, reverse_knee = p[BIPOLAR.knee_ampere], p[BIPOLAR.reverse_knee_ampere]
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
def mosfet(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    threshold, k, modulation = p[MOSFET.threshold_volt], p[MOSFET.transconductance], p[MOSFET.modulation]
    body_ampere, polarity = p[MOSFET.body_ampere], p[MOSFET.polarity]
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
def _critical(slope_volt: float, saturation: float) -> float:
    """Where an exponential bends most, V."""
    return slope_volt * math.log(slope_volt / (math.sqrt(2.0) * max(saturation, 1e-300)))


@compiled
def _followed(new: float, old: float, slope_volt: float, critical: float) -> float:
    """Where to take an exponential of ``slope_volt``, taken at ``old`` before, whose line leads to ``new``."""
    if new <= critical or abs(new - old) <= 2.0 * slope_volt:
        return new
    if old > 0.0:
        grown = 1.0 + (new - old) / slope_volt
        return old + slope_volt * math.log(grown) if grown > 0.0 else critical
    return slope_volt * math.log(new / slope_volt)


@compiled
def _gate(new: float, old: float) -> float:
    """How far a gate may go that was ``old`` past the threshold; between off and well on it comes to pass by."""
    reach = 2.0 * abs(old) + 2.0
    if old < 0.0:
        return min(max(new, old - reach), 0.5)
    if old < FAR_VOLT:
        return min(max(new, -0.5), 4.0)
    return min(max(new, old - abs(old) - 1.0, 2.0), old + reach)


@compiled
def _drain(new: float, old: float) -> float:
    """How far a drain may go that was at ``old`` to the source: neither past the knee nor below zero at once."""
    if old >= FAR_VOLT:
        return min(max(new, 2.0), 3.0 * old + 2.0)
    return min(max(new, -0.5), 4.0)


@inlined
def begin_diode(p: Any, v: Any) -> None:
    """Put a diode's voltage no further than where it bends most."""
    v[0] = min(v[0], _critical(p[DIODE.emission] * THERMAL_VOLT, p[DIODE.saturation_ampere]))


@inlined
def limit_diode(p: Any, new: Any, old: Any) -> None:
    """Let the voltage follow its line by the logarithm, forwards and into breakdown."""
    slope_volt = p[DIODE.emission] * THERMAL_VOLT
    new[0] = _followed(new[0], old[0], slope_volt, _critical(slope_volt, p[DIODE.saturation_ampere]))
    breakdown = p[DIODE.breakdown_volt]
    if breakdown < NO_BREAKDOWN:
        critical = _critical(slope_volt, p[DIODE.breakdown_ampere])
        new[0] = -breakdown - _followed(-new[0] - breakdown, -old[0] - breakdown, slope_volt, critical)


@inlined
def begin_zener(p: Any, v: Any) -> None:
    """Put a zener diode's voltage between breakdown and where it bends most forwards."""
    v[0] = min(max(v[0], -p[ZENER.volt]), _critical(THERMAL_VOLT, p[ZENER.saturation_ampere]))


@inlined
def limit_zener(p: Any, new: Any, old: Any) -> None:
    """As of a diode; in breakdown, behind its own resistance, it is no exponential for long."""
    volt = p[ZENER.volt]
    new[0] = _followed(new[0], old[0], THERMAL_VOLT, _critical(THERMAL_VOLT, p[ZENER.saturation_ampere]))
    slope_volt = max(THERMAL_VOLT, p[ZENER.ohm] * p[ZENER.test_ampere])
    new[0] = -volt - _followed(-new[0] - volt, -old[0] - volt, slope_volt, 0.0)


@inlined
def begin_bipolar(p: Any, v: Any) -> None:
    """Put the base-emitter junction where it bends most, the other at nothing."""
    slope_volt = p[BIPOLAR.forward_emission] * THERMAL_VOLT
    v[0], v[1] = p[BIPOLAR.polarity] * _critical(slope_volt, p[BIPOLAR.saturation_ampere]), 0.0


@inlined
def limit_bipolar(p: Any, new: Any, old: Any) -> None:
    """Each junction as of a diode."""
    polarity = p[BIPOLAR.polarity]
    for side in range(2):
        slope_volt = p[BIPOLAR.forward_emission + side] * THERMAL_VOLT
        critical = _critical(slope_volt, p[BIPOLAR.saturation_ampere])
        new[side] = polarity * _followed(polarity * new[side], polarity * old[side], slope_volt, critical)


@inlined
def begin_mosfet(p: Any, v: Any) -> None:
    """Put the gate no more than a volt past its threshold, the drain not below the source."""
    polarity = p[MOSFET.polarity]
    v[0], v[1] = polarity * min(polarity * v[0], p[MOSFET.threshold_volt] + 1.0), polarity * max(polarity * v[1], 0.0)


@inlined
def limit_mosfet(p: Any, new: Any, old: Any) -> None:
    """Gate and drain by steps that their regions allow; below zero the body conducts, as a diode does."""
    polarity, threshold = p[MOSFET.polarity], p[MOSFET.threshold_volt]
    new[0] = polarity * (threshold + _gate(polarity * new[0] - threshold, polarity * old[0] - threshold))
    drain = -_drain(polarity * new[1], polarity * old[1])
    critical = _critical(THERMAL_VOLT, p[MOSFET.body_ampere])
    new[1] = -polarity * _followed(drain, -polarity * old[1], THERMAL_VOLT, critical)
