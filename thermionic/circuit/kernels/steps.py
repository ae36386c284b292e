"""The steps of a transient; see transient."""

from __future__ import annotations

import math
from typing import Any

import numba
import numpy as np

from thermionic.circuit.kernels.dense import factored, sensed, solve_factored, square
from thermionic.compiled import REAL, TRUTH, WHOLE, compiled, gives, ready, takes
from thermionic.devices.laws import evaluate
from thermionic.devices.waves import wave_at

GAMMA = 2.0 - math.sqrt(2.0)
_HALF = 0.5 * GAMMA
_WEIGHT = math.sqrt(2.0) / 4.0
_NEWTON = 12
_VOLT, _RELATIVE = 1e-6, 1e-6  # what Newton's last step may be at a port
_SURE = 10.0
# Of what is allowed: further off a junction may be about to conduct, which nothing before foretells.
_BELIEVED = 1e3
# Up to so many ports a plain elimination is quicker than a library's, which has to be called.
_FEW = 40
TRIED, AT_CORNER, STUCK = 0, 1, 2


@ready(numba.void(takes(REAL, 1), takes(REAL, 1), takes(WHOLE, 1), takes(WHOLE, 2), REAL, gives(REAL, 1)))
def sources(steady: Any, waves: Any, wave_ends: Any, wave_places: Any, second: float, b: Any) -> None:
    """The right-hand side at a time. A wave's first number is what is in ``steady`` already."""
    for one in range(len(b)):
        b[one] = steady[one]
    for one in range(len(wave_places)):
        first, last = wave_ends[one], wave_ends[one + 1]
        value = wave_at(waves[first + 1 : last], second) - waves[first]
        minus, plus = wave_places[one]
        if minus >= 0:
            b[minus] -= value
        if plus >= 0:
            b[plus] += value


@compiled
def _beyond(
    laws: Any, at: Any, numbers: Any, reference: Any, own: Any, still: Any, v: Any, i: Any, g: Any, beyond: Any
) -> None:  # fmt: skip
    """What the devices' currents are beyond those of the reference slopes, and by how much their slopes are."""
    for port in range(len(own)):
        for inject in range(own[port, 0], own[port, 1]):
            i[0, inject] = 0.0
            g[0, inject, port] = 0.0
    evaluate(laws, at, numbers, v, still, i, g)
    for inject in range(len(beyond)):
        beyond[inject] = i[0, inject]
    for port in range(len(own)):
        for inject in range(own[port, 0], own[port, 1]):
            beyond[inject] -= reference[inject, port] * v[0, port]
            g[0, inject, port] -= reference[inject, port]


@compiled
def _around(impedance: Any, g: Any, own: Any, turned: Any, matrix: Any) -> None:
    """I + impedance g to ``matrix`` (ports, ports), for slopes ``g`` (injects, ports) that each device has by its own
    ports alone. ``own`` (ports, 2) is where each port's injects begin and end; ``impedance`` (injects, ports) has a
    row for each inject, and so the matrix is found in columns, ``turned``."""
    ports = len(matrix)
    for port in range(ports):
        for row in range(ports):
            turned[port, row] = 0.0
        turned[port, port] = 1.0
        for inject in range(own[port, 0], own[port, 1]):
            slope = g[inject, port]
            for row in range(ports):
                turned[port, row] += slope * impedance[inject, row]
    for row in range(ports):
        for port in range(ports):
            matrix[row, port] = turned[port, row]


