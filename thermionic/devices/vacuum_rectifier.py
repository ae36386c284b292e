"""Vacuum rectifiers."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import ClassVar

import numpy as np

from thermionic.devices.base import Law, Value
from thermionic.devices.triode import Cathode, Warmup
from thermionic.devices.tube_laws import VacuumRectifierNumbers


@dataclass(frozen=True)
class VacuumRectifier(Cathode):
    """A rectifier of two anodes and one cathode, each anode by the space-charge law: i = P v^1.5 for v > 0.

    Source: C. D. Child, "Discharge from hot CaO", Phys. Rev. 32 (1911), p. 492; I. Langmuir, "The effect of space
    charge and residual gases on thermionic currents in high vacuum", Phys. Rev. 2 (1913), p. 450. ``perveance`` is in
    A/V^1.5 an anode, fitted to published drops. The half volt or so of contact potential and initial velocity is
    left out: it is under 3 % of the drop of any rectifier in service. A half-wave tube has one of its anodes on
    its cathode. ``knee_volt`` rounds the law's foot off, for a solver's own use; it is nothing in a tube.
    """

    perveance: Value
    scale: Value = 1.0
    warmup: Warmup = field(default=Warmup())
    knee_volt: float = 0.0
    terminals: ClassVar = ("anode1", "anode2", "cathode")
    ports: ClassVar = ((0, 2), (1, 2))
    equation: ClassVar = Law.VACUUM_RECTIFIER
    rectifies: ClassVar = True

    def numbers(self) -> tuple[Value, ...]:
        return VacuumRectifierNumbers(np.asarray(self.perveance) * self.scale, knee_volt=self.knee_volt)

    def softened(self, times: float) -> VacuumRectifier:
        return replace(self, knee_volt=0.2 * (times - 1.0))
