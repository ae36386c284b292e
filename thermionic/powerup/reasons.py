"""The likeliest simple reasons for a set of readings, found by solving the circuit with each fault in it."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from thermionic.devices import Resistor
from thermionic.devices.base import Array
from thermionic.errors import BudgetSpent, NoSolution
from thermionic.powerup.faults import Fault, faults, wrong_value
from thermionic.powerup.plan import METER, Plan

# A reading past ten standard deviations counts no more than that: one slip of the probe must not outvote the rest.
_WORST = 10.0
# One fault must explain the readings this much better than none, in squared deviations, to be worth naming.
_WORTH = 6.0


@dataclass(frozen=True)
class Reason:
    """A fault with how well it explains the readings.

    ``likelihood`` is its share among all the reasons considered, 0 to 1. ``explained`` of ``judged`` readings agree
    with the circuit that has this fault; ``readings`` are that circuit's, V, by test point.
    """

    key: str
    title: str
    look: str
    likelihood: float
    explained: int
    judged: int
    readings: dict[str, float]


Signatures = Sequence[Sequence[float] | None]


def signatures(plan: Plan, report: Callable[[float], None] = lambda part: None) -> list[list[float] | None]:
    """What the circuit reads at each point with each of the plan's faults in it, V, in their order; None for one that
    has no solution.

    Solves some 150 circuits, which takes seconds; ``report`` is told the share done, 0 to 1. Raises BudgetSpent.
    """
    found: list[list[float] | None] = []
    every = list(faults(plan))
    for fault in every:
        report(len(found) / len(every))
        try:
            found.append([float(volt) for volt in plan.solve(fault.netlist)])
        except BudgetSpent:
            raise
        except NoSolution:
            found.append(None)
    return found


def reasons(plan: Plan, readings: Mapping[str, float], known: Signatures, most: int = 3) -> list[Reason]:
    """The likeliest reasons for ``readings`` (test point key to V), best first; ``known`` are the plan's signatures.

    Empty if the readings are what a healthy build gives, to within tolerances, or if no single simple fault
    explains them notably better.
    """
    at = [index for index, point in enumerate(plan.points) if point.key in readings]
    if not at:
        return []
    measured = np.array([readings[plan.points[index].key] for index in at])
    healthy = np.array([point.expected for point in plan.points])
    sigma = np.array([point.sigma for point in plan.points])

    def misfit(values: Array) -> float:
        """Squared deviations of the readings from a circuit's, in standard deviations."""
        scale = np.maximum(1.0, np.abs(values) / np.maximum(np.abs(healthy), 1e-9))
        spread = np.hypot(sigma * np.minimum(scale, 3.0), METER * np.abs(values))[at]
        return float(np.sum(np.minimum(np.abs((measured - values[at]) / spread), _WORST) ** 2))

    base = misfit(healthy)
    solved = [(fault, np.array(read)) for fault, read in zip(faults(plan), known, strict=True) if read is not None]
    ranked = [(misfit(values) - 2 * np.log(fault.weight), fault, values) for fault, values in solved]
    ranked = [row for row in ranked if row[0] < base - _WORTH]
    if not ranked:
        return []
    ranked.sort(key=lambda row: row[0])
    best: dict[str, tuple[float, Fault, Array]] = {}
    for score, fault, values in ranked:
        best.setdefault(fault.resistor or fault.key, (score, fault, values))
    refined = [_refine(plan, row, misfit) for row in list(best.values())[: most + 2]]
    refined.sort(key=lambda row: row[0])
    weights = np.exp(-0.5 * (np.array([row[0] for row in refined]) - refined[0][0]))
    none = np.exp(-0.5 * (base - refined[0][0]))
    weights = weights / (weights.sum() + none)
    result = []
    for (_, fault, values), weight in zip(refined[:most], weights, strict=False):
        if weight < 0.02:
            continue
        near = np.abs(measured - values[at]) <= 2 * np.hypot(sigma, METER * np.abs(values))[at]
        result.append(
            Reason(
                fault.key,
                fault.title,
                fault.look,
                float(weight),
                int(near.sum()),
                len(at),
                {point.key: float(value) for point, value in zip(plan.points, values, strict=True)},
            )
        )
    return result


def _refine(
    plan: Plan, row: tuple[float, Fault, Array], misfit: Callable[[Array], float]
) -> tuple[float, Fault, Array]:
    """A wrong resistor's value moved to where it explains the readings best."""
    score, fault, _ = row
    if not fault.resistor:
        return row
    device = fault.netlist[fault.resistor].device
    assert isinstance(device, Resistor)
    if abs(np.log10(device.ohm / plan.netlist[fault.resistor].device.ohm)) > 1.5:  # type: ignore[attr-defined]
        return row

    def cost(decade: float) -> float:
        try:
            circuit = plan.netlist.with_device(fault.resistor, Resistor(10.0**decade))
            return float(misfit(plan.solve(circuit)))
        except BudgetSpent:
            raise
        except NoSolution:
            return 1e9

    from scipy.optimize import minimize_scalar  # takes half a second to import, and is seldom needed

    centre = float(np.log10(device.ohm))
    found = minimize_scalar(
        cost, bounds=(centre - 0.2, centre + 0.2), method="bounded", options={"maxiter": 10, "xatol": 0.01}
    )
    closer = wrong_value(plan, fault.resistor, 10.0 ** float(found.x), fault.weight)
    closer_score = float(found.fun) - 2 * np.log(fault.weight)
    if closer_score >= score:
        return row
    return closer_score, closer, plan.solve(closer.netlist)
