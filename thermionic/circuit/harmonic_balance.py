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

from contextlib import suppress
from threading import Lock

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray
from scipy.linalg.lapack import sgetrf, sgetrs

from thermionic import budget
from thermionic.circuit.balance_equations import Balance, Equations, PortCurrents
from thermionic.circuit.spectrum import Spectrum
from thermionic.devices.base import Array, ComplexArray
from thermionic.errors import NoSteadyState

# The factored Jacobian of each level.
Factors = dict[int, tuple[Array, NDArray[np.int_]]]
_ITERATIONS = 80
# A step is small below this part of Newton's; after so many of them in a row a level is given up.
_SMALL, _PATIENCE = 0.05, 6
_HALVINGS = 11  # of a step, at most
_LEAST_STEP = 0.05  # between two drive levels
_LEFT = 1e-8  # of the voltages: how far they would still move
# The same for many variants with one Jacobian, which are looked at for how they spread.
_ALIKE_LEFT, _ALIKE_ITERATIONS, _ALIKE_HALVINGS = 3e-6, 40, 6
_ALIKE_SLOW = 0.2  # of the residual: more than that left, and a variant is given its own
_ALIKE_CHUNK = 32

# What the balances solved last have factored, for one of a similar circuit to begin with.
_factors: LRUCache[Balance, Factors] = LRUCache(
    maxsize=6e6, getsizeof=lambda factors: sum(matrix.nbytes for matrix, _ in factors.values())
)
_lock = Lock()


def balance(
    spectrum: Spectrum,
    impedance: ComplexArray,
    open_volts: ComplexArray,
    currents: PortCurrents,
    start: ComplexArray,
    together: bool = False,
    enough: float = 0.0,
) -> Balance:
    """Solve V_k = E_k - Z_k I_k(V) for all frequencies k at once, by Newton with backtracking.

    impedance   Z, (frequencies, ports, injects), ohms; or (levels, frequencies, ports, injects).
    open_volts  E, (levels, ports, frequencies), the port voltages with no device current.
    currents    the devices: i (samples, levels, injects) and di/dv (samples, levels, injects, ports).
    start       a first guess like ``open_volts``.
    together    each has a network and devices of its own, which differ little: for an array of variants.
    enough      of the voltages, what may be left of the equations: for what is solved again more finely.

    Raises NoSteadyState if a level does not converge, BudgetSpent.
    """
    result, failed = _newton(Equations(spectrum, impedance, open_volts, currents), start, together, {}, enough)
    if len(failed):
        raise _unsettled(spectrum, failed.tolist(), len(open_volts))
    return result


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
    result, failed = _newton(Equations(spectrum, impedance, open_volts, currents), start, False, factors)
    at_rest = np.zeros_like(open_volts[0])
    at_rest[:, 0] = open_volts[0, :, 0]
    for level in failed.tolist():
        below = open_volts[level - 1] if level else at_rest
        guess = result.volts[level - 1] if level else at_rest
        share, step = 0.0, 1.0
        while share < 1.0:
            wanted = below + min(1.0, share + step) * (open_volts[level] - below)
            one, lost = _newton(Equations(spectrum, impedance, wanted[None], currents), guess[None], False, {})
            if not len(lost):
                share, step, guess = min(1.0, share + step), 2 * step, one.volts[0]
            elif step < _LEAST_STEP:
                raise _unsettled(spectrum, [one for one in failed.tolist() if one >= level], len(open_volts))
            else:
                step /= 4
        result.volts[level], result.amperes[level] = one.volts[0], one.amperes[0]
    with _lock, suppress(ValueError):  # what is larger than all that is kept
        _factors[result] = factors
    return result


def _unsettled(spectrum: Spectrum, failed: list[int], levels: int) -> NoSteadyState:
    return NoSteadyState(
        f"No periodic steady state was found at {len(failed)} of {levels} drive levels, by harmonic balance over "
        f"{len(spectrum.orders) - 1} frequencies.",
        tuple(failed),
    )