@compiled
def _implicit(
    laws: Any, at: Any, numbers: Any, ends: Any, reference: Any, inverse: Any, reach: Any, impedance: Any,
    own: Any, bend: Any, rhs: Any, guess: Any, out: Any,
) -> bool:  # fmt: skip
    """Solve C x / (gamma/2 h) + G x + B i(S^T x) = rhs, from port voltages near those of ``guess``: x to ``out``.

    ``bend`` (1,) is how much of the square of Newton's step, in what is allowed, the next step has been: where that
    says that the next is within what is allowed, it is not taken.
    """
    size, ports, injects = len(rhs), len(ends), len(reference)
    still = np.dot(inverse, rhs)
    if ports == 0:
        for one in range(size):
            out[one] = still[one]
        return True
    open_volts, v, w = np.empty(ports), np.empty((1, ports)), np.empty((1, ports))
    sensed(still, ends, open_volts)
    sensed(guess, ends, v[0])
    i, g = np.empty((1, injects)), np.empty((1, injects, ports))
    beyond, ahead, step, left = np.empty(injects), np.empty(injects), np.empty(ports), np.empty(ports)
    pivots = np.empty(ports, dtype=np.int64)
    matrix, turned, now = np.empty((ports, ports)), np.empty((ports, ports)), np.zeros(1)
    before = 0.0
    for _ in range(_NEWTON):
        _beyond(laws, at, numbers, reference, own, now, v, i, g, beyond)
        dropped = np.dot(beyond, impedance)
        _around(impedance, g[0], own, turned, matrix)
        for port in range(ports):
            step[port] = open_volts[port] - v[0, port] - dropped[port]
            left[port] = step[port]
        if ports <= _FEW:
            factored(matrix, pivots)
            solve_factored(matrix, pivots, step)
        else:
            step[:] = np.linalg.solve(matrix, step)
        largest = 0.0
        for port in range(ports):
            if not math.isfinite(step[port]):
                return False
            largest = max(largest, abs(step[port]))
        # Ports are kept from leaping further than the exponentials of a junction can stand.
        fraction = 1.0
        if largest > 1.0:
            worst = square(left)
            slopes = g.copy()
            while fraction > 1e-3:
                for port in range(ports):
                    w[0, port] = v[0, port] + fraction * step[port]
                _beyond(laws, at, numbers, reference, own, now, w, i, g, ahead)
                dropped = np.dot(ahead, impedance)
                total = 0.0
                for port in range(ports):
                    total += (w[0, port] - open_volts[port] + dropped[port]) ** 2
                if total < worst:
                    break
                fraction *= 0.5
            g = slopes
        size_of_step = 0.0
        for port in range(ports):
            v[0, port] += fraction * step[port]
            size_of_step = max(size_of_step, abs(step[port]) / (_VOLT + _RELATIVE * abs(v[0, port])))
        if fraction < 1.0:
            before = 0.0
            continue
        if before > 0.0:
            seen = size_of_step / before**2
            bend[0] = max(seen, 0.5 * bend[0]) if bend[0] < np.inf else seen
        before = size_of_step
        if size_of_step <= 1.0 or (size_of_step <= _BELIEVED and _SURE * bend[0] * size_of_step**2 <= 1.0):
            for port in range(ports):
                for inject in range(own[port, 0], own[port, 1]):
                    beyond[inject] += g[0, inject, port] * step[port]
            moved = np.dot(reach, beyond)
            for one in range(size):
                out[one] = still[one] - moved[one]
                if not math.isfinite(out[one]):
                    return False
            return True
    return False


@compiled
def _held(stores: Any, farads: Any, x: Any) -> Any:
    """C x, of C's entries ``farads`` at rows and columns ``stores`` (entries, 2)."""
    held = np.zeros(len(x))
    for entry in range(len(farads)):
        held[stores[entry, 0]] += farads[entry] * x[stores[entry, 1]]
    return held


@compiled
def _step(
    laws: Any, at: Any, numbers: Any, ends: Any, reference: Any, stores: Any, farads: Any, inverse: Any, reach: Any,
    impedance: Any, steady: Any, waves: Any, wave_ends: Any, wave_places: Any, floor: Any, relative: float,
    moved: Any, largest: Any, own: Any, bend: Any, x: Any, ahead: Any, rate: Any, second: float, h: float,
    settle: bool, middle: Any, new: Any, new_rate: Any,
) -> float:  # fmt: skip
    """One step of TR-BDF2 (see transient): the unknowns after its first stage to ``middle`` and the new ones to
    ``new``, C dx/dt there to ``new_rate``. Returns the error over what is allowed, or -1 where a stage could not be
    solved. ``ahead`` (2, size) is how the unknowns went before, see ``_went``, to guess from."""
    size, per = len(x), 1.0 / (_HALF * h)
    held = _held(stores, farads, x)
    b, guess = np.empty(size), np.empty(size)
    if settle:
        # The first step from rest is implicit throughout, whatever the start left unbalanced. It is short: what
        # matters is that the sources are where the next one finds them.
        sources(steady, waves, wave_ends, wave_places, second + h, b)
        for one in range(size):
            b[one] += held[one] * per
        if not _implicit(laws, at, numbers, ends, reference, inverse, reach, impedance, own, bend, b, x, new):
            return -1.0
        after = _held(stores, farads, new)
        for one in range(size):
            new_rate[one] = (after[one] - held[one]) * per
        return 0.5
    # Trapezoidal to gamma h ...
    reached = GAMMA * h
    sources(steady, waves, wave_ends, wave_places, second + reached, b)
    for one in range(size):
        b[one] += held[one] * per + rate[one]
        guess[one] = x[one] + reached * (ahead[0, one] + reached * ahead[1, one])
    if not _implicit(laws, at, numbers, ends, reference, inverse, reach, impedance, own, bend, b, guess, middle):
        return -1.0
    middle_rate = _held(stores, farads, middle)
    # ... then the second backward difference to h, of the same matrix.
    sources(steady, waves, wave_ends, wave_places, second + h, b)
    for one in range(size):
        middle_rate[one] = (middle_rate[one] - held[one]) * per - rate[one]
        b[one] += held[one] * per + _WEIGHT / _HALF * (rate[one] + middle_rate[one])
        # By the parabola, but of what has stood still so far by the line.
        straight, gone = ahead[0, one] * h, middle[one] - x[one]
        guess[one] = x[one] + (straight + (gone - GAMMA * straight) / GAMMA**2 if straight != 0.0 else gone / GAMMA)
    if not _implicit(laws, at, numbers, ends, reference, inverse, reach, impedance, own, bend, b, guess, new):
        return -1.0
    after = _held(stores, farads, new)
    # The embedded third-order formula's difference, filtered through the matrix of the stage.
    for one in range(size):
        new_rate[one] = (after[one] - held[one]) * per - _WEIGHT / _HALF * (rate[one] + middle_rate[one])
        b[one] = (
            ((1.0 - _WEIGHT) / 3.0 - _WEIGHT) * rate[one]
            + ((3.0 * _WEIGHT + 1.0) / 3.0 - _WEIGHT) * middle_rate[one]
            + (_HALF / 3.0 - _HALF) * new_rate[one]
        ) / _HALF
    estimate = np.dot(inverse, b)
    error = 0.0
    for one in range(size):
        if moved[one]:
            most = max(largest[one], abs(x[one]), abs(new[one]))
            error = max(error, abs(estimate[one]) / (floor[one] + relative * most))
    if not math.isfinite(error):
        return 1e3
    if error <= 1.0:
        for one in range(size):
            largest[one] = max(largest[one], abs(x[one]), abs(new[one]))
    return error


