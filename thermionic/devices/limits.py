"""How far Newton may move the voltages that steep laws sense, as compiled functions.

A junction's current grows by half for every 10 mV: solved as the straight line that it is at one voltage it is thrown
far off, and from there only crawls back. So a law is taken at a voltage that follows what the line gave by the
current's logarithm: L. W. Nagel, "SPICE2: A computer program to simulate semiconductor circuits", Memorandum
ERL-M520, University of California, Berkeley (1975), on Colon's method for junctions, and on its limits for
field-effect transistors, which are simplified here. A tube's grid goes up by factors.
"""

from __future__ import annotations

import math
from typing import Any

from thermionic.compiled import compiled, inlined
from thermionic.devices.knees import THERMAL_VOLT
from thermionic.devices.laws import NO_BREAKDOWN, Law

GRID_VOLT = 1.0  # up to which a tube's grid goes freely
FAR_VOLT = 3.5  # past a threshold, or between drain and source, from which on a transistor changes little


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
def _up_to(new: float, old: float, free: float) -> float:
    """No further up than ``free``, or twice as far as it was."""
    return min(new, max(free, 2.0 * old))


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
def _begun(law: int, p: Any, v: Any) -> None:
    """Put a device's sensed voltages where its law is neither dead nor steep."""
    if law == Law.TRIODE or law == Law.PENTODE or law == Law.FILAMENT_TRIODE:
        v[0] = min(v[0], 0.0)
    elif law == Law.DIODE:
        v[0] = min(v[0], _critical(p[1] * THERMAL_VOLT, p[0]))
    elif law == Law.ZENER:
        v[0] = min(max(v[0], -p[0]), _critical(THERMAL_VOLT, p[3]))
    elif law == Law.BIPOLAR:
        v[0], v[1] = p[7] * _critical(p[5] * THERMAL_VOLT, p[0]), 0.0
    elif law == Law.MOSFET:
        v[0], v[1] = p[4] * min(p[4] * v[0], p[0] + 1.0), p[4] * max(p[4] * v[1], 0.0)


@inlined
def _limited(law: int, p: Any, new: Any, old: Any) -> None:
    """Hold a device's sensed voltages to where its law may be taken after ``old``."""
    if law == Law.TRIODE or law == Law.PENTODE or law == Law.FILAMENT_TRIODE:
        new[0] = _up_to(new[0], old[0], GRID_VOLT)
    elif law == Law.DIODE:
        slope_volt = p[1] * THERMAL_VOLT
        new[0] = _followed(new[0], old[0], slope_volt, _critical(slope_volt, p[0]))
        if p[3] < NO_BREAKDOWN:
            new[0] = -p[3] - _followed(-new[0] - p[3], -old[0] - p[3], slope_volt, _critical(slope_volt, p[4]))
    elif law == Law.ZENER:
        new[0] = _followed(new[0], old[0], THERMAL_VOLT, _critical(THERMAL_VOLT, p[3]))
        # At its test current; behind its own resistance it is no exponential for long.
        slope_volt = max(THERMAL_VOLT, p[2] * p[1])
        new[0] = -p[0] - _followed(-new[0] - p[0], -old[0] - p[0], slope_volt, 0.0)
    elif law == Law.BIPOLAR:
        for junction in range(2):
            slope_volt = p[5 + junction] * THERMAL_VOLT
            critical = _critical(slope_volt, p[0])
            new[junction] = p[7] * _followed(p[7] * new[junction], p[7] * old[junction], slope_volt, critical)
    elif law == Law.MOSFET:
        new[0] = p[4] * (p[0] + _gate(p[4] * new[0] - p[0], p[4] * old[0] - p[0]))
        # Below zero its body conducts.
        drain = -_drain(p[4] * new[1], p[4] * old[1])
        new[1] = -p[4] * _followed(drain, -p[4] * old[1], THERMAL_VOLT, _critical(THERMAL_VOLT, p[3]))


@compiled
def begun(laws: Any, at: Any, p: Any, v: Any) -> None:
    """Put the voltages (ports,) that the laws sense where each may be taken at first; see ``laws.evaluate``."""
    for device in range(len(laws)):
        first, port, ports = at[device, 0], at[device, 1], at[device, 2]
        _begun(laws[device], p[first:], v[port:ports])


@compiled
def limited(laws: Any, at: Any, p: Any, new: Any, old: Any) -> None:
    """Hold the voltages (ports,) that the laws sense to where each may be taken after ``old``."""
    for device in range(len(laws)):
        first, port, ports = at[device, 0], at[device, 1], at[device, 2]
        _limited(laws[device], p[first:], new[port:ports], old[port:ports])
