"""Harmonic balance: the periodic steady state of a linear network with a few nonlinear ports.

Source: M. S. Nakhla and J. Vlach, "A piecewise harmonic balance technique for determination of periodic
response of nonlinear systems", IEEE Transactions on Circuits and Systems 23 (1976), p. 85. The linear network
is reduced to its impedances at the ports, harmonic by harmonic, so slow coupling and cathode time constants
cost nothing; the devices are evaluated on samples in time. Several drive levels are solved together.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

from thermionic.devices.base import Array
from thermionic.errors import NoSolution

ComplexArray = NDArray[np.complex128]
# Port voltages (levels, samples, ports) and phase (samples, ) to currents and derivatives.
PortCurrents = Callable[[Array, Array], tuple[Array, Array]]

_ITERATIONS = 80
_RELATIVE = 1e-6  # of the last step; Newton converges quadratically, so the error left is far smaller


@dataclass(frozen=True, eq=False)
class Balance:
    """Converged phasors: ``volts`` and ``amperes`` (levels, ports, harmonics + 1), harmonic 0 being the mean.

    A waveform is sum over k of Re(phasor_k exp(j k phase)). ``jacobian`` (levels, n, n) is that of the
    balance over the real unknowns (mean, real parts, imaginary parts; port by port).
    """

    volts: ComplexArray
    amperes: ComplexArray
    jacobian: Array


@cache
def _transforms(harmonics: int, samples: int) -> tuple[Array, Array, Array]:
    """Phase of the samples; synthesis (samples, 2H+1); analysis (2H+1, samples)."""
    phase = 2 * np.pi * np.arange(samples) / samples
    k = np.arange(1, harmonics + 1)
    cosine, sine = np.cos(np.outer(phase, k)), np.sin(np.outer(phase, k))
    synthesis = np.hstack([np.ones((samples, 1)), cosine, -sine])
    analysis = synthesis.T * (2.0 / samples)
    analysis[0] *= 0.5
    return phase, synthesis, analysis


def waveform(phasors: ComplexArray, samples: int) -> Array:
    """One period of the waveform with phasors (..., harmonics + 1), as (..., samples)."""
    _, synthesis, _ = _transforms(phasors.shape[-1] - 1, samples)
    return _to_real(phasors) @ synthesis.T


def _to_real(phasors: ComplexArray) -> Array:
    return np.concatenate([phasors.real, phasors[..., 1:].imag], axis=-1)


def _to_phasors(real: Array) -> ComplexArray:
    half = (real.shape[-1] + 1) // 2
    phasors = real[..., :half].astype(complex)
    phasors[..., 1:] += 1j * real[..., half:]
    return phasors


def balance(
    impedance: ComplexArray,
    open_volts: ComplexArray,
    currents: PortCurrents,
    start: ComplexArray,
    samples: int,
) -> Balance:
    """Solve V_k = E_k - Z_k I_k(V) for all harmonics k at once, by Newton with backtracking.

    impedance   Z, (harmonics + 1, ports, ports), ohms.
    open_volts  E, (levels, ports, harmonics + 1), the port voltages with no device current.
    currents    the devices: i and di/dv at (levels, samples, ports).
    start       a first guess like ``open_volts``.
    samples     time samples a period, at least twice the number of harmonics and some.

    Raises NoSolution if a level does not converge.
    """
    levels, ports, count = open_volts.shape
    harmonics = count - 1
    phase, synthesis, analysis = _transforms(harmonics, samples)
    width = 2 * harmonics + 1
    source = _to_real(open_volts)
    real, imaginary = impedance.real, impedance.imag[1:]

    def through_impedance(rows: Array) -> Array:
        """Z applied to (levels, ports, 2H+1, columns) in the real representation."""
        re, im = rows[:, :, : harmonics + 1], rows[:, :, harmonics + 1 :]
        out_re = np.einsum("kpq,lqkx->lpkx", real, re)
        out_re[:, :, 1:] -= np.einsum("kpq,lqkx->lpkx", imaginary, im)
        out_im = np.einsum("kpq,lqkx->lpkx", imaginary, re[:, :, 1:])
        out_im += np.einsum("kpq,lqkx->lpkx", real[1:], im)
        return np.concatenate([out_re, out_im], axis=2)

    def evaluate(v: Array, source: Array) -> tuple[Array, Array, Array]:
        """Residual and device currents as (levels, ports, 2H+1), and di/dv at the samples."""
        i, g = currents(np.swapaxes(v @ synthesis.T, 1, 2), phase)
        spectrum = np.swapaxes(i, 1, 2) @ analysis.T
        residual = v - source + through_impedance(spectrum[..., None])[..., 0]
        return residual, spectrum, g

    def jacobian(g: Array) -> Array:
        spectra = np.zeros((len(g), ports, width, ports, width))
        for p in range(ports):
            for q in range(ports):
                if np.any(g[..., p, q]):
                    spectra[:, p, :, q, :] = (analysis * g[:, None, :, p, q]) @ synthesis
        flat = through_impedance(spectra.reshape(len(g), ports, width, ports * width))
        flat = flat.reshape(len(g), ports * width, ports * width)
        at = np.arange(ports * width)
        flat[:, at, at] += 1.0
        return flat

    all_v, all_spectra = _to_real(start), np.zeros(source.shape)
    matrices = np.zeros((levels, ports * width, ports * width))
    open_levels = np.arange(levels)
    v, want = all_v, source
    residual, spectrum, g = evaluate(v, want)
    for _ in range(_ITERATIONS):
        matrix = jacobian(g)
        step = -np.linalg.solve(matrix, residual.reshape(len(v), -1, 1)).reshape(v.shape)
        size = np.linalg.norm(residual, axis=(1, 2))
        fraction = np.ones(len(v))
        for _ in range(12):
            trial = v + fraction[:, None, None] * step
            residual, spectrum, g = evaluate(trial, want)
            worse = ~(np.linalg.norm(residual, axis=(1, 2)) <= (1 - 1e-4 * fraction) * size)
            worse &= size > 1e-9
            if not worse.any():
                break
            fraction[worse] *= 0.5
        moved = np.max(np.abs(trial - v), axis=(1, 2))
        v = trial
        settled = moved < _RELATIVE * (1 + np.max(np.abs(v), axis=(1, 2)))
        done, still = open_levels[settled], ~settled
        all_v[done], all_spectra[done], matrices[done] = v[settled], spectrum[settled], matrix[settled]
        open_levels, v, want = open_levels[still], v[still], want[still]
        residual, spectrum, g = residual[still], spectrum[still], g[still]
        if not len(open_levels):
            return Balance(_to_phasors(all_v), _to_phasors(all_spectra), matrices)
    raise NoSolution(
        f"No periodic steady state was found at {len(open_levels)} of {levels} drive levels, "
        f"after {_ITERATIONS} steps of harmonic balance with {harmonics} harmonics.",
        tried=("harmonic balance",),
    )