@compiled
def _went(x: Any, middle: Any, new: Any, h: float, ahead: Any) -> None:
    """dx/dt at the end of a step and half of d2x/dt2 to ``ahead`` (2, size), by the parabola through its points."""
    for one in range(len(x)):
        whole = (new[one] - x[one]) / h
        bent = ((new[one] - middle[one]) / ((1.0 - GAMMA) * h) - whole) / (GAMMA * h)
        ahead[0, one], ahead[1, one] = whole + bent * h, bent


@compiled
def _factor(
    stores: Any, farads: Any, base: Any, B: Any, S: Any, h: float, inverse: Any, reach: Any, impedance: Any
) -> None:  # fmt: skip
    """For a step h the inverse of C / (gamma/2 h) + base, and it at the ports.

    Farads over microseconds come beside the leak of a floating node: it is inverted in rows and columns of like size.
    """
    size = len(base)
    rows, columns = np.zeros(size), np.zeros(size)
    inverse[:, :] = base
    for entry in range(len(farads)):
        inverse[stores[entry, 0], stores[entry, 1]] += farads[entry] / (_HALF * h)
    for row in range(size):
        for column in range(size):
            rows[row] = max(rows[row], abs(inverse[row, column]))
    for row in range(size):
        for column in range(size):
            inverse[row, column] /= rows[row]
            columns[column] = max(columns[column], abs(inverse[row, column]))
    for row in range(size):
        for column in range(size):
            inverse[row, column] /= columns[column]
    found = np.linalg.inv(inverse)
    for row in range(size):
        for column in range(size):
            inverse[row, column] = found[row, column] / (columns[row] * rows[column])
    reach[:, :] = np.dot(inverse, B)
    impedance[:, :] = np.dot(reach.T, S)


_TABLE = (takes(WHOLE, 1), takes(WHOLE, 2), takes(REAL, 2), takes(WHOLE, 2))
_CIRCUIT = (takes(REAL, 2), takes(REAL, 2), takes(REAL, 2), takes(WHOLE, 2), takes(REAL, 1), takes(REAL, 2))
_SOURCES = (takes(REAL, 1), takes(REAL, 1), takes(WHOLE, 1), takes(WHOLE, 2))
_ALLOWED = (takes(REAL, 1), REAL, takes(TRUTH, 1), gives(REAL, 1))


