"""Vacuum rectifiers."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import ClassVar

import numpy as np

from thermionic.devices.base import Array, Value, logistic, softplus
from thermionic.devices.triode import Cathode, Warmup


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
    rectifies: ClassVar = True

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        perveance = np.asarray(self.perveance * np.asarray(self.scale))[..., None]
        if self.knee_volt > 0:
            u = v / self.knee_volt
            root, bend = np.sqrt(self.knee_volt * softplus(u)), logistic(u)
        else:
            root, bend = np.sqrt(np.maximum(v, 0.0)), np.ones(())
        slope = 1.5 * perveance * root * bend
        g = np.zeros((*v.shape, 2))
        g[..., 0, 0], g[..., 1, 1] = slope[..., 0], slope[..., 1]
        return perveance * root**3, g

    def softened(self, times: float) -> VacuumRectifier:
        return replace(self, knee_volt=0.2 * (times - 1.0))
