"""What is written for every part: its name, its sources, numbers."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from thermionic import devices
from thermionic.circuit.netlist import Part
from thermionic.circuit.spice.laws import (
    digits,
)


@dataclass
class Cards:
    """Lines of the circuit, and the models that they use, each once."""

    tone_hertz: float | None
    lines: list[str] = field(default_factory=list)
    models: dict[str, str] = field(default_factory=dict)

    def model(self, stem: str, body: str) -> str:
        """The name of the model with this body (which holds NAME where its name goes)."""
        for name, known in self.models.items():
            if known == body.replace("NAME", name):
                return name
        name = f"{stem}{len(self.models) + 1}"
        self.models[name] = body.replace("NAME", name)
        return name


def named(letter: str, part: Part) -> str:
    """The designator with the first letter that SPICE goes by."""
    return part.name if part.name.upper().startswith(letter) else letter + part.name


def source_card(writer: Cards, name: str, part: Part, steady: Any, tone: Any, wave: devices.Wave | None) -> None:
    line = f"{name} {' '.join(part.nodes)} DC {digits(steady)}"
    if tone:
        line += f" AC {digits(abs(tone))} {digits(np.degrees(np.angle(tone)))}"
    if wave is not None:
        line += f" {_wave(wave)}"
    elif tone and writer.tone_hertz:
        line += " " + _called("SIN", steady, abs(tone), writer.tone_hertz, 0.0, 0.0, np.degrees(np.angle(tone)))
    writer.lines.append(line)


def _wave(wave: devices.Wave) -> str:
    if isinstance(wave, devices.Sine):
        phase = np.degrees(wave.phase)
        return _called("SIN", wave.offset, wave.amplitude, wave.hertz, wave.delay, wave.damping, phase)
    if isinstance(wave, devices.Pulse):
        return _called("PULSE", wave.low, wave.high, wave.delay, wave.rise, wave.fall, wave.width, wave.period)
    if isinstance(wave, devices.Exponential):
        return _called("EXP", wave.low, wave.high, wave.delay, wave.rise, wave.back, wave.fall)
    assert isinstance(wave, devices.Piecewise)
    return _called("PWL", *(value for pair in zip(wave.times, wave.values, strict=True) for value in pair))


def _called(name: str, *numbers: float) -> str:
    return f"{name}({' '.join(map(digits, numbers))})"
