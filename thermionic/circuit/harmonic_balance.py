"""Harmonic balance: the periodic steady state of a linear network with a few nonlinear ports.

Source: M. S. Nakhla and J. Vlach, "A piecewise harmonic balance technique for determination of periodic
response of nonlinear systems", IEEE Transactions on Circuits and Systems 23 (1976), p. 85. The linear network
is reduced to its impedances at the ports, frequency by frequency, so slow coupling and cathode time constants
cost nothing; the devices are evaluated on samples in time. Two tones that have no common period are balanced on
a grid of both their phases (A. Ushida and L. O. Chua, "Frequency-domain analysis of nonlinear circuits driven by
multi-tone signals", IEEE Transactions on Circuits and Systems 31 (1984), p. 766). Several drive levels, or several
variants of a circuit, are solved together.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from threading import Lock

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray
from scipy.linalg import lu_factor, lu_solve

from thermionic import budget
from thermionic.devices.base import Array, ComplexArray
from thermionic.errors import NoSteadyState

# The factored Jacobian of each level.
Factors = dict[int, tuple[Array, NDArray[np.int_]]]
# Port voltages (samples, levels, ports) and phase (samples, 1) to currents (samples, levels, injects) and slopes.
PortCurrents = Callable[[Array, Array], tuple[Array, Array]]

_ITERATIONS = 80
# A step is small below this part of Newton's; after so many of them in a row a level is given up.
_SMALL, _PATIENCE = 0.05, 6
_LEAST_STEP = 0.05  # between two drive levels
_LEFT = 1e-8  # of the voltages: how far they would still move


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
    phase = 2 * np.pi * np.arange(samples) / samples
    return _spectrum(np.arange(harmonics + 1.0)[:, None], phase[:, None])


@cache
def products_of_two(order: int) -> Spectrum:
    """All sums and differences of two tones' multiples up to ``order`` together."""
    pairs = [
        (a, b) for a in range(order + 1) for b in range(-order, order + 1) if a + abs(b) <= order and (a > 0 or b > 0)
    ]
    side = 2 * np.pi * np.arange(2 * order + 4) / (2 * order + 4)
    first, second = np.meshgrid(side, side, indexing="ij")
    return _spectrum(np.array([(0, 0), *pairs], dtype=float), np.stack([first.ravel(), second.ravel()], axis=1))


@dataclass(frozen=True, eq=False)
class Balance:
    """Converged phasors: ``volts`` (levels, ports, frequencies) and ``amperes`` (levels, injects, frequencies).

    The first frequency is the mean. A waveform is sum over k of Re(phasor_k exp(j k phase)). ``jacobian`` is that of
    the balance over the real unknowns (mean, real parts, imaginary parts; port by port): (levels, n, n) of one level
    alone or of levels ``together``, else empty.
    """

    volts: ComplexArray
    amperes: ComplexArray
    jacobian: Array


# What the balances solved last have factored, for one of a similar circuit to begin with.
_factors: LRUCache[Balance, Factors] = LRUCache(
    maxsize=32e6, getsizeof=lambda factors: sum(matrix.nbytes for matrix, _ in factors.values())
)
_lock = Lock()


def waveform(phasors: ComplexArray, samples: int) -> Array:
    """One period of the waveform with phasors (..., harmonics + 1), as (..., samples)."""
    return _to_real(phasors) @ harmonics_of_one(phasors.shape[-1] - 1, samples).synthesis.T


def _to_real(phasors: ComplexArray) -> Array:
    return np.concatenate([phasors.real, phasors[..., 1:].imag], axis=-1)


def _to_phasors(real: Array) -> ComplexArray:
    half = (real.shape[-1] + 1) // 2
    phasors = real[..., :half].astype(complex)
    phasors[..., 1:] += 1j * real[..., half:]
    return phasors


def balance(
    spectrum: Spectrum,
    impedance: ComplexArray,
    open_volts: ComplexArray,
    currents: PortCurrents,
    start: ComplexArray,
    together: bool = False,
) -> Balance:
    """Solve V_k = E_k - Z_k I_k(V) for all frequencies k at once, by Newton with backtracking.

    impedance   Z, (frequencies, ports, injects), ohms; or (levels, frequencies, ports, injects).
    open_volts  E, (levels, ports, frequencies), the port voltages with no device current.
    currents    the devices: i (samples, levels, injects) and di/dv (samples, levels, injects, ports).
    start       a first guess like ``open_volts``.
    together    evaluate all levels until the last has settled: for devices that hold an array of them.

    Raises NoSteadyState if a level does not converge, BudgetSpent.
    """
    found, failed = _newton(spectrum, impedance, open_volts, currents, start, together, {})
    if len(failed):
        raise _unsettled(spectrum, failed.tolist(), len(open_volts))
    return found


