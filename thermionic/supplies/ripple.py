"""What is left of the ripple, rail by rail, and which part of the supply would take most of it away."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.blocks.fields import Choke
from thermionic.blocks.ports import block_at
from thermionic.design import Capacitor, changed, field
from thermionic.errors import BudgetSpent, ThermionicError
from thermionic.supplies.hum import hum_volt
from thermionic.values import Quantity, display

_HARMONICS = 4


@dataclass(frozen=True)
class RailRipple:
    """One rail: its name, its voltage, its ripple as it is shown, and the first harmonics of that, (Hz, V rms)."""

    name: str
    volt: float
    ripple: str
    harmonics: tuple[tuple[float, float], ...]


@dataclass(frozen=True)
class Bought:
    """A part of the supply made twice as large: its path, what it is then, and by how many dB the hum at the load
    falls; why not, where that could not be solved."""

    path: str
    designator: str
    now: str
    then: str
    db: float | None
    refusal: str = ""


def written_ripple(amplifier: SolvedAmplifier, node: str) -> str:
    """A node's ripple as it is shown, peak to peak; "not known" behind a converter, which adds what it switches."""
    if amplifier.compiled.node(node) in amplifier.switched:
        return "not known"
    return display(amplifier.ripple(node), Quantity.VOLTAGE, 2)


def rail_ripples(amplifier: SolvedAmplifier) -> tuple[RailRipple, ...]:
    """Every rail's ripple by its harmonics."""
    mains, result = amplifier.state.mains, []
    for rail in amplifier.compiled.rails:
        node = amplifier.compiled.node(rail.node)
        lines: tuple[tuple[float, float], ...] = ()
        if mains is not None:
            sizes = np.abs(mains.x[mains.system.node(node)][1:]) / 2**0.5
            # Of a supply with a half-wave rectifier in it every other harmonic is nearly nothing.
            order = np.argsort(-sizes)[:_HARMONICS]
            lines = tuple((float(mains.hertz * (k + 1)), float(sizes[k])) for k in sorted(order))
        result.append(
            RailRipple(rail.name, amplifier.voltage(rail.node), written_ripple(amplifier, rail.node), lines)
        )
    return tuple(result)


def what_buys_most(
    amplifier: SolvedAmplifier, told: Callable[[float], None] = lambda part: None
) -> tuple[Bought, ...]:
    """Each capacitor and choke of the rails doubled by itself and the whole solved again, the most useful first.
    ``told`` hears how far it is, 0 to 1. Raises BudgetSpent."""
    compiled, before = amplifier.compiled, hum_volt(amplifier)
    of_rails = {rail.capacitor for rail in compiled.rails if rail.capacitor}
    parts = [f"{path}/farad" for path, _ in compiled.components(Capacitor) if path in of_rails]
    parts += [f"{path}/henry" for path, _ in compiled.components(Choke) if _feeds_a_rail(amplifier, path)]
    purchases = []
    for place, path in enumerate(parts):
        told(place / len(parts))
        now = field(amplifier.design, path)
        design = changed(amplifier.design, path, 2.0 * now.value)
        then, owner = field(design, path).text, path.rpartition("/")[0]
        name = compiled.designator(owner)
        try:
            after = hum_volt(solve(design, amplifier))
        except BudgetSpent:
            raise
        except ThermionicError as refusal:
            purchases.append(Bought(owner, name, now.text, then, None, str(refusal)))
            continue
        db = 20 * float(np.log10(before / after)) if before > 0 and after > 0 else None
        purchases.append(Bought(owner, name, now.text, then, db))
    return tuple(sorted(purchases, key=lambda one: -(one.db if one.db is not None else -1e9)))


def _feeds_a_rail(amplifier: SolvedAmplifier, path: str) -> bool:
    return any(rail.block == block_at(path) for rail in amplifier.compiled.rails)
