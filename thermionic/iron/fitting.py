"""Readings fitted: for each order of the leads, the turns and the ohms between neighbours that they agree with."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from thermionic.devices.base import Array
from thermionic.iron.readings import (
    LEAST_OHM,
    LEAST_VOLT,
    METER,
    MOST_IN_A_WINDING,
    Reading,
    Resistance,
    Voltage,
)

# An order whose misfit is not worse than the best's by so much (in squared errors) fits as well.
AS_WELL = 9.0


def orders_of(groups: list[list[str]], readings: Sequence[Reading]) -> list[tuple[tuple[str, ...], bool]]:
    """For each group the order that fits best, and whether no other fits as well."""
    result = []
    for group in groups:
        if len(group) < 3:
            result.append((tuple(group), True))
            continue
        if len(group) > MOST_IN_A_WINDING:
            result.append((tuple(group), False))
            continue
        scored = sorted(
            ((_group_misfit(order, readings), order) for order in _permutations(group)), key=lambda one: one[0]
        )
        best = scored[0]
        sure = len(scored) < 2 or scored[1][0] - best[0] > AS_WELL
        result.append((best[1], sure))
    return result


def _permutations(group: Sequence[str]) -> list[tuple[str, ...]]:
    """Every order but for which end is first."""
    return [order for order in itertools.permutations(group) if group.index(order[0]) < group.index(order[-1])]


def _group_misfit(order: tuple[str, ...], readings: Sequence[Reading]) -> float:
    """How ill the readings within one winding go with an order: squared errors of resistances and voltages."""
    from scipy.optimize import nnls  # takes a while to import, which nothing before the first page needs

    inside = set(order)
    total = _ohm_fit(order, readings)[1]
    tests: dict[tuple[str, str, float], list[Voltage]] = {}
    for reading in readings:
        if isinstance(reading, Voltage) and reading.joined is None and {reading.a, reading.b} <= inside:
            tests.setdefault((reading.on_a, reading.on_b, reading.applied), []).append(reading)
    for (on_a, on_b, applied), read in tests.items():
        known = [(one.a, one.b, one.volt) for one in read]
        if {on_a, on_b} <= inside:
            known.append((on_a, on_b, applied))
        rows = np.stack([_spans(order, a, b) for a, b, _ in known])
        volts = np.array([volt for _, _, volt in known])
        error = np.hypot(METER * volts, LEAST_VOLT)
        total += float(nnls(rows / error[:, None], volts / error)[1]) ** 2
    return total


def _spans(order: Sequence[str], a: str, b: str) -> Array:
    """Which of the steps between neighbours lie between two leads, (leads - 1,)."""
    first, last = sorted((order.index(a), order.index(b)))
    row = np.zeros(len(order) - 1)
    row[first:last] = 1.0
    return row


def _ohm_fit(order: tuple[str, ...], readings: Sequence[Reading]) -> tuple[Array, float, list[tuple[Reading, float]]]:
    """The ohms between neighbours, the misfit, and each reading's own, in errors."""
    from scipy.optimize import nnls  # takes a while to import, which nothing before the first page needs

    inside = [
        reading for reading in readings
        if isinstance(reading, Resistance) and reading.ohm is not None and {reading.a, reading.b} <= set(order)
    ]  # fmt: skip
    if not inside or len(order) < 2:
        return np.full(max(len(order) - 1, 0), np.nan), 0.0, []
    error = np.array([_ohm_error(one.ohm or 0.0) for one in inside])
    rows = np.stack([_spans(order, one.a, one.b) for one in inside])
    values = np.array([one.ohm or 0.0 for one in inside])
    steps, _ = nnls(rows / error[:, None], values / error)
    misses = (rows @ steps - values) / error
    steps = np.where(_determined(rows), steps, np.nan)
    return steps, float(np.sum(misses**2)), list(zip(inside, misses.tolist(), strict=True))


def _ohm_error(ohm: float) -> float:
    return float(np.hypot(METER * ohm, LEAST_OHM))


def _determined(rows: Array) -> Array:
    """Which unknowns the rows settle: those that nothing in their null space moves."""
    _, sizes, right = np.linalg.svd(rows, full_matrices=True)
    rank = int(np.sum(sizes > 1e-9 * sizes.max())) if len(sizes) and sizes.max() > 0 else 0
    settled: Array = np.all(np.abs(right[rank:]) < 1e-7, axis=0)
    return settled


