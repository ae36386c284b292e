"""A thousand builds of one amplifier: parts and tubes as they come, and what that does to its figures.

Every build's operating point, gain and balance are solved, and its power and distortion balanced harmonically, all
together as arrays. The supply's rectifiers stand in by the straight lines that they are around their mean currents.
"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor, wait
from dataclasses import dataclass, replace
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from thermionic import budget
from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.full_output import FULL_DISTORTION
from thermionic.amplifier.solved import REFERENCE_HERTZ
from thermionic.circuit.large_signal import Drive, distortion, drive, drive_alike
from thermionic.circuit.small_signal import SmallSignal
from thermionic.circuit.system import System
from thermionic.circuit.variants import VariantPoints, operating_points
from thermionic.devices.base import Array
from thermionic.devices.scatter import TubeSpread
from thermionic.errors import NoSolution, ValueRefused
from thermionic.performance.builds import MATCHED, Builds, Cause, Deviates, partners
from thermionic.performance.levels import reference_output, source_for

MOST_BUILDS = 5000
_HARMONICS = 6
_CHUNK = 125
_BINS = 24
_TIGHTER = 5.0
_NAMED, _LEAST_SHARE = 3, 0.03
Means = Literal["tight", "picked", "matched"]
_MEANS: dict[str, Means] = {"part": "tight", "bottle": "picked", "alike": "picked", "apart": "matched"}
Told = Callable[[float], None]


def _quietly(part: float) -> None:
    """Tell nobody."""


@dataclass(frozen=True)
class Contribution:
    """One cause of a spread: what strays, the path of what sets it, and the share of the variance that is its own.
    ``tighter`` is what would be the standard deviation, over what it is, by ``means``: the part five times as
    ``tight``, the bottle ``picked`` five times nearer to its type, or ``matched`` to its partner (five times better
    where they already are), whichever wins more."""

    name: str
    path: str
    share: float
    tighter: float
    means: Means


@dataclass(frozen=True)
class Quantity:
    """How one figure spreads: its name, unit and value as designed, and over all builds the mean, the standard
    deviation, the middle 95 %, the least and most, a histogram (``edges`` one more than ``counts``), and the two or
    three causes that matter most with how much of the variance all causes explain in straight lines."""

    key: str
    name: str
    unit: str
    designed: float
    mean: float
    deviation: float
    low: float
    high: float
    least: float
    most: float
    edges: tuple[float, ...]
    counts: tuple[int, ...]
    causes: tuple[Contribution, ...]
    explained: float


@dataclass(frozen=True)
class Tolerances:
    """Every figure's spread over ``builds``, of which ``failed`` found no operating point and ``unsettled`` no steady
    state where they were driven."""

    builds: int
    matched: bool
    failed: int
    unsettled: int
    quantities: tuple[Quantity, ...]


def tolerances(
    amplifier: SolvedAmplifier,
    builds: int = 1000,
    *,
    matched: bool = True,
    seed: int = 0,
    spread: TubeSpread | None = None,
    told: Told = _quietly,
    threads: int = 2,
) -> Tolerances:
    """Build the amplifier ``builds`` times and see how its figures spread; ``told`` hears how far it is, 0 to 1.

    Parts are drawn by their own tolerances, a third of which is taken for the standard deviation; tubes by
    ``spread``, in which the sections of a bottle are alike in part, and the two bottles of a pair nearly so where
    they are ``matched``. Raises ValueRefused for a count out of range, NoSolution, BudgetSpent.
    """
    if not 20 <= builds <= MOST_BUILDS:
        raise ValueRefused(f"{builds} builds cannot be made: ask for 20 to {MOST_BUILDS}.")
    spread = spread or TubeSpread()
    deviates = Deviates(builds, np.random.default_rng(seed))
    pairs = partners(amplifier)
    channels = ["left", "right"][: amplifier.design.channels]
    at = amplifier.state.at
    points = []
    for channel in channels:
        drawn = Builds(amplifier, spread, deviates, pairs if matched else {}, channel)
        points.append(operating_points(System(drawn.netlist()), at.x))
        told(0.1 * len(points))
    failed = np.any([point.failed for point in points], axis=0)
    if failed.all():
        raise NoSolution("No build of it found an operating point.")
    figures = list(_steady(amplifier, points))
    driven, unsettled = _driven(amplifier, points[0], lambda part: told(0.2 + 0.75 * part), threads)
    figures += driven
    strayed = np.stack(deviates.columns, axis=1)
    quantities = [_quantity(*figure, deviates, strayed, ~failed, pairs if not matched else {}) for figure in figures]
    told(1.0)
    return Tolerances(builds, matched, int(failed.sum()), int(unsettled), tuple(quantities))


_Figure = tuple[str, str, str, Array]


def _steady(amplifier: SolvedAmplifier, points: list[VariantPoints]) -> list[_Figure]:
    """Bias, gain and balance of every build. The first build is the design."""
    compiled, first = amplifier.compiled, points[0]
    figures: list[_Figure] = []
    for use in compiled.tubes:
        figures.append((f"bias {use.part}", f"Anode current of {use.part}", "A", _anode_current(first, use.part)))
    for block in dict.fromkeys(use.block for use in compiled.tubes):
        uses = compiled.tubes_of(block)
        a = [use for use in uses if use.side == "a"]
        b = [use for use in uses if use.side == "b"]
        if a and b:
            currents = [sum(_anode_current(first, use.part) for use in side) for side in (a, b)]
            name = f"Side a less side b of {amplifier.design.block(block).label.lower()}"
            figures.append((f"sides {block}", name, "A", np.asarray(currents[0] - currents[1])))
    gains = []
    for point in points:
        tone = SmallSignal(point).tone(np.array([REFERENCE_HERTZ]))[:, 0]
        node = point.system.node(compiled.node(amplifier.load.node))
        source = point.system.node(compiled.node(amplifier.source_node))
        gains.append(20 * np.log10(np.abs(tone[:, node] / tone[:, source])))
    figures.append(("gain", "Gain at 1 kHz", "dB", gains[0]))
    if len(gains) > 1:
        figures.append(("channels", "Left channel over right", "dB", gains[0] - gains[1]))
    for rail in compiled.rails:
        figures.append((f"rail {rail.name}", f"Rail {rail.name.replace('_', ' ')}", "V",
                      first.voltage(compiled.node(rail.node))))  # fmt: skip
    return figures


def _anode_current(points: VariantPoints, part: str) -> Array:
    place = points.system.place(part)
    volts = points.system.local(place, points.x)
    ports = np.stack(
        [volts[..., plus] - (volts[..., minus] if minus >= 0 else 0.0) for plus, minus in place.part.device.ports],
        axis=-1,
    )
    current: Array = place.part.device.currents(ports)[0][..., -1]
    return current


def _driven(amplifier: SolvedAmplifier, points: VariantPoints, told: Told, threads: int) -> tuple[list[_Figure], int]:
    """Distortion at the reference output, and full output, of every build."""
    reference = reference_output(amplifier)
    tone = float(amplifier.drive.levels[0] / amplifier.sweep[0].source_volt)
    full = amplifier.full_output.source_volt
    levels = tone * np.array([source_for(amplifier, reference), full])
    near = drive(amplifier.state.at, REFERENCE_HERTZ, levels, None, _HARMONICS)
    above = drive(amplifier.state.at, REFERENCE_HERTZ, levels[1:] * np.array([1.0, 1.08]), None, _HARMONICS)
    load = amplifier.load.node
    # Near full output: how fast distortion and output rise with the drive, as powers of it.
    at_full = distortion(above.phasors(load))
    steepness = max(float(np.log(at_full[1] / at_full[0]) / np.log(1.08)), 0.5)
    follows = float(np.log(_volts(above, load)[1] / _volts(above, load)[0]) / np.log(1.08))
    gains = np.abs(SmallSignal(points).tone(np.array([REFERENCE_HERTZ]))[:, 0, points.system.node(load)])
    share = np.where(np.isfinite(gains) & (gains > 0), gains[0] / np.maximum(gains, 1e-30), 1.0)
    count = len(share)
    chunks = [_chunk(count, first) for first in range(0, count, _CHUNK)]
    result = np.full((3, count), np.nan)

    def one(chunk: NDArray[np.int_]) -> None:
        fewer = _some(points, chunk)
        (low, low_settled), (high, high_settled) = drive_alike(fewer, REFERENCE_HERTZ, near, share[chunk])
        thd = np.where(high_settled, distortion(high.phasors(load)), np.nan)
        volts = _volts(high, load) * (FULL_DISTORTION / thd) ** (follows / steepness)
        result[:, chunk] = (
            np.where(low_settled, distortion(low.phasors(load)), np.nan),
            volts,
            thd,
        )

    pool = ThreadPoolExecutor(threads)
    try:
        waiting = [pool.submit(budget.carried(one), chunk) for chunk in chunks]
        while wait(waiting, timeout=0.2).not_done:
            told(sum(each.done() for each in waiting) / len(chunks))
        for each in waiting:
            each.result()
    finally:
        pool.shutdown(cancel_futures=True)
    output = result[1] ** 2 / amplifier.load.ohm if amplifier.load.power else result[1]
    unit = "W" if amplifier.load.power else "V"
    words = "1 W" if reference == 1.0 and unit == "W" else f"{reference:g} {unit}"
    figures: list[_Figure] = [
        ("low distortion", f"Distortion near {words}", "%", 100 * result[0]),
        ("full output", "Full output, 5 % distortion" + ("" if unit == "W" else ", rms"), unit, output),
    ]
    return figures, int(np.sum(~np.isfinite(result).all(axis=0)))


def _chunk(count: int, first: int) -> NDArray[np.int_]:
    """The builds of a chunk, with the design itself at its head."""
    rows = np.arange(first, min(first + _CHUNK, count))
    return rows if first == 0 else np.insert(rows, 0, 0)


def _some(points: VariantPoints, rows: NDArray[np.int_]) -> VariantPoints:
    """The operating points of some builds."""

    def kept(device: Any) -> Any:
        changes = {}
        for name, value in vars(device).items():
            if isinstance(value, np.ndarray) and value.ndim and len(value) == len(points.x):
                changes[name] = value[rows]
            elif hasattr(value, "__dataclass_fields__"):
                inner = kept(value)
                if inner is not value:
                    changes[name] = inner
        return replace(device, **changes) if changes else device

    netlist = points.system.netlist
    fewer = replace(netlist, parts=tuple(replace(part, device=kept(part.device)) for part in netlist.parts))
    return VariantPoints(System(fewer), points.x[rows], points.failed[rows], {})


def _volts(driven: Drive, node: str) -> Array:
    """What comes out, V rms, every harmonic in it: (levels,)."""
    size: Array = np.sqrt(np.sum(np.abs(driven.phasors(node)[:, 1:]) ** 2, axis=1) / 2)
    return size


def _quantity(
    key: str,
    name: str,
    unit: str,
    values: Array,
    deviates: Deviates,
    strayed: Array,
    sound: Array,
    pairs: dict[str, str],
) -> Quantity:
    kept = sound & np.isfinite(values)
    seen = values[kept]
    low, high = np.percentile(seen, [2.5, 97.5])
    counts, edges = np.histogram(seen, _BINS)
    causes, explained = _causes(seen, strayed[kept], deviates, pairs)
    return Quantity(
        key, name, unit, float(values[0]), float(seen.mean()), float(seen.std()), float(low), float(high),
        float(seen.min()), float(seen.max()), tuple(edges.tolist()), tuple(counts.tolist()), causes, explained,
    )  # fmt: skip


def _causes(
    values: Array, strayed: Array, deviates: Deviates, pairs: dict[str, str]
) -> tuple[tuple[Contribution, ...], float]:
    """What matters most, by a straight line through all deviates."""
    total = float(values.std())
    if total <= 0.0:
        return (), 1.0
    columns = np.hstack([np.ones((len(values), 1)), strayed])
    slopes = np.linalg.lstsq(columns, values, rcond=None)[0][1:]
    parts = strayed * slopes
    left = float(np.std(values - parts.sum(axis=1)))
    by_cause: dict[Cause, Array] = {}
    for cause, part in zip(deviates.causes, parts.T, strict=True):
        by_cause[cause] = by_cause.get(cause, 0.0) + part
    result = []
    for cause, part in sorted(by_cause.items(), key=lambda item: -float(item[1].std()))[:_NAMED]:
        share = min(float(part.std() / total) ** 2, 1.0)
        if share < _LEAST_SHARE:
            continue
        tighter = float((values - (1 - 1 / _TIGHTER) * part).std()) / total
        means = _MEANS[cause.kind]
        partner = _partner(cause, pairs)
        if partner:
            followed = values + _matching(cause.name.lower(), partner, deviates, strayed, np.asarray(slopes))
            if float(followed.std()) / total < tighter:
                tighter, means = float(followed.std()) / total, "matched"
        result.append(Contribution(cause.name, cause.path, share, tighter, means))
    return tuple(result), 1.0 - (left / total) ** 2


def _partner(cause: Cause, pairs: dict[str, str]) -> str:
    """The bottle that one could be matched to; "" for none."""
    turned = {a: b for b, a in pairs.items()}
    bottle = cause.name.lower()
    return pairs.get(bottle) or turned.get(bottle, "") if cause.kind == "bottle" else ""


def _matching(bottle: str, partner: str, deviates: Deviates, strayed: Array, slopes: Array) -> Array:
    """What every build would change by, were a bottle to follow its partner as one of a matched pair does."""
    change = np.zeros(len(strayed))
    for key, place in deviates.places.items():
        other = deviates.places.get((partner, *key[1:])) if key[0] == bottle else None
        if other is not None:
            own, followed = strayed[:, place], strayed[:, other]
            change += slopes[place] * (MATCHED * followed + (1 - MATCHED**2) ** 0.5 * own - own)
    return change
