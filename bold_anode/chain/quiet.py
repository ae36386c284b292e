"""Noise and hum at the load, by cause."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from bold_anode.amps.rooms import Shown
from bold_anode.frame.requests import Request
from thermionic.amplifier import SolvedAmplifier
from thermionic.performance.quiet import Cause, Quiet, quiet
from thermionic.values import Quantity, display

_FLOOR = -150.0  # dB, where a bar has no length
_NAMED = 6


@dataclass(frozen=True)
class Bar:
    """One cause: its words, how far below the reference it is, the voltage, and its bar's length, 0 to 100."""

    name: str
    where: str
    decibels: str
    volt: str
    length: float
    whole: bool = False


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The tab."""
    amplifier = shown.solved.amplifier
    result = quiet(amplifier)
    noise = [_bar(result, "All noise, 20 Hz to 20 kHz", "", result.noise_volt, whole=True)]
    noise.append(_bar(result, "the same, A-weighted", "", result.weighted_volt, whole=True))
    noise += [_cause(amplifier, result, cause) for cause in result.noise_causes[:_NAMED]]
    hum = []
    if result.hum_volt > 0:
        strongest = display(result.hum_hertz, Quantity.FREQUENCY)
        hum.append(_bar(result, f"All hum, strongest at {strongest}", "", result.hum_volt, whole=True))
        hum += [_cause(amplifier, result, cause) for cause in result.hum_causes[:_NAMED]]
    return "chain/quiet.html", {
        "noise": noise,
        "hum": hum,
        "reference": amplifier.load.written(result.reference),
    }


def _cause(amplifier: SolvedAmplifier, found: Quiet, cause: Cause) -> Bar:
    where = amplifier.design.block(cause.block).label if cause.block else ""
    name = cause.name or "by other ways than the rails"
    rail = any(rail.name == cause.name for rail in amplifier.compiled.rails)
    return _bar(found, f"rail {name.replace('_', ' ')}" if rail else name, "" if rail else where, cause.volt)


def _bar(found: Quiet, name: str, where: str, volt: float, whole: bool = False) -> Bar:
    level = found.below(volt)
    length = 100.0 * min(max((level - _FLOOR) / -_FLOOR, 0.0), 1.0)
    return Bar(name, where, f"{level:.0f} dB", display(volt, Quantity.VOLTAGE), length, whole)