@dataclass
class Fit:
    """Every winding's steps, in volts and in ohms, and how far each reading is from them, in errors, with what they
    make of it."""

    turns: dict[tuple[str, ...], Array]
    ohms: dict[tuple[str, ...], Array]
    misses: list[tuple[Reading, float, float]]


def _volt_fit(
    orders: Sequence[tuple[str, ...]], readings: Sequence[Voltage]
) -> tuple[Array, float, list[tuple[Voltage, float, float]]]:
    """The turns between neighbours of all windings together, in volts for the first reading's applied volt, the
    misfit, and each reading's own with what the fit makes of it."""
    from scipy.optimize import nnls  # takes a while to import, which nothing before the first page needs

    plain = [reading for reading in readings if reading.joined is None]
    counts = [max(len(order) - 1, 0) for order in orders]
    size = sum(counts)
    starts = np.cumsum([0, *counts])

    def row(a: str, b: str) -> Array | None:
        for place, order in enumerate(orders):
            if a in order and b in order:
                full = np.zeros(size)
                full[starts[place] : starts[place + 1]] = _spans(order, a, b)
                return full
        return None

    lines: list[tuple[Array, Array]] = []
    used: list[Voltage] = []
    for one in plain:
        read, on = row(one.a, one.b), row(one.on_a, one.on_b)
        if read is not None and on is not None:  # between windings that no wire joins a meter reads what strays
            lines.append((read, on))
            used.append(one)
    if not used:
        return np.full(size, np.nan), 0.0, []
    # The first volts applied set the scale; the rest are ratios: what is read over what is on.
    scale = lines[0][1] / used[0].applied
    ratios = np.array([one.volt / one.applied for one in used])
    exact = np.stack([read - ratio * on for (read, on), ratio in zip(lines, ratios.tolist(), strict=True)])
    on_them = np.stack([on for _, on in lines])
    errors = np.array([np.hypot(METER * one.volt, LEAST_VOLT) / one.applied for one in used])
    steps, matrix = np.ones(size), exact
    for _ in range(3):
        # A meter is off by as much on what it reads as on what is on.
        spread = np.hypot(errors, METER * ratios) * np.maximum(on_them @ steps, 1e-9)
        matrix = exact / spread[:, None]
        steps, _ = nnls(np.vstack([matrix, 1e6 * scale]), np.append(np.zeros(len(used)), 1e6))
    misses = matrix @ steps
    expected = [
        float(read @ steps) / max(float(on @ steps), 1e-12) * one.applied
        for one, (read, on) in zip(used, lines, strict=True)
    ]
    steps = np.where(_determined(np.vstack([exact, scale])), steps, np.nan)
    return steps, float(np.sum(misses**2)), list(zip(used, misses.tolist(), expected, strict=True))


def fitted(groups: list[list[str]], orders: list[tuple[tuple[str, ...], bool]], readings: Sequence[Reading]) -> Fit:
    """All readings fitted with the leads of each group in an order."""
    only = [order for order, _ in orders]
    volts = [reading for reading in readings if isinstance(reading, Voltage)]
    steps, _, misses = _volt_fit(only, volts)
    turns: dict[tuple[str, ...], Array] = {}
    ohms: dict[tuple[str, ...], Array] = {}
    every: list[tuple[Reading, float, float]] = [(one, miss, expected) for one, miss, expected in misses]
    at = 0
    for order in only:
        count = max(len(order) - 1, 0)
        turns[order] = steps[at : at + count]
        at += count
        result, _, of_ohms = _ohm_fit(order, readings)
        ohms[order] = result
        for one, miss in of_ohms:
            assert isinstance(one, Resistance)
            assert one.ohm is not None
            every.append((one, miss, one.ohm + miss * _ohm_error(one.ohm)))
    return Fit(turns, ohms, every)


def misfit(groups: list[list[str]], readings: Sequence[Reading]) -> float:
    """How badly the readings fit at best, in squared errors."""
    return total(fitted(groups, orders_of(groups, readings), readings))


def total(fit: Fit) -> float:
    """The misfit of all readings together, in squared errors."""
    return float(sum(miss**2 for _, miss, _ in fit.misses))
