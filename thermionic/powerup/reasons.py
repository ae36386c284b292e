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

_SHOWN = 0.02  # the least share that is shown
_LOOK = "Check the readings and where the probe was; then look for two faults at once."
# A reading past ten standard deviations counts no more than that: one slip of the probe must not outvote the rest.
_WORST = 10.0
# How often what is wrong is no single simple fault, a guess: two at once, a slip in the wiring, a probe misplaced.
_OTHER = 0.25
NONE = "none"  # the key of the reason that stands for those
# One fault must explain the readings this much better than none, in squared deviations, to be worth naming.
_WORTH = 3.0
# A part that strays moves several readings at once, so n of them say no more than about n / 2 that were independent:
# chosen so that of what is called 99 % nine in ten are right (docs/accuracy.md).
_ALIKE = 2.0


@dataclass(frozen=True)
class Reason:
    """A fault with how well it explains the readings.

    ``likelihood`` is its share among all the reasons considered, 0 to 1; None where it explains fewer than half of
    the readings, and a share would say too much. ``explained`` of ``judged`` readings agree
    with the circuit that has this fault; ``readings`` are that circuit's, V, by test point.
    """

    key: str
    title: str
    look: str
    likelihood: float | None
    explained: int
    judged: int
    readings: dict[str, float]


Signatures = Sequence[Sequence[float] | None]


def signatures(plan: Plan, report: Callable[[float], None] = lambda part: None) -> list[list[float] | None]:
    """What the circuit reads at each point with each of the plan's faults in it, V, in their order; None for one that
    has no solution.

    Solves some 150 circuits, which takes seconds; ``report`` is told the share done, 0 to 1. Raises BudgetSpent.
    """
    result: list[list[float] | None] = []
    every = list(faults(plan))
    for fault in every:
        report(len(result) / len(every))
        try:
            result.append([float(volt) for volt in plan.solve(fault.netlist)])
        except BudgetSpent:
            raise
        except NoSolution:
            result.append(None)
    return result


def reasons(plan: Plan, readings: Mapping[str, float], known: Signatures, most: int = 3) -> list[Reason]:
    """The likeliest reasons for ``readings`` (test point key to V), best first; ``known`` are the plan's signatures.

    Empty if the readings are what a healthy build gives, to within tolerances, or if no single simple fault
    explains them notably better. The last is ``NONE``: that no single simple fault did it. Each hypothesis has the
    likelihood of all readings: a fault's are spread as tolerances and the meter spread them; with none of them each
    reading is as in a healthy build, or anywhere up to the highest voltage there is.
    """
    at = [index for index, point in enumerate(plan.points) if point.key in readings]
    if not at:
        return []
    measured = np.array([readings[plan.points[index].key] for index in at])
    healthy = np.array([point.expected for point in plan.points])
    sigma = np.array([point.sigma for point in plan.points])

    def misfit(values: Array) -> float:
        """Squared deviations of the readings from a circuit's, in standard deviations, over ``_ALIKE``."""
        scale = np.maximum(1.0, np.abs(values) / np.maximum(np.abs(healthy), 1e-9))
        spread = np.hypot(sigma * np.minimum(scale, 3.0), METER * np.abs(values))[at]
        return float(np.sum(np.minimum(np.abs((measured - values[at]) / spread), _WORST) ** 2)) / _ALIKE

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
    common = sum(fault.weight for fault, _ in solved)
    other = _anywhere(plan, measured, at) - 2 * np.log(_OTHER * common)
    lowest = min(refined[0][0], other, base)
    weights = np.exp(-0.5 * (np.array([row[0] for row in refined]) - lowest))
    none = float(np.exp(-0.5 * (other - lowest)))
    whole = weights.sum() + none + np.exp(-0.5 * (base - lowest))
    weights, none = weights / whole, none / whole
    result = []
    for (_, fault, values), weight in zip(refined[:most], weights, strict=False):
        near = np.abs(measured - values[at]) <= 2 * np.hypot(sigma, METER * np.abs(values))[at]
        result.append(
            Reason(
                fault.key,
                fault.title,
                fault.look,
                float(weight) if 2 * int(near.sum()) >= len(at) else None,
                int(near.sum()),
                len(at),
                {point.key: float(value) for point, value in zip(plan.points, values, strict=True)},
            )
        )
    result = [reason for reason in result if reason.likelihood is None or reason.likelihood >= _SHOWN]
    return [*result, Reason(NONE, "None of these alone", _LOOK, none, 0, len(at), {})]


def _anywhere(plan: Plan, measured: Array, at: list[int]) -> float:
    """Twice the negative log likelihood of the readings where no simple fault is known: each is as in a healthy
    build, or evenly anywhere up to a third over the highest that is expected, as likely; up to the constant of
    ``misfit``."""
    points = [plan.points[index] for index in at]
    total = 0.0
    for point, reading in zip(points, measured, strict=True):
        alike = [abs(other.expected) for other in plan.points if other.ac == point.ac]
        width = 1.3 * max(*alike, abs(reading), 1.0)
        healthy = np.exp(-0.5 * min(abs(reading - point.expected) / point.sigma, 30.0) ** 2)
        evenly = point.sigma * np.sqrt(2 * np.pi) / width
        total -= 2 * np.log(0.5 * healthy + 0.5 * evenly)
    return float(total) / _ALIKE


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
    result = minimize_scalar(
        cost, bounds=(centre - 0.2, centre + 0.2), method="bounded", options={"maxiter": 10, "xatol": 0.01}
    )
    closer = wrong_value(plan, fault.resistor, 10.0 ** float(result.x), fault.weight)
    closer_score = float(result.fun) - 2 * np.log(fault.weight)
    if closer_score >= score:
        return row
    return closer_score, closer, plan.solve(closer.netlist)
