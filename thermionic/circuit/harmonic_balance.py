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
_RELATIVE = 2e-5  # of the last step; Newton converges quadratically, so the error left is far smaller


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


def _real_operator(impedance: ComplexArray) -> Array:
    """Z of every harmonic (harmonics + 1, ports, ports) as one real matrix over the real unknowns, port by port."""
    count, ports, _ = impedance.shape
    width = 2 * count - 1
    operator = np.zeros((ports, width, ports, width))
    k = np.arange(count)
    operator[:, k, :, k] = impedance.real
    re, im = k[1:], k[1:] + count - 1
    operator[:, re, :, im] = -impedance.imag[1:]
    operator[:, im, :, re] = impedance.imag[1:]
    operator[:, im, :, im] = impedance.real[1:]
    return operator.reshape(ports * width, ports * width)


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
    source = _to_real(open_volts).reshape(levels, ports * width)
    # From the current of each port at each sample to the voltage that it drops, all in one: (n, ports, samples).
    drop = (_real_operator(impedance).reshape(-1, ports, width) @ analysis).reshape(ports * width, ports, samples)

    def evaluate(v: Array, source: Array) -> tuple[Array, Array, Array]:
        """Residual (levels, n), device currents (levels, samples, ports), and di/dv at the samples."""
        at_samples = v.reshape(-1, ports, width) @ synthesis.T
        i, g = currents(np.swapaxes(at_samples, 1, 2), phase)
        dropped = np.swapaxes(i, 1, 2).reshape(len(v), -1) @ drop.reshape(len(drop), -1).T
        return v - source + dropped, i, g

    def jacobian(g: Array) -> Array:
        matrix = np.zeros((len(g), ports * width, ports, width))
        for p in range(ports):
            for q in range(ports):
                if np.any(g[..., p, q]):
                    matrix[:, :, q] += (drop[:, p] * g[:, None, :, p, q]) @ synthesis
        matrix = matrix.reshape(len(g), ports * width, ports * width)
        at = np.arange(ports * width)
        matrix[:, at, at] += 1.0
        return matrix

    all_v, all_currents = _to_real(start).reshape(source.shape), np.zeros((levels, samples, ports))
    matrices = np.zeros((levels, ports * width, ports * width))
    open_levels = np.arange(levels)
    v, want = all_v, source
    residual, current, g = evaluate(v, want)
    for _ in range(_ITERATIONS):
        matrix = jacobian(g)
        step = -np.linalg.solve(matrix, residual[..., None])[..., 0]
        size = np.linalg.norm(residual, axis=1)
        fraction = np.ones(len(v))
        for _ in range(12):
            trial = v + fraction[:, None] * step
            residual, current, g = evaluate(trial, want)
            worse = ~(np.linalg.norm(residual, axis=1) <= (1 - 1e-4 * fraction) * size)
            worse &= size > 1e-9
            if not worse.any():
                break
            fraction[worse] *= 0.5
        moved = np.max(np.abs(trial - v), axis=1)
        v = trial
        settled = moved < _RELATIVE * (1 + np.max(np.abs(v), axis=1))
        done, still = open_levels[settled], ~settled
        all_v[done], all_currents[done], matrices[done] = v[settled], current[settled], matrix[settled]
        open_levels, v, want = open_levels[still], v[still], want[still]
        residual, current, g = residual[still], current[still], g[still]
        if not len(open_levels):
            spectra = np.swapaxes(all_currents, 1, 2) @ analysis.T
            return Balance(_to_phasors(all_v.reshape(levels, ports, width)), _to_phasors(spectra), matrices)
    raise NoSolution(
        f"No periodic steady state was found at {len(open_levels)} of {levels} drive levels, "
        f"after {_ITERATIONS} steps of harmonic balance with {harmonics} harmonics.",
        tried=("harmonic balance",),
    )
