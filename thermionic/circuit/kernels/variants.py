"""Newton's equations of many variants of a circuit; see variants."""

from __future__ import annotations

from typing import Any

import numpy as np

from thermionic.compiled import REAL, WHOLE, compiled, gives, ready, takes
from thermionic.devices.laws import evaluate

TILE = 8  # variants at once, whose values lie together: a line of the cache


@compiled
def _stamp(values: Any, entry: int, first: int, slopes: Any, count: int, one: int, other: int, sign: float) -> None:
    """Add the slopes of an injected current by a port's voltage to an entry."""
    for k in range(count):
        values[entry, first + k] += sign * slopes[k, one, other]


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
    v, i, g = np.empty((TILE, ports)), np.zeros((TILE, injects)), np.zeros((TILE, injects, ports))
    still = np.zeros(1)
    for tile in range((variants + TILE - 1) // TILE):
        # Counted without a sign, as in dense.
        first, count = np.uint64(tile * TILE), np.uint64(min(TILE, variants - tile * TILE))
        for port in range(ports):
            plus, minus = senses[port]
            for k in range(count):
                volt = x[plus, first + k] if plus >= 0 else 0.0
                v[k, port] = volt - x[minus, first + k] if minus >= 0 else volt
        own = numbers[tile * TILE : tile * TILE + TILE] if len(numbers) > 1 else numbers
        evaluate(laws, at, own, v[:count], still, i[:count], g[:count])
        for row in range(len(rhs)):
            for k in range(count):
                rhs[row, first + k] = sources[row, first + k]
        for entry in range(len(rows)):
            row, column = rows[entry], columns[entry]
            for k in range(count):
                value = linear[entry, first + k]
                values[entry, first + k] = value
                rhs[row, first + k] -= value * x[column, first + k]
        for device in range(len(laws)):
            _, port, ports_end, inject, injects_end = at[device]
            for one in range(inject, injects_end):
                for side in range(2):
                    row, sign = drives[one, side], 1.0 - 2.0 * side
                    if row < 0:
                        continue
                    for k in range(count):
                        rhs[row, first + k] -= sign * i[k, one]
                    for other in range(port, ports_end):
                        plus, minus = senses[other]
                        if plus >= 0:
                            _stamp(values, place[row, plus], first, g, count, one, other, sign)
                        if minus >= 0:
                            _stamp(values, place[row, minus], first, g, count, one, other, -sign)
        i[:] = 0.0
        g[:] = 0.0
