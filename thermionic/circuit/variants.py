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
from thermionic.devices import AffinePorts
from thermionic.devices.base import Array
from thermionic.errors import NoSolution

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