def balance_alike(
    spectrum: Spectrum,
    impedance: ComplexArray,
    open_volts: ComplexArray,
    currents: PortCurrents,
    start: ComplexArray,
) -> tuple[Balance, Array]:
    """Like ``balance`` for many variants that differ little; and which of them settled, (variants,) true or false.

    All begin with the factored Jacobian of the first, which should be in their midst; those that it does not bring
    nearer are given their own. ``impedance`` is (variants, frequencies, ports, injects), ``start`` a guess for each.
    Raises BudgetSpent.
    """
    equations = Equations(spectrum, impedance, open_volts, currents)
    every = np.arange(len(open_volts))
    v = equations.reals(start)
    residual, current, g = equations.evaluate(v, equations.source, every)
    shared = _factored(equations.jacobian(g[:1], every[:1], np.float32)[0])
    own: Factors = {}
    size = np.linalg.norm(residual, axis=1)
    fresh = np.zeros(len(v), dtype=bool)  # whose Jacobian is of where they are
    open_ = every
    for _ in range(_ALIKE_ITERATIONS):
        budget.check("looking for the periodic steady state of many variants")
        step = np.empty((len(open_), v.shape[1]))
        sharing = np.array([one not in own for one in open_.tolist()])
        wanted = residual[open_].astype(np.float32)
        step[sharing] = -_solved(shared, wanted[sharing].T).T
        for row in np.flatnonzero(~sharing).tolist():
            step[row] = -_solved(own[int(open_[row])], wanted[row])
        far = np.max(np.abs(step), axis=1) >= _ALIKE_LEFT * (1 + np.max(np.abs(v[open_]), axis=1))
        open_, step = open_[far], step[far]
        if not len(open_):
            break
        fraction = np.ones(len(open_))
        trying = np.arange(len(open_))
        for halving in range(_ALIKE_HALVINGS):
            at = open_[trying]
            trial = v[at] + fraction[trying, None] * step[trying]
            tried = equations.evaluate(trial, equations.source[at], at)
            now = np.linalg.norm(tried[0], axis=1)
            better = now < (1 - 0.1 * fraction[trying]) * size[at]
            good = at[better]
            v[good], residual[good], current[good] = trial[better], tried[0][better], tried[1][better]
            g[good] = tried[2][better]
            # What left more than a little of its residual is given a Jacobian of its own, where it is then.
            slow = better & ((now > _ALIKE_SLOW * size[at]) | (halving > 0))
            size[good] = now[better]
            fresh[at[better & ~slow]] = False
            _give(equations, own, fresh, at[slow], g)
            # What another's Jacobian makes worse is given its own at once; a step of its own is shortened.
            trying = trying[~better]
            _give(equations, own, fresh, (stale := open_[trying][~fresh[open_[trying]]]), g)
            trying = trying[~np.isin(open_[trying], stale)]
            fraction[trying] *= 0.5
            if not len(trying):
                break
    settled = np.ones(len(v), dtype=bool)
    settled[open_] = False
    return equations.found(v, current, np.zeros((0, 0, 0))), settled


def _give(equations: Equations, own: Factors, fresh: Array, which: NDArray[np.int_], g: Array) -> None:
    """Give variants Jacobians of where they are."""
    for first in range(0, len(which), _ALIKE_CHUNK):
        chunk = which[first : first + _ALIKE_CHUNK]
        for one, matrix in zip(chunk.tolist(), equations.jacobian(g[chunk], chunk, np.float32), strict=True):
            own[one] = _factored(matrix)
    fresh[which] = True


def _factored(matrix: Array) -> tuple[Array, NDArray[np.int_]]:
    """A matrix of single precision in C order, factored. Lapack goes by columns, so it is the transposed one; a copy
    of it, for what is kept shall not keep the matrices of all levels."""
    lu, pivots, _ = sgetrf(matrix.T)
    return lu, pivots


def _solved(factors: tuple[Array, NDArray[np.int_]], rhs: Array) -> Array:
    """What solves the matrix that was factored, for (n,) or (n, columns) of single precision."""
    result: Array = sgetrs(*factors, rhs, trans=1)[0]
    return result


