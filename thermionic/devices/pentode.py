"""Pentodes and beam tetrodes: anode, screen and grid current from one set of coefficients."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import ClassVar

import numpy as np

from thermionic.devices.base import CHARGE, Array, Device, Noise, Value, between, logistic, softplus
from thermionic.devices.triode import TriodeCoefficients, Warmup, cathode_noise, grid_current


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
class Pentode(Device):
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
        k = self.coefficients
        vg, vs, va = v[..., 0], v[..., 1], v[..., 2]
        ik, ik_vg, ik_vs, ik_va = _cathode_current(k, vg, vs, va)

        positive = np.maximum(va, 1e-9)
        line = k.knee_perveance * positive**1.5
        part, part_vs, part_va = _anode_part(k, vs, va)
        plain = part * ik
        ratio = plain / line
        # Far below the knee the ratio is huge: work with the smaller of ratio and its inverse.
        small = np.minimum(ratio, 1.0 / np.maximum(ratio, 1e-300)) ** k.knee_sharpness
        above = ratio <= 1.0
        root = (1.0 + small) ** (-1.0 / k.knee_sharpness)
        ia = np.where(above, plain, line) * root
        # d ln ia / d ln plain = 1 / (1 + ratio^n), and the rest is the line's.
        by_plain = np.where(above, 1.0 / (1.0 + small), small / (1.0 + small))
        per_plain = by_plain * ia / np.maximum(plain, 1e-100)
        own = np.where(va > 0, (1.0 - by_plain) * ia * 1.5 / positive, 0.0)
        ia = np.where(va > 0, ia, 0.0)
        per_plain = np.where(va > 0, per_plain, 0.0)
        per_ik = per_plain * part
        ig, ig_vg = grid_current(k.space, vg)

        i, g = np.empty((*ik.shape, 3)), np.zeros((*ik.shape, 3, 3))
        i[..., 0], i[..., 1], i[..., 2] = ig, ik - ia, ia
        g[..., 0, 0] = ig_vg
        for column, slope in enumerate((ik_vg, ik_vs, ik_va)):
            g[..., 2, column] = per_ik * slope
            g[..., 1, column] = (1.0 - per_ik) * slope
        for column, slope in ((1, per_plain * ik * part_vs), (2, per_plain * ik * part_va + own)):
            g[..., 2, column] += slope
            g[..., 1, column] -= slope
        scale = np.asarray(self.scale)
        return i * scale[..., None], g * scale[..., None, None]

    def noise(self, local: Array) -> tuple[Noise, ...]:
        i, g = self.currents(self.sensed(local))
        # Partition noise: what the screen takes at random the anode lacks (van der Ziel, *Noise*, ch. 5).
        shared = 2 * CHARGE * i[..., 1] * i[..., 2] / np.maximum(i[..., 1] + i[..., 2], 1e-30)
        return (
            *cathode_noise(0, 3, g[..., 2, 0], shared),
            Noise(2, 3, 2 * CHARGE * i[..., 0], kind="grid"),
        )

    def at_time(self, second: float, off: float = np.inf) -> Pentode:
        if self.warmup.second <= 0:
            return self
        return replace(self, scale=self.scale * self.warmup.emission(second, off), warmup=Warmup())


def _cathode_current(k: PentodeCoefficients, vg: Array, vs: Array, va: Array) -> tuple[Array, Array, Array, Array]:
    """The whole cathode current and its derivatives by grid, screen and anode voltage."""
    share = 1.0 / (1.0 + 1.0 / np.asarray(k.shield))
    positive = va > 0
    ve = share * (vs + np.where(positive, va, 0.0) / k.shield)
    space = k.space
    up = np.maximum(ve, 0.0)
    root = np.sqrt(space.kvb + up**2)
    u = space.kp * (1.0 / space.mu + vg / root)
    soft, slope = softplus(u), logistic(u)
    e1 = up * soft / space.kp
    i = 2.0 / space.kg1 * e1**space.ex
    by_e1 = space.ex * i / np.maximum(e1, 1e-100)
    by_ve = by_e1 * np.where(ve > 0, soft / space.kp - slope * vg * up**2 / root**3, 0.0)
    return i, by_e1 * up * slope / root, by_ve * share, by_ve * np.where(positive, share / k.shield, 0.0)


def _anode_part(k: PentodeCoefficients, vs: Array, va: Array) -> tuple[Array, Array, Array]:
    """The anode's part of the cathode current above the knee, and its derivatives by screen and anode voltage."""
    ratio = np.asarray(k.screen_share) / (1.0 - np.asarray(k.screen_share))
    screen, anode = np.maximum(vs, 1e-3), np.maximum(va, 0.0)
    mixed = anode + 0.1 * screen
    r = ratio * (1.1 * screen / mixed) ** k.screen_slope
    part = 1.0 / (1.0 + r)
    by = -r * k.screen_slope * part**2
    by_vs = np.where(vs > 1e-3, by * (1.0 / screen - 0.1 / mixed), 0.0)
    return part, by_vs, np.where(va > 0, -by / mixed, 0.0)