def balance_in_turn(
    spectrum: Spectrum,
    impedance: ComplexArray,
    open_volts: ComplexArray,
    currents: PortCurrents,
    start: ComplexArray,
    near: Balance | None = None,
) -> Balance:
    """Like ``balance`` for levels that rise: what does not converge with the rest is solved from the level below it,
    with steps between where that is too far. ``impedance`` is (frequencies, ports, injects); ``near`` is what a
    similar circuit was balanced to at as many levels, whose factored Jacobians are tried first."""
    factors: Factors = {}
    if near is not None:
        with _lock:
            factors = _factors.pop(near, factors)
    found, failed = _newton(spectrum, impedance, open_volts, currents, start, False, factors)
    at_rest = np.zeros_like(open_volts[0])
    at_rest[:, 0] = open_volts[0, :, 0]
    for level in failed.tolist():
        below = open_volts[level - 1] if level else at_rest
        guess = found.volts[level - 1] if level else at_rest
        share, step = 0.0, 1.0
        while share < 1.0:
            wanted = below + min(1.0, share + step) * (open_volts[level] - below)
            one, lost = _newton(spectrum, impedance, wanted[None], currents, guess[None], False, {})
            if not len(lost):
                share, step, guess = min(1.0, share + step), 2 * step, one.volts[0]
            elif step < _LEAST_STEP:
                raise _unsettled(spectrum, [one for one in failed.tolist() if one >= level], len(open_volts))
            else:
                step /= 4
        found.volts[level], found.amperes[level] = one.volts[0], one.amperes[0]
    with _lock:
        _factors[found] = factors
    return found


def _unsettled(spectrum: Spectrum, failed: list[int], levels: int) -> NoSteadyState:
    return NoSteadyState(
        f"No periodic steady state was found at {len(failed)} of {levels} drive levels, by harmonic balance over "
        f"{len(spectrum.orders) - 1} frequencies.",
        tuple(failed),
    )


