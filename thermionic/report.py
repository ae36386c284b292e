"""A solved design as plain data, for the command line."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from thermionic.blocks import SolvedAmplifier, needs
from thermionic.blocks.amplifier import REFERENCE_HERTZ, DrivenPoint
from thermionic.findings import examine


def report(amplifier: SolvedAmplifier) -> dict[str, Any]:
    """``nodes`` (name to volts), ``parts`` (name to current A, voltage V, dissipation W, path), ``supply``,
    ``signal`` (gain, response, power, distortion) and ``findings``. Raises NoSolution."""
    return {
        "name": amplifier.design.name,
        "nodes": {node: amplifier.voltage(node) for node in amplifier.netlist.nodes},
        "parts": {
            name: {**asdict(state), "path": amplifier.netlist[name].path} for name, state in amplifier.parts.items()
        },
        "supply": _supply(amplifier),
        "signal": _signal(amplifier),
        "findings": [
            {
                "rule": finding.rule,
                "severity": finding.severity.words,
                "designator": finding.designator,
                "path": finding.path,
                "title": finding.title,
                "evidence": finding.evidence,
                "why": finding.why,
                "value": finding.value,
                "limit": finding.limit,
                "cure": asdict(finding.cure) if finding.cure else None,
            }
            for finding in examine(amplifier)
        ],
    }


def _supply(amplifier: SolvedAmplifier) -> dict[str, Any]:
    rectifier = amplifier.rectifier
    return {
        "reservoir_v": rectifier.mean_volt,
        "reservoir_v_without_tubes": amplifier.without_tubes.at.voltage("reservoir"),
        "current_a": rectifier.mean_ampere,
        "diode_peak_a": rectifier.peak_ampere,
        "winding_rms_a": rectifier.winding_rms_ampere,
        "ripple_v_peak_to_peak": {
            node: amplifier.ripple(node)
            for node in ("reservoir", *(section.id for section in amplifier.design.supply.sections))
        },
    }


def _signal(amplifier: SolvedAmplifier) -> dict[str, Any]:
    speaker = amplifier.design.loudspeaker
    response = amplifier.response(speaker.id)
    needed = needs(amplifier.design)
    return {
        "hertz": REFERENCE_HERTZ,
        "gain": amplifier.gain(speaker.id),
        "output_impedance_ohm": amplifier.output_impedance,
        "response": {
            "low_hertz": response.corner(REFERENCE_HERTZ, upwards=False),
            "high_hertz": response.corner(REFERENCE_HERTZ, upwards=True),
            "hertz": response.hertz.tolist(),
            "gain_db": response.decibels.tolist(),
        },
        "power": {
            "at_source": _point(amplifier.at_source),
            "full_output": _point(amplifier.full_output),
            "needed_w": needed.power_watt,
        },
        "distortion": [_point(point) for point in amplifier.sweep],
    }


def _point(point: DrivenPoint | None) -> dict[str, Any] | None:
    if point is None:
        return None
    return {
        "source_vrms": point.source_volt,
        "power_w": point.power_watt,
        "thd": point.distortion,
        "harmonics": {str(order): size for order, size in enumerate(point.harmonics, start=2)},
    }
