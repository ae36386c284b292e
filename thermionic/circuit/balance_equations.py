"""The equations of harmonic balance, their Jacobian, and what solves with it; see harmonic_balance."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from thermionic.circuit.kernels.balance import among, left_over, of_one_tone, through, within
from thermionic.circuit.spectrum import Spectrum, to_phasors, to_real
from thermionic.devices.base import Array, ComplexArray

# Port voltages (samples, levels, ports), phase (samples, 1) and which of all levels these are, to currents (samples,
# levels, injects) and slopes.
PortCurrents = Callable[[Array, Array, NDArray[np.int_]], tuple[Array, Array]]
# Newton's equations are condensed to the samples whose slopes do anything, by this part of what is there, where those
# are at most this part of the unknowns.
_ANYTHING, _FEW_ACTIVE = 1e-6, 0.85


@dataclass(frozen=True, eq=False)
class Balance:
    """Converged phasors: ``volts`` (levels, ports, frequencies) and ``amperes`` (levels, injects, frequencies).

    The first frequency is the mean. A waveform is sum over k of Re(phasor_k exp(j k phase)). ``follows`` is how far
    the mean voltage of each port moves for a volt in the open mean of each other: (levels, ports, ports) of one level
    alone or of levels ``together``, else empty.
    """

    volts: ComplexArray
    amperes: ComplexArray
    follows: Array


class Equations:
    """The balance of levels, or variants, as equations over real unknowns: (levels, ports x width)."""

    def __init__(
        self, spectrum: Spectrum, impedance: ComplexArray, open_volts: ComplexArray, currents: PortCurrents
    ) -> None:
        self.currents = currents
        _, self.ports, self.count = open_volts.shape
        self.width, self.samples = 2 * self.count - 1, len(spectrum.phases)
        self.spectrum = spectrum
        self.phase = spectrum.phases[:, :1]
        self.reach = np.ascontiguousarray(impedance if impedance.ndim == 4 else impedance[None], dtype=complex)
        self.source = self.reals(open_volts)

    def reals(self, phasors: ComplexArray) -> Array:
        """Phasors (levels, ports, frequencies) as unknowns."""
        return to_real(phasors).reshape(len(phasors), -1)

    def found(self, v: Array, flowing: Array, follows: Array) -> Balance:
        """Unknowns, with those of the devices' currents (levels, injects, width), as a result."""
        volts = to_phasors(v.reshape(len(v), self.ports, self.width))
        return Balance(volts, to_phasors(flowing), follows)

    def _of(self, which: NDArray[np.int_]) -> ComplexArray:
        return self.reach[which] if len(self.reach) > 1 else self.reach

    def evaluate(self, v: Array, source: Array, which: NDArray[np.int_]) -> tuple[Array, Array, Array]:
        """Residual (levels, n), unknowns of the devices' currents (levels, injects, width), and slopes (levels,
        samples, injects, ports)."""
        levels = len(v)
        at_samples = self.spectrum.synthesis @ v.reshape(-1, self.width).T
        i, g = self.currents(at_samples.reshape(self.samples, levels, self.ports), self.phase, which)
        flowing = (self.spectrum.analysis @ i.reshape(self.samples, -1)).reshape(self.width, levels, -1)
        residual = np.empty_like(v)
        left_over(v, source, self._of(which), flowing, residual)
        return residual, flowing.transpose(1, 2, 0), g.swapaxes(0, 1)

    def jacobian(self, g: Array, which: NDArray[np.int_], kind: type[np.floating]) -> Array:
        """I + Z dI/dV: what a port's voltage does, at each frequency, to the current at every other, through Z."""
        levels, size, width = len(g), self.ports * self.width, self.width
        matrix = np.zeros((levels, size, size), dtype=kind)
        pairs = np.ascontiguousarray(np.argwhere(g.any(axis=(0, 1))))
        slopes = g[:, :, pairs[:, 0], pairs[:, 1]].swapaxes(1, 2)  # (levels, pairs, samples)
        spectrum = self.spectrum
        if spectrum.doubled is not None:
            mixed = np.empty((levels, len(pairs), width, width))
            of_one_tone(slopes.reshape(-1, self.samples) @ spectrum.doubled.T, mixed.reshape(-1, width, width))
        else:
            mixed = np.ascontiguousarray(spectrum.analysis @ (slopes[..., None] * spectrum.synthesis))
        through(mixed, pairs, self._of(which), matrix)
        return matrix

    def solved(self, g: Array, which: NDArray[np.int_], sides: Array) -> Array:
        """What Newton's matrix makes of right-hand sides, (levels, n, columns)."""
        alone = self._alone(g)
        result = np.empty_like(sides)
        for level in range(len(g)):
            one = which[level : level + 1]
            few = None
            if alone is not None:
                with suppress(np.linalg.LinAlgError):
                    few = self._condensed(alone[level], self._of(one)[0], sides[level])
            if few is None:
                few = np.linalg.solve(self.jacobian(g[level : level + 1], one, np.float64)[0], sides[level])
            result[level] = few
        return result

    def _alone(self, g: Array) -> Array | None:
        """The slopes (levels, samples, ports) of currents that each hang on their own port alone, over a tone's
        harmonics; None for any others."""
        if self.spectrum.doubled is None or g.shape[2] != g.shape[3]:
            return None
        own = np.diagonal(g, axis1=2, axis2=3)
        return own if np.count_nonzero(own) == np.count_nonzero(g) else None

    def _condensed(self, slopes: Array, reach: ComplexArray, sides: Array) -> Array | None:
        """``solved`` of one level, by the voltages at the samples where a port's slope (samples, ports) is more than
        its least, which for rectifiers are few; None where they are not. Raises numpy's LinAlgError.

        With the least slopes in the network, V + Z' F(d S V) = R: F goes from samples to frequencies, S back, d is
        what each slope is more. S Z' F is a convolution, and only where d is anything need V be known: M. A.
        Woodbury, "Inverting modified matrices", Memorandum 42, Statistical Research Group, Princeton (1950).
        """
        samples, ports, width, spectrum = self.samples, self.ports, self.width, self.spectrum
        least = slopes.min(axis=0)
        more = slopes - least
        inside, unknowns = np.empty_like(reach), np.empty((ports + sides.shape[1], ports, width))
        within(reach, least, sides, inside, unknowns)
        # An ampere at one sample is as much of each harmonic, and half of that as a mean.
        unknowns[:ports] *= 2.0 / samples
        unknowns[:ports, :, 0] *= 0.5
        in_time = (unknowns.reshape(-1, width) @ spectrum.synthesis.T).reshape(-1, ports, samples)
        answers, at_rest = in_time[:ports], in_time[ports:]
        heard = np.maximum(answers.max(axis=(1, 2)), -answers.min(axis=(1, 2)))
        port, sample = (np.ascontiguousarray(at) for at in np.nonzero((more * heard).T > _ANYTHING))
        if len(sample) > _FEW_ACTIVE * len(sides):
            return None
        d = more[sample, port]
        matrix = np.empty((len(d), len(d)))
        among(answers, sample, port, d, matrix)
        volts = np.linalg.solve(matrix, at_rest[:, port, sample].T)
        taken = np.zeros((sides.shape[1], ports, samples))
        taken[:, port, sample] = -(d[:, None] * volts).T
        flowing = (taken.reshape(-1, samples) @ spectrum.analysis.T).reshape(-1, ports, width)
        rest = unknowns[ports:].reshape(len(taken), -1)
        result = np.empty_like(rest)
        left_over(rest, np.zeros_like(rest), inside[None], np.ascontiguousarray(flowing.transpose(2, 0, 1)), result)
        return result.T
