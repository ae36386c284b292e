"""One design, many variants: tolerances, tubes, faults and mains voltages solved together as arrays.

A variant circuit is a netlist whose devices hold arrays instead of numbers (see devices.base). Its operating
points are found by Newton's method on all variants at once, from the solution of the nominal circuit.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields, is_dataclass, replace
from typing import Any, TypeVar

import numpy as np

from thermionic import budget
from thermionic.circuit.elimination import pattern
from thermionic.circuit.kernels.variants import linearised
from thermionic.circuit.netlist import Netlist
from thermionic.circuit.operating_point import Solution, operating_point
from thermionic.circuit.system import System
from thermionic.devices import (
    AffinePorts,
    Capacitor,
    Device,
    Inductor,
    Pentode,
    Potentiometer,
    Resistor,
    Triode,
    VacuumRectifier,
)
from thermionic.devices.base import Array
from thermionic.errors import NetlistRefused, NoSolution

_ITERATIONS = 25
_VOLT, _RELATIVE = 1e-6, 1e-6
_CONTRACTS, _SURE = 0.1, 100.0
_FEWER = 0.8  # of those that are gone on with: only so many fewer are worth the trouble of leaving the rest
Thing = TypeVar("Thing")


@dataclass(frozen=True, eq=False)
class VariantPoints(Solution):
    """The operating points of an array of variants: ``x`` is (variants, size).

    ``failed`` (variants,) is true where none was found; its row of ``x`` is then not a number, and ``reasons`` says
    why.
    """

    failed: Array
    reasons: Mapping[int, str]

    def voltage(self, node: str) -> Array:
        """A node's voltage to earth in every variant, V, (variants,)."""
        volts: Array = self.x[:, self.system.node(node)]
        return volts


def picked(thing: Thing, variant: int) -> Thing:
    """A device, or a part of one, as it is in one variant."""
    if isinstance(thing, AffinePorts):
        if np.ndim(thing.ampere) < 2:  # the same in all
            return thing
        return AffinePorts(thing.pairs, thing.siemens[variant], thing.ampere[variant])  # type: ignore[return-value]
    if isinstance(thing, np.ndarray):
        return thing[variant].item() if thing.ndim else thing.item()  # type: ignore[no-any-return]
    if isinstance(thing, tuple):
        return tuple(picked(one, variant) for one in thing)  # type: ignore[return-value]
    if is_dataclass(thing) and not isinstance(thing, type):
        changed: dict[str, Any] = {}
        for entry in fields(thing):
            value = getattr(thing, entry.name)
            if isinstance(value, (np.ndarray, tuple)) or is_dataclass(value):
                changed[entry.name] = picked(value, variant)
        return replace(thing, **changed) if changed else thing
    return thing


def one_of(netlist: Netlist, variant: int) -> Netlist:
    """The circuit of one variant, by itself."""
    return replace(netlist, parts=tuple(replace(part, device=picked(part.device, variant)) for part in netlist.parts))


def operating_points(system: System, nominal: Array | None = None) -> VariantPoints:
    """Solve every variant of ``system``; those that Newton's method leaves are tried one by one, as a single
    circuit is.

    ``nominal`` (size,), or one a variant, is where to start; by default the first variant is solved for it.
    Raises NoSolution if even that has none, ValueError if the system holds no array, BudgetSpent.
    """
    if system.variants is None:
        raise ValueError("there is no array of variants in this system")
    with budget.at_most():
        if nominal is None:
            nominal = operating_point(System(one_of(system.netlist, 0))).x
        count = system.variants
        shape = pattern(system.conducting)
        table = system.table
        own, pushed, numbers = system.entries(shape.place), np.ascontiguousarray(system.b_dc.T), table.numbers
        x = np.broadcast_to(nominal, (count, system.size)).T.copy()
        # Those that are gone on with, where they are, and which of them are not settled.
        which, here, left = np.arange(count), x, np.ones(count, dtype=bool)
        before = np.full(count, np.inf)
        for _ in range(_ITERATIONS):
            budget.check(f"solving {count} variants of {system.netlist.title}")
            values, rhs = np.empty_like(own), np.empty_like(here)
            linearised(
                table.laws, table.at, numbers, system.senses, system.drives,
                shape.place, shape.rows, shape.columns, own, pushed, here, values, rhs,
            )  # fmt: skip
            try:
                step = shape.solve(values, rhs[:, None])[:, 0]
            except np.linalg.LinAlgError:
                break
            here = here + step
            size = np.max(np.abs(step) / (_VOLT + _RELATIVE * np.abs(here)), axis=0)
            # Where each step is by the square of the one before, the next would be this one's cube over that square.
            squares = (size < _CONTRACTS * before) & np.isfinite(before)
            left, before = ~((size <= 1.0) | (squares & (_SURE * size**3 <= before**2))), size
            if not left.any():
                break
            if np.count_nonzero(left) < _FEWER * len(which):
                x[:, which] = here
                on = np.flatnonzero(left)
                which, before, left = which[on], before[on], left[on]
                here, own, pushed = (np.take(one, on, axis=1) for one in (here, own, pushed))
                numbers = numbers[on] if len(numbers) > 1 else numbers
        x[:, which] = here
        x = np.ascontiguousarray(x.T)
        reasons: dict[int, str] = {}
        for variant in which[left]:
            budget.check(f"solving {count} variants of {system.netlist.title}")
            try:
                near = np.broadcast_to(nominal, (count, system.size))[variant]
                x[variant] = operating_point(System(one_of(system.netlist, int(variant))), near).x
            except NoSolution as failure:
                x[variant] = np.nan
                reasons[int(variant)] = str(failure)
        failed = np.zeros(count, dtype=bool)
        failed[list(reasons)] = True
        return VariantPoints(system, x, failed, reasons)