@ready(REAL(
    *_TABLE, *_CIRCUIT, *_SOURCES, *_ALLOWED, takes(WHOLE, 2), gives(REAL, 1), gives(REAL, 2), gives(REAL, 1), REAL,
    REAL, TRUTH, gives(REAL, 1), gives(REAL, 1),
))  # fmt: skip
def one_step(
    laws: Any, at: Any, numbers: Any, ends: Any, reference: Any, B: Any, S: Any, stores: Any, farads: Any, base: Any,
    steady: Any, waves: Any, wave_ends: Any, wave_places: Any, floor: Any, relative: float, moved: Any, largest: Any,
    own: Any, x: Any, ahead: Any, rate: Any, second: float, h: float, settle: bool, new: Any, new_rate: Any,
) -> Any:  # fmt: skip
    """One step by itself: see _step."""
    inverse, reach = np.empty(base.shape), np.empty(B.shape)
    impedance = np.empty(reference.shape)
    _factor(stores, farads, base, B, S, h, inverse, reach, impedance)
    return _step(
        laws, at, numbers, ends, reference, stores, farads, inverse, reach, impedance,
        steady, waves, wave_ends, wave_places, floor, relative, moved, largest,
        own, np.full(1, np.inf), x, ahead, rate, second, h, settle, np.empty(len(x)), new, new_rate,
    )  # fmt: skip


@ready(WHOLE(
    *_TABLE, *_CIRCUIT, *_SOURCES, *_ALLOWED, takes(WHOLE, 2), gives(REAL, 1), gives(REAL, 3), gives(REAL, 3),
    gives(REAL, 3), gives(REAL, 1), gives(REAL, 2), gives(REAL, 1), gives(REAL, 1), REAL, REAL, REAL, REAL,
    gives(REAL, 1), gives(REAL, 2), gives(WHOLE, 1),
))  # fmt: skip
def follow(
    laws: Any, at: Any, numbers: Any, ends: Any, reference: Any, B: Any, S: Any, stores: Any, farads: Any, base: Any,
    steady: Any, waves: Any, wave_ends: Any, wave_places: Any, floor: Any, relative: float, moved: Any, largest: Any,
    own: Any, kept_steps: Any, kept_inverses: Any, kept_reaches: Any, kept_impedances: Any,
    x: Any, ahead: Any, rate: Any, clock: Any, corner: float, longest: float, least: float, keep_from: float,
    seconds: Any, points: Any, count: Any,
) -> int:  # fmt: skip
    """Step after step up to ``corner``, or until as many were tried as ``seconds`` and ``points`` have room for, or a
    step would be shorter than ``least``: AT_CORNER, TRIED or STUCK.

    ``clock`` holds the time, the step that is wanted next, whether the next is a first one from rest, and the bend
    that Newton has seen; with ``x``, ``ahead`` (see ``_went``) and ``rate`` (C dx/dt) it goes in and comes out.
    ``count`` says how many points were written, those from ``keep_from`` on, and the next of the kept factors to be
    replaced.
    """
    new, new_rate, middle = np.empty(len(x)), np.empty(len(x)), np.empty(len(x))
    count[0] = 0
    for _ in range(len(seconds)):
        second, wanted, settle = clock[0], clock[1], clock[2] != 0.0
        left = corner - second
        h = min(wanted, longest)
        if h >= left * (1.0 - 1e-9):
            h = left
        elif h > 0.5 * left:
            h = 0.5 * left
        else:
            # Steps of few lengths, so that what is factored serves again.
            h = longest * 2.0 ** (math.floor(2.0 * math.log2(h / longest) + 1e-9) / 2.0)
        if h < least:
            return STUCK
        place = -1
        for one in range(len(kept_steps)):
            if abs(kept_steps[one] - h) <= 1e-12 * h:
                place = one
        if place < 0:
            place = count[1]
            count[1] = (place + 1) % len(kept_steps)
            kept_steps[place] = h
            _factor(stores, farads, base, B, S, h, kept_inverses[place], kept_reaches[place], kept_impedances[place])
        error = _step(
            laws, at, numbers, ends, reference, stores, farads, kept_inverses[place], kept_reaches[place],
            kept_impedances[place], steady, waves, wave_ends, wave_places, floor, relative, moved, largest,
            own, clock[3:], x, ahead, rate, second, h, settle, middle, new, new_rate,
        )  # fmt: skip
        if error < 0.0:
            clock[1], clock[3] = h / 8.0, math.inf
            continue
        growth = 0.85 * max(error, 1e-9) ** (-1.0 / 3.0)
        if error > 1.0 and not settle:
            clock[1] = h * max(0.2, growth)
            continue
        if settle:
            ahead[:] = 0.0
        else:
            _went(x, middle, new, h, ahead)
        for one in range(len(x)):
            x[one], rate[one] = new[one], new_rate[one]
        clock[0] = second + h
        clock[1] = h * min(2.0, max(0.3, growth))
        clock[2] = 0.0
        at_corner = h == left
        if at_corner:
            clock[0] = corner
        if clock[0] >= keep_from:
            seconds[count[0]] = clock[0]
            for one in range(len(x)):
                points[count[0], one] = x[one]
            count[0] += 1
        if at_corner:
            return AT_CORNER
    return TRIED
