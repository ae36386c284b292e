"""A thousand builds of one amplifier: parts and tubes as they come, and what that does to its figures.

Every build's operating point, gain and balance are solved, and its power and distortion balanced harmonically, all
together as arrays. The supply's rectifiers stand in by the straight lines that they are around their mean currents.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor, wait
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from thermionic import budget
from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.compiling import Compiled
from thermionic.amplifier.solved import FULL_DISTORTION, REFERENCE_HERTZ
from thermionic.blocks import Component
from thermionic.circuit.large_signal import Drive, distortion, drive, drive_alike
from thermionic.circuit.netlist import Netlist
from thermionic.circuit.small_signal import SmallSignal
from thermionic.circuit.system import System
from thermionic.circuit.variants import Spread, VariantPoints, operating_points
from thermionic.design import find
from thermionic.devices import Capacitor, Inductor, Pentode, Potentiometer, Resistor, Triode
from thermionic.devices.base import Array, Device
from thermionic.errors import NoSolution, ValueRefused
from thermionic.performance.levels import reference_output, source_for

MOST_BUILDS = 5000
# How alike the tubes of a matched pair are: their deviations correlate by so much.
MATCHED = 0.95
_HARMONICS = 6
_CHUNK = 125
_BINS = 24
_POT, _IRON = 0.2, 0.2
_TIGHTER = 5.0
_NAMED = 3
Told = Callable[[float], None]


def _quietly(part: float) -> None:
    """Tell nobody."""


@dataclass(frozen=True)
class Contribution:
    """One cause of a spread: the designator (or bottle), the path of what sets it, and the share of the variance that
    is its own. ``tighter`` is what would be the standard deviation, over what it is, with a part five times as tight,
    or with a bottle matched to its partner where that is ``matched``."""

    name: str
    path: str
    share: float
    tighter: float
    matched: bool = False


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


@dataclass
class _Draw:
    """Independent standard normal deviates, a column a cause: (builds, columns), and whose each is."""

    builds: int
    random: np.random.Generator
    columns: list[Array] = field(default_factory=list)
    names: list[tuple[str, str]] = field(default_factory=list)
    places: dict[tuple[str, ...], int] = field(default_factory=dict)

    def column(self, key: tuple[str, ...], name: str, path: str) -> Array:
        """The deviates of a cause, drawn when first asked for; the first build is the design itself."""
        if key not in self.places:
            drawn = self.random.standard_normal(self.builds)
            drawn[0] = 0.0
            self.places[key] = len(self.columns)
            self.columns.append(drawn)
            self.names.append((name, path))
        return self.columns[self.places[key]]


@dataclass(frozen=True)
class _Builds:
    """How the parts of one channel are drawn. ``channel`` marks what each channel has of its own."""

    amplifier: SolvedAmplifier
    spread: Spread
    draw: _Draw
    partners: dict[str, str]
    channel: str

    def netlist(self) -> Netlist:
        """The circuit as an array of builds."""
        netlist = self.amplifier.state.at.system.netlist
        return replace(
            netlist, parts=tuple(replace(part, device=self._varied(part.name, part.device)) for part in netlist.parts)
        )

    def _varied(self, name: str, device: Device) -> Device:
        if isinstance(device, Resistor):
            return replace(
                device, ohm=device.ohm * self._factor(name, _tolerance(self.amplifier.compiled, name, 0.05))
            )
        if isinstance(device, Potentiometer):
            return replace(device, ohm=device.ohm * self._factor(name, _POT))
        if isinstance(device, Capacitor):
            return replace(
                device, farad=device.farad * self._factor(name, _tolerance(self.amplifier.compiled, name, 0.2))
            )
        if isinstance(device, Inductor):
            return replace(device, henry=device.henry * self._factor(name, _IRON))
        if isinstance(device, Triode):
            emission, mu = self._tube(name)
            return replace(device, coefficients=device.coefficients.amplifying(mu), scale=device.scale * emission)
        if isinstance(device, Pentode):
            emission, mu = self._tube(name)
            space = device.coefficients.space.amplifying(mu)
            return replace(
                device, coefficients=replace(device.coefficients, space=space), scale=device.scale * emission
            )
        return device

    def _key(self, block: str, name: str) -> tuple[str, ...]:
        """Whose it is: each channel's own, or shared."""
        design = self.amplifier.design
        shared = block and design.block(block).scope == "shared"
        return (name,) if shared or not block else (name, self.channel)

    def _factor(self, name: str, tolerance: float) -> Array:
        path = self.amplifier.netlist[name].path if name in self.amplifier.netlist else ""
        block = path.split("/")[1] if path.startswith("blocks/") else ""
        factor: Array = np.exp(tolerance / 3 * self.draw.column(self._key(block, name), name, path))
        return factor

    def _tube(self, name: str) -> tuple[Array, Array]:
        """Factors of emission and mu of one section: its bottle's part, its own, and its partner's where matched."""
        use = next((one for one in self.amplifier.compiled.tubes if one.part == name), None)
        bottle = use.envelope if use else name
        path = f"envelopes/{bottle}/type" if use else ""
        alone = use is None or len(use.type.section_letters) == 1
        alike = 1.0 if alone else float(np.clip(self.spread.sections_alike, 0.0, 1.0)) ** 0.5
        split = use is not None and self.amplifier.design.envelope(bottle).split == "channels"
        both = []
        for which in ("emission", "mu"):
            shared = self._bottle(bottle, path, which, split)
            own = 0.0 if alone else self.draw.column((name, self.channel, which), bottle.upper(), path)
            both.append(alike * shared + (1 - alike**2) ** 0.5 * own)
        r = self.spread.correlation
        second = r * both[0] + (1 - r**2) ** 0.5 * both[1]
        return np.exp(self.spread.emission * both[0]), np.exp(self.spread.mu * second)

    def _bottle(self, bottle: str, path: str, which: str, split: bool) -> Array:
        key = (bottle, which) if split else (bottle, self.channel, which)
        deviates = self.draw.column(key, bottle.upper(), path)
        partner = self.partners.get(bottle)
        if partner is None:
            return deviates
        of_partner = self.draw.column((partner, self.channel, which), partner.upper(), f"envelopes/{partner}/type")
        both: Array = MATCHED * of_partner + (1 - MATCHED**2) ** 0.5 * deviates
        return both


