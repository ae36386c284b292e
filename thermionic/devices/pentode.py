"""Pentodes and beam tetrodes: anode, screen and grid current from one set of coefficients."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar

import numpy as np

from thermionic.devices.base import CHARGE, Array, Arrays, Noise, Plain, Value, between
from thermionic.devices.triode import Cathode, TriodeCoefficients, Warmup, cathode_noise, grid_current, space_current


@dataclass(frozen=True)
class PentodeCoefficients:
    """Constants of one pentode or beam tetrode; see Pentode.

    ``space`` is the triode of cathode, grid and screen (its ``mu`` that of the control grid to the screen);
    ``shield`` how many times weaker than the screen the anode acts on the cathode; ``screen_share`` the part of
    the cathode current that the screen takes where anode and screen are at one voltage; ``screen_slope`` how that
    falls as the anode goes higher; ``knee_perveance`` A/V^1.5 that of the anode's own diode line below the knee;
    ``knee_sharpness`` a pure number.
    """

    space: TriodeCoefficients
    shield: Value
    screen_share: Value
    knee_perveance: Value
    knee_sharpness: Value = 2.0
    screen_slope: Value = 0.0


@dataclass(frozen=True)
class Pentode(Cathode):
    """A pentode or beam tetrode, the suppressor or beam plates at the cathode.

    The simplest textbook pentode multiplies the anode current by arctan(Va / kvb) and lets the screen
    draw a power of its own grid voltages, whatever the anode does. Ours keeps the cathode current whole and
    divides it, as the electrons do:

    1. Cathode current. Koren's triode equation (see Triode) with the screen for its anode and, by the law of
       the equivalent diode (B. D. H. Tellegen, "De grootte van de emissiestroom in een triode", Physica 5
       (1925), p. 301), the anode acting through it ``shield`` times weaker:
       Ve = (Vs + Va / shield) / (1 + 1 / shield), so that a tube strapped as a triode has Ve = Va exactly.
    2. Division. Well above the knee the screen's current over the anode's is r (Vs / Va)^q. With a suppressor q is
       next to nothing, for the wires intercept what heads for them (K. R. Spangenberg, *Vacuum Tubes* (1948), ch.
       9); in beam tubes, their wires in the control grid's shadow, less is caught as the anode pulls harder, and
       q is about 1. Taken as r (1.1 Vs / (Va + 0.1 Vs))^q, so that it stays finite.
    3. The knee. Below it the space between screen and anode holds more current than the anode can draw past a
       virtual cathode, and the anode follows a diode line of its own, K Va^1.5, whatever the grid asks
       (O. H. Schade, "Beam power tubes", Proc. IRE 26 (1938), p. 137). The passage between the two is

           Ia = Ip / (1 + (Ip / (K Va^1.5))^n)^(1/n),    Ip = Ik / (1 + r (...)^q)

       and what the anode does not take the screen does: Is = Ik - Ia. So the screen current rises as the anode
       swings low, all curves run into one line left of the knee, and nothing depends on how the tube is
       used: pentode, ultra-linear at any tap, or triode.

    Not modelled: secondary emission (the dip of a true tetrode), and electrons turned back to the cathode, so
    the screen current at very low anode voltage is the upper bound of what a real tube draws.
    """

    coefficients: PentodeCoefficients
    grid_anode_farad: Value = 0.0
    grid_cathode_farad: Value = 0.0
    anode_cathode_farad: Value = 0.0
    scale: Value = 1.0
    warmup: Warmup = field(default=Warmup())
    terminals: ClassVar = ("anode", "screen", "grid", "cathode")
    ports: ClassVar = ((2, 3), (1, 3), (0, 3))

    def storage(self) -> Array:
        return (
            between(4, 0, 2, self.grid_anode_farad)
            + between(4, 2, 3, self.grid_cathode_farad)
            + between(4, 0, 3, self.anode_cathode_farad)
        )

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        i_parts, g_parts = _currents(self.coefficients, v[..., 0], v[..., 1], v[..., 2], Arrays)
        shape = np.broadcast_shapes(*(np.shape(part) for part in i_parts))
        i, g = np.empty((*shape, 3)), np.empty((*shape, 3, 3))
        for row in range(3):
            i[..., row] = i_parts[row]
            for column in range(3):
                g[..., row, column] = g_parts[row][column]
        scale = np.asarray(self.scale)
        return i * scale[..., None], g * scale[..., None, None]

    def plain_currents(self, v: Sequence[float]) -> tuple[Sequence[float], Sequence[Sequence[float]]]:
        i, g = _currents(self.coefficients, v[0], v[1], v[2], Plain)
        s = self.scale
        return [s * one for one in i], [[s * one for one in row] for row in g]

    def noise(self, local: Array) -> tuple[Noise, ...]:
        i, g = self.currents(self.sensed(local))
        # Partition noise: what the screen takes at random the anode lacks (van der Ziel, *Noise*, ch. 5).
        shared = 2 * CHARGE * i[..., 1] * i[..., 2] / np.maximum(i[..., 1] + i[..., 2], 1e-30)
        return (
            *cathode_noise(0, 3, g[..., 2, 0], shared),
            Noise(2, 3, 2 * CHARGE * i[..., 0], kind="grid"),
        )


def _currents(k: PentodeCoefficients, vg: Any, vs: Any, va: Any, m: Any) -> tuple[Any, Any]:
    """Grid, screen and anode current, and the derivatives of each by grid, screen and anode voltage."""
    up = va > 0
    positive = m.maximum(va, 0.0)
    # The cathode current, by the equivalent voltage of screen and anode.
    share = 1.0 / (1.0 + 1.0 / k.shield)
    ik, ik_vg, by_ve = space_current(k.space, vg, share * (vs + positive / k.shield), m)
    ik_vs, ik_va = by_ve * share, m.where(up, by_ve * share / k.shield, 0.0)

    # The anode's part of it above the knee.
    screen = m.maximum(vs, 1e-3)
    mixed = positive + 0.1 * screen
    r = k.screen_share / (1.0 - k.screen_share) * (1.1 * screen / mixed) ** k.screen_slope
    part = 1.0 / (1.0 + r)
    by = -r * k.screen_slope * part * part
    part_vs = m.where(vs > 1e-3, by * (1.0 / screen - 0.1 / mixed), 0.0)
    part_va = m.where(up, -by / mixed, 0.0)

    # The knee. Far below it the ratio is huge: work with the smaller of the ratio and its inverse.
    volt = m.maximum(va, 1e-9)
    line = k.knee_perveance * volt * m.sqrt(volt)
    plain = part * ik
    ratio = plain / line
    small = m.minimum(ratio, 1.0 / m.maximum(ratio, 1e-300)) ** k.knee_sharpness
    above = ratio <= 1.0
    ia = m.where(up, m.where(above, plain, line) * (1.0 + small) ** (-1.0 / k.knee_sharpness), 0.0)
    # d ln ia / d ln plain = 1 / (1 + ratio^n), and the rest is the line's.
    by_plain = m.where(above, 1.0, small) / (1.0 + small)
    per_plain = by_plain * ia / m.maximum(plain, 1e-100)
    own = (1.0 - by_plain) * ia * 1.5 / volt

    ia_vg = per_plain * part * ik_vg
    ia_vs = per_plain * (part * ik_vs + ik * part_vs)
    ia_va = per_plain * (part * ik_va + ik * part_va) + own
    ig, ig_vg = grid_current(k.space, vg, m)
    zero = 0.0 * ig
    slopes = (
        (ig_vg, zero, zero),
        (ik_vg - ia_vg, ik_vs - ia_vs, ik_va - ia_va),
        (ia_vg, ia_vs, ia_va),
    )
    return (ig, ik - ia, ia), slopes
