"""Newton's equations of many variants of a circuit; see variants."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from thermionic.compiled import REAL, WHOLE, compiled, gives, ready, takes, together
from thermionic.devices.laws import evaluate

TILE = 32  # variants at once, whose values lie together


@compiled
def _add(to: Any, row: int, first: Any, tile: Any, count: Any, sign: float) -> None:
    """Add a tile's values to a row of all variants, from ``first`` on. Counted without a sign, as in dense."""
    for k in range(count):
        to[row, first + k] += sign * tile[k]


class Variants(NamedTuple):
    """Many variants of a circuit.

    ``laws``, ``at`` and ``numbers`` (variants, or 1 for all) are the devices', see laws.evaluate; ``senses`` and
    ``drives`` as in newton.Equations; ``place`` (size, size) says which entry of a matrix is where, at ``rows`` and
    ``columns`` (entries,); ``linear`` (entries, variants) is G, ``sources`` (size, variants) the right-hand sides.
    """

    laws: Any
    at: Any
    numbers: Any
    senses: Any
    drives: Any
    place: Any
    rows: Any
    columns: Any
    linear: Any
    sources: Any


@compiled
def _evaluate_tile(circuit: Any, first: Any, count: Any, x: Any, flowing: Any, slopes: Any) -> None:
    """The devices of ``count`` variants from ``first`` on, at x: their currents to ``flowing`` (injects, TILE), their
    slopes to ``slopes`` (pairs of inject and port, TILE)."""
    at, senses = circuit.at, circuit.senses
    ports, injects = len(senses), len(circuit.drives)
    v, i, g, still = np.empty((1, ports)), np.zeros((1, injects)), np.zeros((1, injects, ports)), np.zeros(1)
    for k in range(count):
        for port in range(ports):
            plus, minus = senses[port]
            volt = x[plus, first + k] if plus >= 0 else 0.0
            v[0, port] = volt - x[minus, first + k] if minus >= 0 else volt
        own = first + k if len(circuit.numbers) > 1 else np.uint64(0)
        evaluate(circuit.laws, at, circuit.numbers[own : own + np.uint64(1)], v, still, i, g)
        pair = 0
        for device in range(len(circuit.laws)):
            for inject in range(at[device, 3], at[device, 4]):
                flowing[inject, k], i[0, inject] = i[0, inject], 0.0
                for port in range(at[device, 1], at[device, 2]):
                    slopes[pair, k], g[0, inject, port] = g[0, inject, port], 0.0
                    pair += 1


@compiled
def _add_devices(circuit: Any, first: Any, count: Any, flowing: Any, slopes: Any, values: Any, rhs: Any) -> None:
    """Add what the devices of a tile do to the matrices and right-hand sides."""
    at, senses, place = circuit.at, circuit.senses, circuit.place
    pair = 0
    for device in range(len(circuit.laws)):
        wide = at[device, 2] - at[device, 1]
        for inject in range(at[device, 3], at[device, 4]):
            for side in range(2):
                row, sign = circuit.drives[inject, side], 1.0 - 2.0 * side
                if row < 0:
                    continue
                _add(rhs, row, first, flowing[inject], count, -sign)
                for port in range(wide):
                    plus, minus = senses[at[device, 1] + port]
                    if plus >= 0:
                        _add(values, place[row, plus], first, slopes[pair + port], count, sign)
                    if minus >= 0:
                        _add(values, place[row, minus], first, slopes[pair + port], count, -sign)
            pair += wide


@ready((
    together(
        Variants, gives(WHOLE, 1), gives(WHOLE, 2), gives(REAL, 2), gives(WHOLE, 2), gives(WHOLE, 2), gives(WHOLE, 2),
        gives(WHOLE, 1), gives(WHOLE, 1), gives(REAL, 2), gives(REAL, 2),
    ),
    takes(REAL, 2), gives(REAL, 2), gives(REAL, 2),
))  # fmt: skip
def linearised(circuit: Any, x: Any, values: Any, rhs: Any) -> None:
    """Newton's matrices to ``values`` (entries, variants) and right-hand sides to ``rhs`` (size, variants), which are
    the negative residuals, at ``x`` (size, variants)."""
    variants, rows, columns = x.shape[1], circuit.rows, circuit.columns
    pairs = 0
    for device in range(len(circuit.laws)):
        at = circuit.at[device]
        pairs += (at[2] - at[1]) * (at[4] - at[3])
    flowing, slopes = np.empty((len(circuit.drives), TILE)), np.empty((pairs, TILE))
    for tile in range((variants + TILE - 1) // TILE):
        first, count = np.uint64(tile * TILE), np.uint64(min(TILE, variants - tile * TILE))
        _evaluate_tile(circuit, first, count, x, flowing, slopes)
        for row in range(len(rhs)):
            for k in range(count):
                rhs[row, first + k] = circuit.sources[row, first + k]
        for entry in range(len(rows)):
            row, column = rows[entry], columns[entry]
            for k in range(count):
                value = circuit.linear[entry, first + k]
                values[entry, first + k] = value
                rhs[row, first + k] -= value * x[column, first + k]
        _add_devices(circuit, first, count, flowing, slopes, values, rhs)
