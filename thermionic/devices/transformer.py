"""Output transformers."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from thermionic.devices.base import Array, Device


@dataclass(frozen=True)
class OutputTransformer(Device):
    """Two windings on one core, linear.

    ``turns_ratio`` n is primary turns over those of the secondary in use; ``primary_henry`` Lp the magnetising
    inductance seen from the primary; ``leakage_henry`` the leakage inductance referred to the primary;
    ``primary_ohm`` and ``secondary_ohm`` the copper. The coupled-coil equations

        v1 = R1 i1 + (Lp + Lleak) di1/dt + (Lp / n) di2/dt
        v2 = R2 i2 + (Lp / n) di1/dt + (Lp / n^2) di2/dt

    are those of F. E. Terman, *Radio Engineers' Handbook* (1943), section 2, with all leakage put on the
    primary side. Core loss, saturation and winding capacitance are not modelled.
    """

    turns_ratio: float
    primary_henry: float
    leakage_henry: float
    primary_ohm: float
    secondary_ohm: float
    terminals: ClassVar = ("primary_start", "primary_end", "secondary_start", "secondary_end")
    branches: ClassVar = 2

    def conductance(self) -> Array:
        g = np.zeros((6, 6))
        for branch, (start, end, ohm) in enumerate(((0, 1, self.primary_ohm), (2, 3, self.secondary_ohm)), start=4):
            g[start, branch], g[end, branch] = 1.0, -1.0
            g[branch, start], g[branch, end] = 1.0, -1.0
            g[branch, branch] = -ohm
        return g

    def inductances(self) -> Array:
        """Primary, mutual and secondary inductance as a (2, 2) matrix, H."""
        mutual = self.primary_henry / self.turns_ratio
        return np.array(
            [
                [self.primary_henry + self.leakage_henry, mutual],
                [mutual, self.primary_henry / self.turns_ratio**2],
            ]
        )

    def storage(self) -> Array:
        c = np.zeros((6, 6))
        c[4:, 4:] = -self.inductances()
        return c
