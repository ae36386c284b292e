"""Cold-cathode gas tubes used as regulators and references."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from thermionic.devices.base import Array, Device, Law, Value
from thermionic.devices.state_laws import GasRegulatorNumbers


@dataclass(frozen=True)
class GasRegulator(Device):
    """A gas discharge regulator: dark until struck, then nearly constant volts, dark again below its least current.

    Lit, v = running + ohm (i - middle), with ``middle`` the mean of the current window, down to the extinction
    voltage at zero current, where it goes out. Whether it is ``lit`` is a state: analyses ask ``after`` which one
    the voltage across it leads to. Source of the picture: F. A. Benson, *Voltage Stabilizers* (1950), ch. 2. The
    voltage jumps of a few tenths of a volt within the window, its drift, and its noise are not modelled.
    """

    striking_volt: Value
    running_volt: Value
    ohm: Value
    least_ampere: Value
    most_ampere: Value
    lit: bool = False
    terminals: ClassVar = ("anode", "cathode")
    ports: ClassVar = ((0, 1),)
    equation: ClassVar = Law.GAS_REGULATOR

    @property
    def extinction_volt(self) -> Value:
        """The voltage on the lit line at no current, below which the discharge stops."""
        return self.running_volt - self.ohm * 0.5 * (self.least_ampere + self.most_ampere)

    def numbers(self) -> tuple[Value, ...]:
        return GasRegulatorNumbers(extinction_volt=self.extinction_volt, ohm=self.ohm, lit=float(self.lit))

    def after(self, v: Array) -> GasRegulator:
        if not self.lit and np.all(v[0] >= self.striking_volt):
            return replace(self, lit=True)
        if self.lit and np.all(v[0] < self.extinction_volt):
            return replace(self, lit=False)
        return self
