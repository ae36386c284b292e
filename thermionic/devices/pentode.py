"""Pentodes and beam tetrodes: anode, screen and grid current from one set of coefficients."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import ClassVar

import numpy as np

from thermionic.devices.base import CHARGE, Array, Law, Noise, Value, between
from thermionic.devices.triode import Cathode, TriodeCoefficients, Warmup, cathode_noise
from thermionic.devices.tube_laws import PentodeNumbers


@dataclass(frozen=True)
class PentodeCoefficients:
    """Constants of one pentode or beam tetrode; see Pentode.

    ``space`` is the triode of cathode, grid and screen (its ``mu`` that of the control grid to the screen);
    ``shield`` how many times weaker than the screen the anode acts on the cathode; ``screen_share`` the part of
    the cathode current that the screen takes where anode and screen are at one voltage and the grid at zero;
    ``screen_slope`` how that falls as the anode goes higher, ``screen_drive`` how it falls as the grid goes lower;
    ``knee_perveance`` A/V^1.5 that of the anode's own diode line below the knee;
    ``knee_sharpness`` a pure number.
    """

    space: TriodeCoefficients
    shield: Value
    screen_share: Value
    knee_perveance: Value
    knee_sharpness: Value = 2.0
    screen_slope: Value = 0.0
    screen_drive: Value = 0.0


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
       q is about 1. Taken as r (1.1 Vs / (Va + 0.1 Vs))^q, so that it stays finite. There the grid also focuses:
       the more negative it is, the narrower the sheets of current between the screen's wires (Schade, below), and
       r falls with d^p, d = E mu / Ve being the effective voltage E over its value at no bias (held from 0.001 to 2).
       That power is our own form; p is some 1 in a 6V6GT, by its published screen currents, and 0 with a suppressor.
    3. The knee. Below it the space between screen and anode holds more current than the anode can draw past a
       virtual cathode, and the anode follows a diode line of its own, K Va^1.5, whatever the grid asks
       (O. H. Schade, "Beam power tubes", Proc. IRE 26 (1938), p. 137). The passage between the two is

           Ia = Ip / (1 + (Ip / (K Va^1.5))^n)^(1/n),    Ip = Ik / (1 + r (...)^q d^p)

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
    equation: ClassVar = Law.PENTODE

    def storage(self) -> Array:
        return (
            between(4, 0, 2, self.grid_anode_farad)
            + between(4, 2, 3, self.grid_cathode_farad)
            + between(4, 0, 3, self.anode_cathode_farad)
        )

    def numbers(self) -> tuple[Value, ...]:
        k = self.coefficients
        return PentodeNumbers(
            **k.space.numbers(self.scale)._asdict(), shield=k.shield, screen_share=k.screen_share,
            knee_perveance=k.knee_perveance, knee_sharpness=k.knee_sharpness, screen_slope=k.screen_slope,
            screen_drive=k.screen_drive,
        )  # fmt: skip

    def noise(self, local: Array) -> tuple[Noise, ...]:
        i, g = self.currents(self.sensed(local))
        # Partition noise: what the screen takes at random the anode lacks (van der Ziel, *Noise*, ch. 5).
        shared = 2 * CHARGE * i[..., 1] * i[..., 2] / np.maximum(i[..., 1] + i[..., 2], 1e-30)
        return (
            *cathode_noise(0, 3, g[..., 2, 0], shared),
            Noise(2, 3, 2 * CHARGE * i[..., 0], kind="grid"),
        )
