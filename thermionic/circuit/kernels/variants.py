"""Newton's equations of many variants of a circuit; see variants."""

from __future__ import annotations

from typing import Any

import numpy as np

from thermionic.compiled import REAL, WHOLE, compiled, gives, ready, takes
from thermionic.devices.laws import evaluate

TILE = 32  # variants at once, whose values lie together


@compiled
def _add(to: Any, row: int, first: Any, what: Any, which: int, count: Any, sign: float) -> None:
    """Add a row of a tile to one of all variants, from ``first`` on. Counted without a sign, as in dense."""
    for k in range(count):
        to[row, first + k] += sign * what[which, k]


@ready((
    takes(WHOLE, 1), takes(WHOLE, 2), takes(REAL, 2), takes(WHOLE, 2), takes(WHOLE, 2),
    takes(WHOLE, 2), takes(WHOLE, 1), takes(WHOLE, 1), takes(REAL, 2), takes(REAL, 2), takes(REAL, 2), gives(REAL, 2),
    gives(REAL, 2),
))  # fmt: skip
def linearised(
    laws: Any, at: Any, numbers: Any, senses: Any, drives: Any, place: Any, rows: Any, columns: Any,
    linear: Any, sources: Any, x: Any, values: Any, rhs: Any,
) -> None:  # fmt: skip
    """Newton's matrix and right-hand side, which is the residual turned round, at ``x`` (size, variants).

    ``linear`` and ``values`` (entries, variants) are G and the matrix at ``rows`` and ``columns``, ``place`` (size,
    size) the entry at each place; ``sources`` and ``rhs`` (size, variants). ``numbers`` has a row
    for each, or one for all; for the rest see ``newton``.
    """
    ports, injects, variants = len(senses), len(drives), x.shape[1]
    v, i, g, still = np.empty((1, ports)), np.zeros((1, injects)), np.zeros((1, injects, ports)), np.zeros(1)
    pairs = 0
    for device in range(len(laws)):
        pairs += (at[device, 2] - at[device, 1]) * (at[device, 4] - at[device, 3])
    flowing, slopes = np.empty((injects, TILE)), np.empty((pairs, TILE))
    for tile in range((variants + TILE - 1) // TILE):
        first, count = np.uint64(tile * TILE), np.uint64(min(TILE, variants - tile * TILE))
        for k in range(count):
            for port in range(ports):
                plus, minus = senses[port]
                volt = x[plus, first + k] if plus >= 0 else 0.0
                v[0, port] = volt - x[minus, first + k] if minus >= 0 else volt
            own = first + k if len(numbers) > 1 else np.uint64(0)
            evaluate(laws, at, numbers[own : own + np.uint64(1)], v, still, i, g)
            pair = 0
            for device in range(len(laws)):
                for one in range(at[device, 3], at[device, 4]):
                    flowing[one, k], i[0, one] = i[0, one], 0.0
                    for other in range(at[device, 1], at[device, 2]):
                        slopes[pair, k], g[0, one, other] = g[0, one, other], 0.0
                        pair += 1
        for row in range(len(rhs)):
            for k in range(count):
                rhs[row, first + k] = sources[row, first + k]
        for entry in range(len(rows)):
            row, column = rows[entry], columns[entry]
            for k in range(count):
                value = linear[entry, first + k]
                values[entry, first + k] = value
                rhs[row, first + k] -= value * x[column, first + k]
        pair = 0
        for device in range(len(laws)):
            for one in range(at[device, 3], at[device, 4]):
                wide = at[device, 2] - at[device, 1]
                for side in range(2):
                    row, sign = drives[one, side], 1.0 - 2.0 * side
                    if row < 0:
                        continue
                    _add(rhs, row, first, flowing, one, count, -sign)
                    for other in range(wide):
                        plus, minus = senses[at[device, 1] + other]
                        if plus >= 0:
                            _add(values, place[row, plus], first, slopes, pair + other, count, sign)
                        if minus >= 0:
                            _add(values, place[row, minus], first, slopes, pair + other, count, -sign)
                pair += wide
