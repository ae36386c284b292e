"""The steps of a transient; see transient and docs/solver.md."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

import numba
import numpy as np

from thermionic.circuit.kernels.stages import GAMMA, HALF, Circuit, Factors, factor, solve_stage, storage_of
from thermionic.compiled import REAL, TRUTH, WHOLE, compiled, gives, ready, takes, together
from thermionic.devices.waves import wave_at

# Of the rates at the start and the middle of a step in its second stage.
_WEIGHT = math.sqrt(2.0) / 4.0
_SAFETY, _ORDER = 0.85, 3.0  # a step grows by the safety times the error to the power -1/order
_LEAST_GROWTH, _MOST_GROWTH = 0.3, 2.0  # of a step that was taken
_LEAST_AGAIN = 0.2  # of a step whose error was too large
_UNSOLVED = 8.0  # by which a step that could not be solved is shortened
TRIED, AT_CORNER, STUCK = 0, 1, 2


class Sources(NamedTuple):
    """The right-hand side in time: ``steady`` (size,), the numbers of all ``waves``, where each one's begin (waves +
    1,), and the unknowns where its value is taken off and added (waves, 2), -1 for earth."""

    steady: Any
    waves: Any
    ends: Any
    places: Any


class Allowed(NamedTuple):
    """The error allowed: ``floor`` (size,) and ``relative`` times the ``largest`` (size,) that each unknown has been,
    for the unknowns that are ``moved`` (size,) by what stores."""

    floor: Any
    relative: float
    moved: Any
    largest: Any


class Kept(NamedTuple):
    """Factors kept for ``steps`` (kept,) of so many s, see Factors; ``count[1]`` of Points is the next to replace."""

    steps: Any
    inverses: Any
    reaches: Any
    impedances: Any


class State(NamedTuple):
    """Where a run is; goes in and comes out.

    ``x`` (size,); ``ahead`` (2, size), dx/dt and half of d2x/dt2, to guess from; ``rate`` (size,), C dx/dt; ``clock``
    (4,): the time, the step wanted next, whether the next is a first one from rest, and the curvature that Newton's
    method has shown.
    """

    x: Any
    ahead: Any
    rate: Any
    clock: Any


class Bounds(NamedTuple):
    """How far, how long a step at most and at least, and from when on points are kept; s."""

    corner: float
    longest: float
    least: float
    keep_from: float


class Points(NamedTuple):
    """What a run writes: ``seconds`` (room,), ``x`` (room, size), and ``count`` (2,), points written first."""

    seconds: Any
    x: Any
    count: Any


class _Step(NamedTuple):
    """A step: from ``second`` by ``h``, from rest or not; the unknowns after its first stage and at its end, and the
    rate there."""

    second: float
    h: float
    settle: bool
    middle: Any
    new: Any
    new_rate: Any


@ready(numba.void(takes(REAL, 1), takes(REAL, 1), takes(WHOLE, 1), takes(WHOLE, 2), REAL, gives(REAL, 1)))
def sources(steady: Any, waves: Any, ends: Any, places: Any, second: float, b: Any) -> None:
    """The right-hand side at a time to ``b``, see Sources. A wave's first number is what is in ``steady`` already."""
    for row in range(len(b)):
        b[row] = steady[row]
    for wave in range(len(places)):
        first, last = ends[wave], ends[wave + 1]
        value = wave_at(waves[first + 1 : last], second) - waves[first]
        minus, plus = places[wave]
        if minus >= 0:
            b[minus] -= value
        if plus >= 0:
            b[plus] += value


@compiled
def _sources_at(given: Any, second: float, b: Any) -> None:
    sources(given.steady, given.waves, given.ends, given.places, second, b)


@compiled
def _settle(circuit: Any, given: Any, factors: Any, state: Any, step: Any) -> Any:
    """The first step from rest: implicit throughout, whatever the start left unbalanced. It is short: what matters is
    that the sources are where the next step expects them."""
    per, b = 1.0 / (HALF * step.h), np.empty(len(state.x))
    stored = storage_of(circuit, state.x)
    _sources_at(given, step.second + step.h, b)
    for row in range(len(b)):
        b[row] += stored[row] * per
    if not solve_stage(circuit, factors, state.clock[3:], b, state.x, step.new):
        return -1.0
    after = storage_of(circuit, step.new)
    for row in range(len(b)):
        step.new_rate[row] = (after[row] - stored[row]) * per
    return 0.5


