"""One design, many variants: tolerances, tubes, faults and mains voltages solved together as arrays.

A variant circuit is a netlist whose devices hold arrays instead of numbers (see devices.base). Its operating
points are found by Newton's method on all variants at once, from the solution of the nominal circuit.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, fields, is_dataclass, replace
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from thermionic import budget
from thermionic.circuit.elimination import pattern
from thermionic.circuit.kernels.convergence import CONTRACTS, will_settle
from thermionic.circuit.kernels.variants import Variants, linearised
from thermionic.circuit.netlist import Netlist
from thermionic.circuit.operating_point import Solution, operating_point
from thermionic.circuit.system import System
from thermionic.devices import AffinePorts
from thermionic.devices.base import Array
from thermionic.errors import NoSolution

_ITERATIONS = 25
_VOLT, _RELATIVE = 1e-6, 1e-6
_FEWER = 0.8  # of the variants iterated: only so many fewer are worth copying without the rest
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
        start = np.broadcast_to(nominal, (system.variants, system.size))
        x, unsettled = _newton(system, start)
        reasons: dict[int, str] = {}
        for variant in unsettled.tolist():
            budget.check(f"solving {system.variants} variants of {system.netlist.title}")
            try:
                x[variant] = operating_point(System(one_of(system.netlist, variant)), start[variant]).x
            except NoSolution as failure:
                x[variant] = np.nan
                reasons[variant] = str(failure)
        failed = np.zeros(system.variants, dtype=bool)
        failed[list(reasons)] = True
        return VariantPoints(system, x, failed, reasons)


def _newton(system: System, start: Array) -> tuple[Array, NDArray[np.int_]]:
    """Newton's method on all variants from ``start`` (variants, size): where each ended, and which did not settle."""
    count = len(start)
    shape, table = pattern(system.conducting), system.table
    linear, sources, numbers = system.entries(shape.place), np.ascontiguousarray(system.b_dc.T), table.numbers
    x = start.T.copy()
    # Variants still iterating: their indices, where they are, which have not converged, and their last steps.
    active, iterate, unconverged = np.arange(count), x, np.ones(count, dtype=bool)
    before = np.full(count, np.inf)
    for _ in range(_ITERATIONS):
        budget.check(f"solving {count} variants of {system.netlist.title}")
        values, rhs = np.empty_like(linear), np.empty_like(iterate)
        circuit = Variants(
            table.laws, table.at, numbers, system.senses, system.drives, shape.place, shape.rows, shape.columns,
            linear, sources,
        )  # fmt: skip
        linearised(circuit, iterate, values, rhs)
        try:
            step = shape.solve(values, rhs[:, None])[:, 0]
        except np.linalg.LinAlgError:
            break
        iterate = iterate + step
        size = np.max(np.abs(step) / (_VOLT + _RELATIVE * np.abs(iterate)), axis=0)
        curved = np.where(
            (size < CONTRACTS * before) & np.isfinite(before), size / np.maximum(before, 1e-100) ** 2, np.inf
        )
        unconverged, before = ~will_settle(size, curved), size
        if not unconverged.any():
            break
        if np.count_nonzero(unconverged) < _FEWER * len(active):
            x[:, active] = iterate
            on = np.flatnonzero(unconverged)
            active, before, unconverged = active[on], before[on], unconverged[on]
            iterate, linear, sources = (np.take(rows, on, axis=1) for rows in (iterate, linear, sources))
            numbers = numbers[on] if len(numbers) > 1 else numbers
    x[:, active] = iterate
    return np.ascontiguousarray(x.T), active[unconverged]
