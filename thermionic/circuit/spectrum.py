"""A period by its frequencies and by its samples, and the way between."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cache

import numpy as np

from thermionic.devices.base import Array, ComplexArray


@dataclass(frozen=True, eq=False)
class Spectrum:
    """The frequencies that are balanced, and the samples in time that stand for them.

    ``orders`` (frequencies, tones) are the whole multiples of each tone in each frequency, all zero first;
    ``phases`` (samples, tones) the tones' phases at each sample; ``synthesis`` (samples, 2 frequencies - 1) and
    ``analysis`` its inverse go between samples and the real unknowns (mean, real parts, imaginary parts).
    """

    orders: Array
    phases: Array
    synthesis: Array
    analysis: Array
    # (unknowns of twice the harmonics, samples): as ``analysis``, of slopes, where all are a tone's harmonics.
    doubled: Array | None = None

    def hertz(self, *tones: float) -> Array:
        """Each frequency, with the tones at these; those of differences may be negative."""
        hertz: Array = self.orders @ np.array(tones)
        return hertz


def _spectrum(orders: Array, phases: Array) -> Spectrum:
    angle = phases @ orders[1:].T
    synthesis = np.hstack([np.ones((len(phases), 1)), np.cos(angle), -np.sin(angle)])
    analysis = synthesis.T * (2.0 / len(phases))
    analysis[0] *= 0.5
    return Spectrum(orders, phases, synthesis, analysis)


@cache
def harmonics_of_one(harmonics: int, samples: int) -> Spectrum:
    """A tone's first ``harmonics``, from ``samples`` a period: at least twice as many and some."""
    phase = 2 * np.pi * np.arange(samples)[:, None] / samples
    result = _spectrum(np.arange(harmonics + 1.0)[:, None], phase)
    return replace(result, doubled=_spectrum(np.arange(2.0 * harmonics + 1)[:, None], phase).analysis)


@cache
def products_of_two(order: int) -> Spectrum:
    """All sums and differences of two tones' multiples up to ``order`` together."""
    pairs = [
        (a, b) for a in range(order + 1) for b in range(-order, order + 1) if a + abs(b) <= order and (a > 0 or b > 0)
    ]
    side = 2 * np.pi * np.arange(2 * order + 4) / (2 * order + 4)
    first, second = np.meshgrid(side, side, indexing="ij")
    return _spectrum(np.array([(0, 0), *pairs], dtype=float), np.stack([first.ravel(), second.ravel()], axis=1))


def waveform(phasors: ComplexArray, samples: int) -> Array:
    """One period of the waveform with phasors (..., harmonics + 1), as (..., samples)."""
    return to_real(phasors) @ harmonics_of_one(phasors.shape[-1] - 1, samples).synthesis.T


def to_real(phasors: ComplexArray) -> Array:
    """Phasors (..., frequencies) as real unknowns: the mean, the real parts, the imaginary parts."""
    return np.concatenate([phasors.real, phasors[..., 1:].imag], axis=-1)


def to_phasors(real: Array) -> ComplexArray:
    """Real unknowns as phasors: what ``to_real`` was given."""
    half = (real.shape[-1] + 1) // 2
    phasors = real[..., :half].astype(complex)
    phasors[..., 1:] += 1j * real[..., half:]
    return phasors
