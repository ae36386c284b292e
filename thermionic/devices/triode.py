"""The triode: anode and grid current from the voltages on its electrodes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from thermionic.devices.base import Array, Device, between, logistic, softplus


@dataclass(frozen=True)
class TriodeCoefficients:
    """Constants of one triode section; see Triode. ``mu``, ``ex``, ``kp`` and ``grid_xi`` are pure numbers,
    ``kvb`` V^2, ``kg1`` V^ex/A, ``grid_g`` A/V^grid_xi, ``grid_c`` 1/V."""

    mu: float
    ex: float
    kg1: float
    kp: float
    kvb: float
    grid_g: float
    grid_xi: float = 1.314
    grid_c: float = 9.901


@dataclass(frozen=True)
class Triode(Device):
    """Koren's triode with the grid current of Dempwolf, Holters and Zölzer.

    Anode current, N. Koren, "Improved vacuum tube models for SPICE simulations", *Glass Audio* 8 (1996), no. 5:

        E1 = (Va / kp) ln(1 + exp(kp (1/mu + Vg / sqrt(kvb + Va^2))))
        ia = 2 E1^ex / kg1 for Va > 0, else 0

    Grid current, K. Dempwolf, M. Holters and U. Zölzer, "A physically-motivated triode model for circuit
    simulations", *Proc. DAFx-11* (2011), eq. 9, without its constant leakage Ig0:

        ig = grid_g (ln(1 + exp(grid_c Vg)) / grid_c)^grid_xi

    We deviate from that paper in leaving the anode current as Koren gives it, since its coefficients are
    fitted to the anode current itself; the cathode carries the sum. ``scale`` multiplies both currents (a
    weak tube has less than 1). The inter-electrode capacitances are in farads.
    """

    coefficients: TriodeCoefficients
    grid_anode_farad: float = 0.0
    grid_cathode_farad: float = 0.0
    anode_cathode_farad: float = 0.0
    scale: float = 1.0
    terminals: ClassVar = ("anode", "grid", "cathode")
    ports: ClassVar = ((1, 2), (0, 2))

    def storage(self) -> Array:
        return (
            between(3, 0, 1, self.grid_anode_farad)
            + between(3, 1, 2, self.grid_cathode_farad)
            + between(3, 0, 2, self.anode_cathode_farad)
        )

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        k = self.coefficients
        vg, va = v[..., 0], v[..., 1]
        positive = np.maximum(va, 0.0)
        root = np.sqrt(k.kvb + positive**2)
        u = k.kp * (1.0 / k.mu + vg / root)
        soft, slope = softplus(u), logistic(u)
        e1 = positive * soft / k.kp
        e1_vg = positive * slope / root
        e1_va = np.where(va > 0, soft / k.kp - slope * vg * positive**2 / root**3, 0.0)
        lift = 2.0 * self.scale / k.kg1
        ia = lift * e1**k.ex
        by_e1 = k.ex * ia / np.maximum(e1, 1e-100)

        w = softplus(k.grid_c * vg) / k.grid_c
        ig = self.scale * k.grid_g * w**k.grid_xi
        ig_vg = k.grid_xi * ig / np.maximum(w, 1e-100) * logistic(k.grid_c * vg)

        i = np.stack([ig, ia], axis=-1)
        g = np.zeros((*i.shape, 2))
        g[..., 0, 0] = ig_vg
        g[..., 1, 0] = by_e1 * e1_vg
        g[..., 1, 1] = by_e1 * e1_va
        return i, g