@compiled
def _step(circuit: Any, given: Any, allowed: Any, factors: Any, state: Any, step: Any) -> Any:
    """One step of TR-BDF2 (see transient) to ``step``. Returns the error over what is allowed, or -1 where a stage
    could not be solved."""
    if step.settle:
        return _settle(circuit, given, factors, state, step)
    x, ahead, rate, h, curved = state.x, state.ahead, state.rate, step.h, state.clock[3:]
    size, per = len(x), 1.0 / (HALF * h)
    stored = storage_of(circuit, x)
    b, guess = np.empty(size), np.empty(size)
    # Trapezoidal to gamma h ...
    reached = GAMMA * h
    _sources_at(given, step.second + reached, b)
    for row in range(size):
        b[row] += stored[row] * per + rate[row]
        guess[row] = x[row] + reached * (ahead[0, row] + reached * ahead[1, row])
    if not solve_stage(circuit, factors, curved, b, guess, step.middle):
        return -1.0
    middle_rate = storage_of(circuit, step.middle)
    # ... then the second backward difference to h, of the same matrix.
    _sources_at(given, step.second + h, b)
    for row in range(size):
        middle_rate[row] = (middle_rate[row] - stored[row]) * per - rate[row]
        b[row] += stored[row] * per + _WEIGHT / HALF * (rate[row] + middle_rate[row])
        # By the parabola, but of what has stood still so far by the line.
        straight, gone = ahead[0, row] * h, step.middle[row] - x[row]
        guess[row] = x[row] + (straight + (gone - GAMMA * straight) / GAMMA**2 if straight != 0.0 else gone / GAMMA)
    if not solve_stage(circuit, factors, curved, b, guess, step.new):
        return -1.0
    after = storage_of(circuit, step.new)
    # The embedded third-order formula's difference, filtered through the matrix of the stage (Hosea and Shampine).
    for row in range(size):
        step.new_rate[row] = (after[row] - stored[row]) * per - _WEIGHT / HALF * (rate[row] + middle_rate[row])
        b[row] = (
            ((1.0 - _WEIGHT) / 3.0 - _WEIGHT) * rate[row]
            + ((3.0 * _WEIGHT + 1.0) / 3.0 - _WEIGHT) * middle_rate[row]
            + (HALF / 3.0 - HALF) * step.new_rate[row]
        ) / HALF
    return _error(allowed, x, step.new, np.dot(factors.inverse, b))


@compiled
def _error(allowed: Any, x: Any, new: Any, estimate: Any) -> float:
    """The largest estimated error over what is allowed. Where that is within 1, the largest that each unknown has
    been is brought up to date."""
    error = 0.0
    for row in range(len(x)):
        if allowed.moved[row]:
            most = max(allowed.largest[row], abs(x[row]), abs(new[row]))
            error = max(error, abs(estimate[row]) / (allowed.floor[row] + allowed.relative * most))
    if not math.isfinite(error):
        return 1e3
    if error <= 1.0:
        for row in range(len(x)):
            allowed.largest[row] = max(allowed.largest[row], abs(x[row]), abs(new[row]))
    return error


@compiled
def _look_ahead(x: Any, step: Any, ahead: Any) -> None:
    """dx/dt at the end of a step and half of d2x/dt2 to ``ahead`` (2, size), by the parabola through its points; flat
    after the first one from rest."""
    h = step.h
    for row in range(len(x)):
        if step.settle:
            ahead[0, row], ahead[1, row] = 0.0, 0.0
            continue
        whole = (step.new[row] - x[row]) / h
        bent = ((step.new[row] - step.middle[row]) / ((1.0 - GAMMA) * h) - whole) / (GAMMA * h)
        ahead[0, row], ahead[1, row] = whole + bent * h, bent


@compiled
def _length(wanted: float, longest: float, left: float) -> Any:
    """A step of at most the length wanted: to the corner or half way if that is near, else one of few lengths, so
    that factors serve again."""
    h = min(wanted, longest)
    if h >= left * (1.0 - 1e-9):
        return left
    if h > 0.5 * left:
        return 0.5 * left
    return longest * 2.0 ** (math.floor(2.0 * math.log2(h / longest) + 1e-9) / 2.0)


