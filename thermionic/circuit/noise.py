"""Noise: every device's own sources carried to the output, referred to the input, and weighted.

One solution of the transposed equations gives the transfer from every place in the circuit to the output at once
(R. Rohrer, L. Nagel, R. Meyer and L. Weber, "Computationally efficient electronic-circuit noise calculations", IEEE
J. Solid-State Circuits 6 (1971), p. 204).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic import budget
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.operating_point import OperatingPoint
from thermionic.circuit.small_signal import SmallSignal, respond
from thermionic.devices.base import Array
from thermionic.errors import NetlistRefused


@dataclass(frozen=True, eq=False)
class Contribution:
    """What one source of one part gives: its density at the output, V^2/Hz, (frequencies,)."""

    part: str
    kind: str
    density: Array


@dataclass(frozen=True, eq=False)
class NoiseResult:
    """Noise at a node against frequency: ``density`` V^2/Hz at the output, and ``gain`` the magnitude of the
    transfer from the input source, both (frequencies,)."""

    hertz: Array
    density: Array
    gain: Array
    contributions: tuple[Contribution, ...]

    @property
    def input_density(self) -> Array:
        """The density referred to the input, V^2/Hz; not a number where there is no gain."""
        with np.errstate(divide="ignore", invalid="ignore"):
            return self.density / self.gain**2

    def output_volt(self, weighting: str = "flat", low: float = 20.0, high: float = 20e3) -> float:
        """Noise voltage at the output from ``low`` to ``high`` Hz, V rms."""
        return self._rms(self.density, weighting, low, high)

    def input_volt(self, weighting: str = "flat", low: float = 20.0, high: float = 20e3) -> float:
        """Output noise over the gain, each frequency by its own: equivalent input noise, V rms."""
        return self._rms(self.input_density, weighting, low, high)

    def by_part(self, low: float = 20.0, high: float = 20e3, weighting: str = "flat") -> dict[str, float]:
        """Each part's share of the output noise, V rms, the largest first."""
        total: dict[str, float] = {}
        for contribution in self.contributions:
            total[contribution.part] = (
                total.get(contribution.part, 0.0) + self._rms(contribution.density, weighting, low, high) ** 2
            )
        return {name: float(np.sqrt(power)) for name, power in sorted(total.items(), key=lambda item: -item[1])}

    def _rms(self, density: Array, weighting: str, low: float, high: float) -> float:
        """Integrates over the frequencies solved, straight lines in log-log between them."""
        if low < self.hertz[0] * (1 - 1e-9) or high > self.hertz[-1] * (1 + 1e-9) or low >= high:
            raise NetlistRefused(
                f"Noise from {low:g} to {high:g} Hz was asked for, but it was solved from {self.hertz[0]:g} to "
                f"{self.hertz[-1]:g} Hz."
            )
        fine = np.geomspace(max(low, self.hertz[0]), min(high, self.hertz[-1]), 2000)
        level = np.exp(np.interp(np.log(fine), np.log(self.hertz), np.log(np.maximum(density, 1e-300))))
        return float(np.sqrt(np.trapezoid(level * weight(weighting, fine) ** 2, fine)))


def weight(name: str, hertz: Array) -> Array:
    """The amplitude of a weighting curve at each frequency: ``flat``, ``A`` (IEC 61672) or ``468`` (ITU-R BS.468).

    Raises NetlistRefused for another name.
    """
    f = np.asarray(hertz, dtype=float)
    if name == "flat":
        return np.ones_like(f)
    if name == "A":
        square = f**2
        curve = square**2 * 12194.0**2 / (
            (square + 20.6**2)
            * np.sqrt((square + 107.7**2) * (square + 737.9**2))
            * (square + 12194.0**2)
        )  # fmt: skip
        return curve * 10 ** (2.0 / 20)
    if name == "468":
        h1 = -4.737338981378384e-24 * f**6 + 2.043828333606125e-15 * f**4 - 1.363894795463638e-7 * f**2 + 1
        h2 = 1.306612257412824e-19 * f**5 - 2.118150887518656e-11 * f**3 + 5.559488023498642e-4 * f
        return 1.246332637532143e-4 * f / np.hypot(h1, h2) * 10 ** (18.2 / 20)
    raise NetlistRefused(f"“{name}” is no weighting that is known; there are flat, A and 468.")


def noise(at: OperatingPoint, node: str, source: str, hertz: Array) -> NoiseResult:
    """Noise at ``node``, with ``source`` the voltage source it is referred to, at each frequency.

    Resistors have thermal noise, and excess noise where they say so; tubes shot, partition, grid and flicker noise;
    junctions shot noise. Raises NetlistRefused for an output at earth or a source that is not one; NoSolution.
    """
    if node == GROUND:
        raise NetlistRefused("Noise is asked for at earth, where there is none: name a node.")
    hertz = np.atleast_1d(np.asarray(hertz, dtype=float))
    system = at.system
    with budget.at_most():
        out = np.zeros((system.size, 1))
        out[system.node(node), 0] = 1.0
        reach = respond(system, at.slopes, hertz, out, transposed=True)[..., 0]  # (frequencies, size)
        ended = np.concatenate([reach, np.zeros((len(hertz), 1))], axis=1)
        contributions = []
        for place in system.placed:
            for one in place.part.device.noise(system.local(place, at.x)):
                ends = [place.unknowns[end] if end >= 0 else -1 for end in (one.plus, one.minus)]
                transfer = np.abs(ended[:, ends[0]] - ended[:, ends[1]]) ** 2
                density = transfer * (np.asarray(one.white) + np.asarray(one.flicker) / hertz)
                if density.any():
                    contributions.append(Contribution(place.part.name, one.kind, density))
        gain = np.abs(SmallSignal(at).from_source(source, hertz)[:, system.node(node)])
        total = (
            np.sum([contribution.density for contribution in contributions], axis=0)
            if contributions
            else np.zeros(len(hertz))
        )
    return NoiseResult(hertz, total, gain, tuple(contributions))
