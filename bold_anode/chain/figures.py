"""The numbers beside a stage's diagram, with what changed."""

from __future__ import annotations

from dataclasses import dataclass

from thermionic.blocks import SolvedAmplifier, stage_numbers
from thermionic.values import Quantity, display


@dataclass(frozen=True)
class Figure:
    """One number with its name; ``was`` is what it was before the last change, "" if the same."""

    name: str
    text: str
    was: str = ""


def stage_figures(amplifier: SolvedAmplifier, before: SolvedAmplifier | None, stage_id: str) -> list[Figure]:
    """The stage's own numbers."""
    old = {}
    if before is not None and any(stage.id == stage_id for stage in before.design.stages):
        old = _stage(before, stage_id)
    return _compared(_stage(amplifier, stage_id), old)


def amplifier_figures(amplifier: SolvedAmplifier, before: SolvedAmplifier | None) -> list[Figure]:
    """The whole amplifier's numbers."""
    return _compared(_amplifier(amplifier), _amplifier(before) if before else {})


def _compared(now: dict[str, str], old: dict[str, str]) -> list[Figure]:
    return [Figure(name, text, old[name] if old.get(name, text) != text else "") for name, text in now.items()]


def _stage(amplifier: SolvedAmplifier, stage_id: str) -> dict[str, str]:
    n = stage_numbers(amplifier, stage_id)
    volt, ohm, hertz, watt = Quantity.VOLTAGE, Quantity.RESISTANCE, Quantity.FREQUENCY, Quantity.POWER
    return {
        "Anode current": display(n.anode_ampere, Quantity.CURRENT),
        "Anode to earth": display(n.anode_volt, volt),
        "Cathode to earth": display(n.cathode_volt, volt),
        "Bias": display(n.bias_volt, volt),
        "Anode dissipation": f"{display(n.dissipation_watt, watt)} of {n.dissipation_limit_watt:g}",
        "Gain to the anode": f"{n.gain:.3g} ×",
        "Impedance at the anode": display(n.output_ohm, ohm),
        "-3 dB": " to ".join(
            [
                display(n.low_hertz, hertz, 2) if n.low_hertz else "under 2 Hz",
                display(n.high_hertz, hertz, 2) if n.high_hertz else "over 500 kHz",
            ]
        ),
        "Grid drive for full output": f"{display(n.input_for_full_volt, volt)} rms",
    }


def _amplifier(amplifier: SolvedAmplifier) -> dict[str, str]:
    point, full = amplifier.at_source, amplifier.full_output
    if point is not None:
        figures = {
            "Power as set": display(point.power_watt, Quantity.POWER),
            "Distortion there": f"{point.distortion:.2%}",
        }
    else:
        figures = {"Power as set": "overdriven", "Distortion there": "turn it down"}
    return figures | {
        f"Full output, {full.distortion:.0%}": display(full.power_watt, Quantity.POWER),
        "Output impedance": display(amplifier.output_impedance, Quantity.RESISTANCE),
    }