@dataclass(frozen=True)
class Spread:
    """How parts differ from one to the next, each a standard deviation as a fraction of the value.

    Resistors and the like are given by their tolerance, which a third of a normal distribution is: nearly all
    are inside it. Tubes differ in two ways that hang together: ``emission`` scales the currents of a section,
    ``mu`` its amplification factor, with ``correlation`` between them; ``sections_alike`` is the part of a
    section's deviation that all sections of one envelope share (0 to 1).
    """

    resistor: float = 0.05 / 3
    capacitor: float = 0.2 / 3
    inductor: float = 0.2 / 3
    emission: float = 0.15
    mu: float = 0.04
    correlation: float = -0.3
    sections_alike: float = 0.5


def strayed(device: Triode | Pentode, emission: Array | float, mu: Array | float) -> Triode | Pentode:
    """A tube's section with its currents and its amplification factor times these."""
    scale = device.scale * emission
    if isinstance(device, Triode):
        return replace(device, coefficients=device.coefficients.amplifying(mu), scale=scale)
    space = device.coefficients.space.amplifying(mu)
    return replace(device, coefficients=replace(device.coefficients, space=space), scale=scale)


def monte_carlo(
    netlist: Netlist,
    count: int,
    spread: Spread | None = None,
    envelopes: Mapping[str, str] | None = None,
    seed: int = 0,
) -> Netlist:
    """The circuit with every part drawn at random, as an array of ``count`` variants.

    ``envelopes`` names the envelope that a tube's section is in, by the section's designator; sections of one
    envelope are drawn alike in part. The same ``seed`` gives the same variants. Raises NetlistRefused for a count
    below 1 or past 100,000.
    """
    if not 1 <= count <= 100_000:
        raise NetlistRefused(f"{count} variants cannot be drawn: ask for 1 to 100,000.")
    spread = spread or Spread()
    random = np.random.default_rng(seed)
    envelopes = envelopes or {}
    shared: dict[str, Array] = {}
    alike = np.sqrt(np.clip(spread.sections_alike, 0.0, 1.0))

    def drawn(deviation: float) -> Array:
        return np.exp(deviation * random.standard_normal(count))

    def tube_pair(name: str) -> tuple[Array, Array]:
        """Factors of emission and mu of one section."""
        envelope = envelopes.get(name, name)
        if envelope not in shared:
            shared[envelope] = random.standard_normal((2, count))
        own = random.standard_normal((2, count))
        both = alike * shared[envelope] + np.sqrt(1 - alike**2) * own
        r = spread.correlation
        second = r * both[0] + np.sqrt(1 - r**2) * both[1]
        return np.exp(spread.emission * both[0]), np.exp(spread.mu * second)

    def vary(name: str, device: Device) -> Device:
        if isinstance(device, Resistor):
            return replace(device, ohm=device.ohm * drawn(spread.resistor))
        if isinstance(device, Potentiometer):
            return replace(device, ohm=device.ohm * drawn(4 * spread.resistor))
        if isinstance(device, Capacitor):
            return replace(device, farad=device.farad * drawn(spread.capacitor))
        if isinstance(device, Inductor):
            return replace(device, henry=device.henry * drawn(spread.inductor))
        if isinstance(device, Triode | Pentode):
            return strayed(device, *tube_pair(name))
        if isinstance(device, VacuumRectifier):
            return replace(device, scale=device.scale * drawn(spread.emission))
        return device

    return replace(netlist, parts=tuple(replace(part, device=vary(part.name, part.device)) for part in netlist.parts))