class _Levels:
    """Newton's method for many levels at once, each with a step of its own.

    ``factors`` holds factored Jacobians of a similar circuit, if any, and afterwards the last ones. Of many levels, a
    factored matrix is used again as long as it takes a decade off the residual: most of the time goes into factoring,
    and single precision is enough for a step. A single level is a supply's: how its means follow is wanted where it
    ends.
    """

    def __init__(self, equations: Equations, start: ComplexArray, together: bool, factors: Factors) -> None:
        count, self.equations, self.factors = len(start), equations, factors
        self.shares = count > 1 and not together
        self.borrowed = np.array([level in factors for level in range(count)])
        self.small_steps = np.zeros(count, dtype=int)
        self.failed: list[int] = []
        self.all_v = equations.reals(start)
        self.all_currents = np.zeros((count, equations.reach.shape[-1], equations.width))
        self.all_follows = np.zeros((0 if self.shares else count, equations.ports, equations.ports))
        # The levels still iterating, where they are, and what the devices do there.
        self.active, self.v, self.want = np.arange(count), self.all_v, equations.source
        self.size = self.fraction = np.ones(count)

    def begin(self) -> None:
        """Evaluate where it starts."""
        self.residual, self.current, self.g = self.equations.evaluate(self.v, self.want, self.active)

    def newton_step(self) -> Array:
        """Newton's steps, (levels, unknowns)."""
        equations, active = self.equations, self.active
        if self.shares:
            stale = np.array([level not in self.factors for level in active])
            fresh = active[stale]
            for level, matrix in zip(
                fresh.tolist(), equations.jacobian(self.g[stale], fresh, np.float32), strict=True
            ):
                self.factors[level] = _factored(matrix)
            rows = zip(active.tolist(), self.residual.astype(np.float32), strict=True)
            return -np.array([_solved(self.factors[level], row) for level, row in rows], dtype=float)
        means = np.zeros((equations.ports * equations.width, equations.ports))
        means[:: equations.width] = np.eye(equations.ports)
        spread = np.broadcast_to(means, (len(self.residual), *means.shape))
        solved = equations.solved(self.g, active, np.concatenate([self.residual[..., None], spread], axis=-1))
        self.all_follows[active] = solved[:, :: equations.width, 1:]
        return -solved[..., 0]

    def shorten(self, step: Array) -> Array:
        """Go along the steps as far as each brings its level nearer. Returns where they are then."""
        evaluate, v, want, active = self.equations.evaluate, self.v, self.want, self.active
        self.size = np.linalg.norm(self.residual, axis=1)
        fraction = self.fraction = np.ones(len(v))
        trial = v + step
        self.residual, self.current, self.g = evaluate(trial, want, active)
        for _ in range(_HALVINGS):
            worse = ~(np.linalg.norm(self.residual, axis=1) <= (1 - 1e-4 * fraction) * self.size)
            worse &= self.size > 1e-9
            if not worse.any():
                break
            # What another circuit's factors make worse is left alone for this time.
            fraction[worse] *= np.where(self.borrowed[active[worse]], 0.0, 0.5)
            retried = np.flatnonzero(worse)
            trial[retried] = v[retried] + fraction[retried, None] * step[retried]
            again = evaluate(trial[retried], want[retried], active[retried])
            self.residual[retried], self.current[retried], self.g[retried] = again
        return trial

    def judge(self, trial: Array, enough: float) -> None:
        """Take the new places; set aside the levels that have settled, and those that get nowhere."""
        fraction, active = self.fraction, self.active
        moved = np.max(np.abs(trial - self.v), axis=1)
        self.v = trial
        # What a full step leaves of the residual it leaves of itself to be moved.
        now = np.linalg.norm(self.residual, axis=1)
        rest = np.where(fraction == 1.0, now / np.maximum(self.size, 1e-300), 1.0)
        settled = moved * np.minimum(rest, 1.0) < _LEFT * (1 + np.max(np.abs(trial), axis=1))
        settled |= now < enough * np.linalg.norm(trial, axis=1)
        settled &= fraction > 0
        kept = (rest < 0.1) & self.shares
        self.borrowed[active[~kept]] = False
        for level in active[~kept]:
            self.factors.pop(level, None)
        # A level that gets nowhere by ever so small steps will not.
        small = (fraction > 0) & (fraction < _SMALL)
        self.small_steps[active] = np.where(small, self.small_steps[active] + 1, 0)
        lost = (self.small_steps[active] >= _PATIENCE) & ~settled
        self.failed += active[lost].tolist()
        ended = settled | lost
        done, still = active[ended], ~ended
        self.all_v[done], self.all_currents[done] = trial[ended], self.current[ended]
        self.active, self.v, self.want = active[still], trial[still], self.want[still]
        self.residual, self.current, self.g = self.residual[still], self.current[still], self.g[still]

    def outcome(self) -> tuple[Balance, NDArray[np.int_]]:
        """The balance, and the levels that did not converge; what stands for them is where they were left."""
        self.all_v[self.active] = self.v
        self.failed += self.active.tolist()
        balanced = self.equations.found(self.all_v, self.all_currents, self.all_follows)
        return balanced, np.array(sorted(self.failed), dtype=int)


def _newton(
    equations: Equations, start: ComplexArray, together: bool, factors: Factors, enough: float = 0.0
) -> tuple[Balance, NDArray[np.int_]]:
    """See ``balance`` and ``_Levels``."""
    levels = _Levels(equations, start, together, factors)
    if not equations.ports:  # nothing in it bends
        return equations.found(levels.all_v, levels.all_currents, levels.all_follows), np.zeros(0, dtype=int)
    levels.begin()
    for _ in range(_ITERATIONS):
        budget.check("looking for the periodic steady state")
        levels.judge(levels.shorten(levels.newton_step()), enough)
        if not len(levels.active):
            break
    return levels.outcome()