def _tolerance(compiled: Compiled, name: str, usual: float) -> float:
    """A part's own tolerance, a fraction; what is usual for a part that has none. What is no part of the amplifier, a
    loudspeaker or a source's resistance, does not stray."""
    path = compiled.netlist[name].path if name in compiled.netlist else ""
    value = find(compiled.design, path).value if path else None
    return float(getattr(value, "tolerance", usual)) if isinstance(value, Component) else 0.0


def partners(amplifier: SolvedAmplifier) -> dict[str, str]:
    """The bottles of side b of each pair, with those of side a that they can be matched to."""
    found = {}
    for block in dict.fromkeys(use.block for use in amplifier.compiled.tubes):
        uses = amplifier.compiled.tubes_of(block)
        sides = [[use.envelope for use in uses if use.side == side] for side in "ab"]
        for a, b in zip(*sides, strict=False):
            if a != b:
                found[b] = a
    return found


def tolerances(
    amplifier: SolvedAmplifier,
    builds: int = 1000,
    *,
    matched: bool = True,
    seed: int = 0,
    spread: Spread | None = None,
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
    spread = spread or Spread()
    draw = _Draw(builds, np.random.default_rng(seed))
    pairs = partners(amplifier)
    channels = ["left", "right"][: amplifier.design.channels]
    at = amplifier.state.at
    points = []
    for channel in channels:
        drawn = _Builds(amplifier, spread, draw, pairs if matched else {}, channel)
        points.append(operating_points(System(drawn.netlist()), at.x))
        told(0.1 * len(points))
    failed = np.any([one.failed for one in points], axis=0)
    if failed.all():
        raise NoSolution("No build of it found an operating point.")
    figures = list(_steady(amplifier, points))
    driven, unsettled = _driven(amplifier, points[0], lambda part: told(0.2 + 0.75 * part), threads)
    figures += driven
    of_all = np.stack(draw.columns, axis=1)
    quantities = [_quantity(*figure, draw, of_all, ~failed, pairs if not matched else {}) for figure in figures]
    told(1.0)
    return Tolerances(builds, matched, int(failed.sum()), int(unsettled), tuple(quantities))


_Figure = tuple[str, str, str, Array]


def _steady(amplifier: SolvedAmplifier, points: list[VariantPoints]) -> list[_Figure]:
    """Bias, gain and balance of every build. The first build is the design."""
    compiled, first = amplifier.compiled, points[0]
    found: list[_Figure] = []
    for use in compiled.tubes:
        found.append((f"bias {use.part}", f"Anode current of {use.part}", "A", _anode_current(first, use.part)))
    for block in dict.fromkeys(use.block for use in compiled.tubes):
        uses = compiled.tubes_of(block)
        a = [use for use in uses if use.side == "a"]
        b = [use for use in uses if use.side == "b"]
        if a and b:
            currents = [sum(_anode_current(first, use.part) for use in side) for side in (a, b)]
            name = f"Side a less side b of {amplifier.design.block(block).label.lower()}"
            found.append((f"sides {block}", name, "A", np.asarray(currents[0] - currents[1])))
    gains = []
    for one in points:
        tone = SmallSignal(one).tone(np.array([REFERENCE_HERTZ]))[:, 0]
        node = one.system.node(compiled.node(amplifier.load.node))
        source = one.system.node(compiled.node(amplifier.source_node))
        gains.append(20 * np.log10(np.abs(tone[:, node] / tone[:, source])))
    found.append(("gain", "Gain at 1 kHz", "dB", gains[0]))
    if len(gains) > 1:
        found.append(("channels", "Left channel over right", "dB", gains[0] - gains[1]))
    for rail in compiled.rails:
        found.append((f"rail {rail.name}", f"Rail {rail.name.replace('_', ' ')}", "V",
                      first.voltage(compiled.node(rail.node))))  # fmt: skip
    return found


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
    found = np.full((3, count), np.nan)

    def one(chunk: NDArray[np.int_]) -> None:
        fewer = _some(points, chunk)
        (low, low_settled), (high, high_settled) = drive_alike(fewer, REFERENCE_HERTZ, near, share[chunk])
        thd = np.where(high_settled, distortion(high.phasors(load)), np.nan)
        volts = _volts(high, load) * (FULL_DISTORTION / thd) ** (follows / steepness)
        found[:, chunk] = (
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
    output = found[1] ** 2 / amplifier.load.ohm if amplifier.load.power else found[1]
    unit = "W" if amplifier.load.power else "V"
    words = "1 W" if reference == 1.0 and unit == "W" else f"{reference:g} {unit}"
    figures: list[_Figure] = [
        ("low distortion", f"Distortion near {words}", "%", 100 * found[0]),
        ("full output", "Full output, 5 % distortion" + ("" if unit == "W" else ", rms"), unit, output),
    ]
    return figures, int(np.sum(~np.isfinite(found).all(axis=0)))


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
    key: str, name: str, unit: str, values: Array, draw: _Draw, of_all: Array, sound: Array, pairs: dict[str, str]
) -> Quantity:
    kept = sound & np.isfinite(values)
    seen = values[kept]
    low, high = np.percentile(seen, [2.5, 97.5])
    counts, edges = np.histogram(seen, _BINS)
    causes, explained = _causes(seen, of_all[kept], draw, pairs)
    return Quantity(
        key, name, unit, float(values[0]), float(seen.mean()), float(seen.std()), float(low), float(high),
        float(seen.min()), float(seen.max()), tuple(edges.tolist()), tuple(counts.tolist()), causes, explained,
    )  # fmt: skip


def _causes(
    values: Array, deviates: Array, draw: _Draw, pairs: dict[str, str]
) -> tuple[tuple[Contribution, ...], float]:
    """What matters most, by a straight line through all deviates."""
    total = float(values.var())
    if total <= 0.0:
        return (), 1.0
    columns = np.hstack([np.ones((len(values), 1)), deviates])
    slopes = np.linalg.lstsq(columns, values, rcond=None)[0]
    left = float(np.var(values - columns @ slopes))
    by_name: dict[tuple[str, str], float] = {}
    for (name, path), slope in zip(draw.names, slopes[1:].tolist(), strict=True):
        by_name[name, path] = by_name.get((name, path), 0.0) + slope**2
    ranked = sorted(by_name.items(), key=lambda item: -item[1])[:_NAMED]
    found = []
    for (name, path), variance in ranked:
        share = min(variance / total, 1.0)
        if share < 0.03:
            continue
        partner = _partner(name, pairs)
        if partner:
            now = total - _won_by_matching(name.lower(), partner, draw, slopes[1:].tolist())
        else:
            now = total - variance * (1 - 1 / _TIGHTER**2)
        found.append(Contribution(name, path, share, float(max(now, 0.0) / total) ** 0.5, bool(partner)))
    return tuple(found), 1.0 - left / total


def _partner(bottle: str, pairs: dict[str, str]) -> str:
    """The bottle that one could be matched to; "" for none."""
    turned = {a: b for b, a in pairs.items()}
    return pairs.get(bottle.lower()) or turned.get(bottle.lower(), "")


def _won_by_matching(bottle: str, partner: str, draw: _Draw, slopes: Sequence[float]) -> float:
    """What of the variance goes where two bottles deviate alike, by ``MATCHED``, in place of each for itself: their
    bottles' deviates then add as amplitudes."""
    won = 0.0
    for key, place in draw.places.items():
        if key[0] != bottle:
            continue
        other = draw.places.get((partner, *key[1:]))
        if other is not None:
            won -= 2 * MATCHED * float(slopes[place] * slopes[other])
    return won