@compiled
def _factors_for(circuit: Any, kept: Any, count: Any, h: float) -> Any:
    """The factors for a step h, of those kept or made in the place of the oldest."""
    place = -1
    for known in range(len(kept.steps)):
        if abs(kept.steps[known] - h) <= 1e-12 * h:
            place = known
    made = place < 0
    if made:
        place = count[1]
        count[1] = (place + 1) % len(kept.steps)
        kept.steps[place] = h
    factors = Factors(kept.inverses[place], kept.reaches[place], kept.impedances[place])
    if made:
        factor(circuit, h, factors)
    return factors


@compiled
def _take(state: Any, step: Any, points: Any, keep_from: float, ended: float) -> None:
    """Go on from the end of a step that was good, at ``ended`` s, and write it down."""
    x = state.x
    _look_ahead(x, step, state.ahead)
    for row in range(len(x)):
        x[row], state.rate[row] = step.new[row], step.new_rate[row]
    state.clock[0], state.clock[2] = ended, 0.0
    if ended >= keep_from:
        written = points.count[0]
        points.seconds[written] = ended
        for row in range(len(x)):
            points.x[written, row] = x[row]
        points.count[0] += 1


_CIRCUIT = together(
    Circuit, gives(WHOLE, 1), gives(WHOLE, 2), gives(REAL, 2), gives(WHOLE, 2), gives(WHOLE, 2), gives(REAL, 2),
    gives(REAL, 2), gives(REAL, 2), gives(REAL, 2), gives(WHOLE, 2), gives(REAL, 1),
)  # fmt: skip
_SOURCES = together(Sources, gives(REAL, 1), gives(REAL, 1), gives(WHOLE, 1), gives(WHOLE, 2))
_ALLOWED = together(Allowed, gives(REAL, 1), REAL, gives(TRUTH, 1), gives(REAL, 1))
_KEPT = together(Kept, gives(REAL, 1), gives(REAL, 3), gives(REAL, 3), gives(REAL, 3))
_STATE = together(State, gives(REAL, 1), gives(REAL, 2), gives(REAL, 1), gives(REAL, 1))
_BOUNDS = together(Bounds, REAL, REAL, REAL, REAL)
_POINTS = together(Points, gives(REAL, 1), gives(REAL, 2), gives(WHOLE, 1))


@ready(REAL(_CIRCUIT, _SOURCES, _ALLOWED, _STATE, gives(REAL, 1), gives(REAL, 1)))
def one_step(circuit: Any, given: Any, allowed: Any, state: Any, new: Any, new_rate: Any) -> Any:
    """One step by itself of the length wanted, from the time of the state: see _step."""
    base = circuit.base
    factors = Factors(np.empty(base.shape), np.empty(circuit.B.shape), np.empty(circuit.reference.shape))
    second, h, settle = state.clock[0], state.clock[1], state.clock[2] != 0.0
    factor(circuit, h, factors)
    step = _Step(second, h, settle, np.empty(len(new)), new, new_rate)
    return _step(circuit, given, allowed, factors, state, step)


@ready(WHOLE(_CIRCUIT, _SOURCES, _ALLOWED, _KEPT, _STATE, _BOUNDS, _POINTS))
def follow(circuit: Any, given: Any, allowed: Any, kept: Any, state: Any, bounds: Any, points: Any) -> int:
    """Step after step up to the corner, or until as many were tried as there is room for points, or a step would be
    shorter than the least: AT_CORNER, TRIED or STUCK."""
    size, clock = len(state.x), state.clock
    middle, new, new_rate = np.empty(size), np.empty(size), np.empty(size)
    points.count[0] = 0
    for _ in range(len(points.seconds)):
        second, settle = clock[0], clock[2] != 0.0
        left = bounds.corner - second
        h = _length(clock[1], bounds.longest, left)
        if h < bounds.least:
            return STUCK
        step = _Step(second, h, settle, middle, new, new_rate)
        factors = _factors_for(circuit, kept, points.count, h)
        error = _step(circuit, given, allowed, factors, state, step)
        if error < 0.0:
            clock[1], clock[3] = h / _UNSOLVED, math.inf
            continue
        growth = _SAFETY * max(error, 1e-9) ** (-1.0 / _ORDER)
        if error > 1.0 and not settle:
            clock[1] = h * max(_LEAST_AGAIN, growth)
            continue
        at_corner = h == left
        _take(state, step, points, bounds.keep_from, bounds.corner if at_corner else second + h)
        clock[1] = h * min(_MOST_GROWTH, max(_LEAST_GROWTH, growth))
        if at_corner:
            return AT_CORNER
    return TRIED
