"""A switching converter and a three-terminal regulator, as what they do at their ends."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from thermionic.devices.base import EARTH, Device, Law, Value
from thermionic.devices.converter_laws import ConverterNumbers, LinearRegulatorNumbers

KNEE_VOLT = 0.02  # within which a linear regulator comes out of its dropout


@dataclass(frozen=True)
class Converter(Device):
    """``volt`` behind ``ohm`` from ``least_volt`` or more at its input, no more than ``ampere``, and in proportion
    to its input below that. What it gives it takes from its input through its ``efficiency``, with ``idle_watt`` on
    top; nothing flows back. It comes up evenly in ``rises_second``.

    A picture of its own, not of a make: the averaged converter as an ideal transformer of power (R. W. Erickson and
    D. Maksimović, *Fundamentals of Power Electronics*, 2nd ed. (2001), ch. 3 and 11), with its two limits. What it
    switches, and what of that gets out, is not in it.
    """

    volt: Value
    ampere: Value
    least_volt: Value
    ohm: Value = 1.0
    efficiency: Value = 0.85
    idle_watt: Value = 0.0
    rises_second: float = 0.0
    terminals: ClassVar = ("input", "output")
    ports: ClassVar = ((0, EARTH), (1, EARTH))
    equation: ClassVar = Law.CONVERTER

    def numbers(self) -> tuple[Value, ...]:
        return ConverterNumbers(
            volt=self.volt, ohm=self.ohm, limit_ampere=self.ampere, least_volt=self.least_volt,
            efficiency=self.efficiency, idle_watt=self.idle_watt,
        )  # fmt: skip

    def at_time(self, second: float, off: float = np.inf) -> Device:
        if self.rises_second <= 0 or second >= self.rises_second:
            return self
        return replace(self, volt=self.volt * second / self.rises_second)


@dataclass(frozen=True)
class LinearRegulator(Device):
    """``volt`` behind ``ohm``, or what the input leaves past ``dropout_volt`` where that is less, no more than
    ``ampere``. What it gives it takes from its input, with ``idle_ampere`` on top; nothing flows back. Its ripple
    rejection is that of ``ohm`` and infinite else."""

    volt: Value
    ampere: Value
    dropout_volt: Value = 2.0
    ohm: Value = 0.02
    idle_ampere: Value = 5e-3
    terminals: ClassVar = ("input", "output")
    ports: ClassVar = ((0, EARTH), (1, EARTH))
    equation: ClassVar = Law.LINEAR_REGULATOR

    def numbers(self) -> LinearRegulatorNumbers:
        return LinearRegulatorNumbers(
            volt=self.volt, ohm=self.ohm, limit_ampere=self.ampere, dropout_volt=self.dropout_volt,
            idle_ampere=self.idle_ampere, knee_volt=KNEE_VOLT,
        )  # fmt: skip