def _newton(
    spectrum: Spectrum,
    impedance: ComplexArray,
    open_volts: ComplexArray,
    currents: PortCurrents,
    start: ComplexArray,
    together: bool,
    factors: Factors,
) -> tuple[Balance, NDArray[np.int_]]:
    """See ``balance``. Also gives the levels that do not converge; what stands for them is where they were left.

    ``factors`` holds those of a similar circuit, if any, and afterwards the last ones.
    """
    levels, ports, count = open_volts.shape
    injects = impedance.shape[-1]
    width, samples = 2 * count - 1, len(spectrum.phases)
    synthesis, analysis, phase = spectrum.synthesis, spectrum.analysis, spectrum.phases[:, :1]
    source = _to_real(open_volts).reshape(levels, ports * width)
    # Of many levels, a factored matrix is used again as long as it takes a decade off the residual: most of the time
    # goes into factoring, and single precision is enough for a step. One level alone is a supply's: what is made of
    # its matrix needs it where it ends.
    again = levels > 1 and not together
    kind = np.float32 if again else np.float64
    reach = impedance if impedance.ndim == 4 else impedance[None]

    def of(which: NDArray[np.int_]) -> ComplexArray:
        return reach[which] if len(reach) > 1 else reach

    def evaluate(v: Array, source: Array, which: NDArray[np.int_]) -> tuple[Array, Array, Array]:
        """Residual (levels, n), device currents (levels, injects, samples), and slopes (levels, samples, ...)."""
        at_samples = v.reshape(-1, ports, width) @ synthesis.T
        i, g = currents(np.ascontiguousarray(np.moveaxis(at_samples, 2, 0)), phase)
        i = np.moveaxis(i, 0, 2)
        flowing = np.moveaxis(_to_phasors(i @ analysis.T), 2, 1)[..., None]
        dropped = np.swapaxes((of(which) @ flowing)[..., 0], 1, 2)
        return v - source + _to_real(dropped).reshape(v.shape), i, np.moveaxis(g, 0, 1)

    def jacobian(g: Array, which: NDArray[np.int_]) -> Array:
        """I + Z dI/dV: what a port's voltage does, at each frequency, to the current at every other, through Z."""
        moved = np.any(g, axis=(0, 1))
        most = int(moved.sum(axis=0).max(initial=0))
        # The injects that each port moves, (ports, most), filled up with ones whose slope is zero.
        moves = np.argsort(~moved, axis=0, kind="stable")[:most].T
        slopes = g.transpose(0, 3, 2, 1)[:, np.arange(ports)[:, None], moves]  # (levels, ports, most, samples)
        mixed = analysis @ (slopes[..., None] * synthesis)
        rows = mixed[..., :count, :].astype(complex)
        rows[..., 1:, :] += 1j * mixed[..., count:, :]
        through = of(which)[..., moves].transpose(0, 1, 3, 2, 4)  # (levels, frequencies, ports, ports, most)
        dropped = (through @ rows.transpose(0, 3, 1, 2, 4)).transpose(0, 3, 1, 2, 4)
        matrix = np.empty((len(g), ports, width, ports, width), dtype=kind)
        matrix[:, :, :count] = dropped.real
        matrix[:, :, count:] = dropped.imag[:, :, 1:]
        matrix = matrix.reshape(len(g), ports * width, ports * width)
        at = np.arange(ports * width)
        matrix[:, at, at] += 1.0
        return matrix

    all_v, all_currents = _to_real(start).reshape(source.shape), np.zeros((levels, injects, samples))
    borrowed = np.array([level in factors for level in range(levels)])
    last: Array = np.zeros((0, 0, 0))
    open_levels = np.arange(levels)
    small_steps = np.zeros(levels, dtype=int)
    failed: list[int] = []
    v, want = all_v, source
    residual, current, g = evaluate(v, want, open_levels)
    for _ in range(_ITERATIONS):
        budget.check("looking for the periodic steady state")
        stale = np.array([level not in factors for level in open_levels])
        if again:
            fresh = open_levels[stale]
            for level, matrix in zip(fresh.tolist(), jacobian(g[stale], fresh), strict=True):
                factors[level] = lu_factor(matrix, overwrite_a=True, check_finite=False)
            rows = zip(open_levels.tolist(), residual, strict=True)
            step = -np.stack([lu_solve(factors[level], row, check_finite=False) for level, row in rows])
        else:
            last = jacobian(g, open_levels)
            step = -np.linalg.solve(last, residual[..., None])[..., 0]
        size = np.linalg.norm(residual, axis=1)
        fraction = np.ones(len(v))
        for _ in range(12):
            trial = v + fraction[:, None] * step
            residual, current, g = evaluate(trial, want, open_levels)
            worse = ~(np.linalg.norm(residual, axis=1) <= (1 - 1e-4 * fraction) * size)
            worse &= size > 1e-9
            if not worse.any():
                break
            # What another circuit's factors make worse is left alone for this time.
            fraction[worse] *= np.where(borrowed[open_levels[worse]], 0.0, 0.5)
        moved = np.max(np.abs(trial - v), axis=1)
        v = trial
        # What a full step leaves of the residual it leaves of itself to be moved.
        left = np.where(fraction == 1.0, np.linalg.norm(residual, axis=1) / np.maximum(size, 1e-300), 1.0)
        settled = moved * np.minimum(left, 1.0) < _LEFT * (1 + np.max(np.abs(v), axis=1))
        settled &= fraction > 0
        kept = (left < 0.1) & again
        borrowed[open_levels[~kept]] = False
        for level in open_levels[~kept]:
            factors.pop(level, None)
        # A level that gets nowhere by ever so small steps will not.
        small_steps[open_levels] = np.where((fraction > 0) & (fraction < _SMALL), small_steps[open_levels] + 1, 0)
        lost = (small_steps[open_levels] >= _PATIENCE) & ~settled
        if together:
            settled = np.full(len(v), settled.all())
            lost = np.full(len(v), lost.any())
        failed += open_levels[lost].tolist()
        ended = settled | lost
        done, still = open_levels[ended], ~ended
        all_v[done], all_currents[done] = v[ended], current[ended]
        open_levels, v, want = open_levels[still], v[still], want[still]
        residual, current, g = residual[still], current[still], g[still]
        if not len(open_levels):
            break
    all_v[open_levels] = v
    failed += open_levels.tolist()
    spectra = all_currents @ analysis.T
    found = Balance(_to_phasors(all_v.reshape(levels, ports, width)), _to_phasors(spectra), last)
    return found, np.array(sorted(failed), dtype=int)
