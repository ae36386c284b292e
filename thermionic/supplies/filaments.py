"""The balance pot of a filament fed with AC: the hum that it leaves at every position, and where that is least."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.blocks.fields import FilamentSupply
from thermionic.design import changed
from thermionic.supplies.ripple import hum_volt

_AROUND = (0.3, 0.4, 0.45, 0.5, 0.55, 0.6, 0.7)


@dataclass(frozen=True)
class Balance:
    """One filament: the path of its supply, the designator of its pot, where that stands, the hum at the load there
    and at ``positions``, V rms, and the position that leaves least."""

    path: str
    designator: str
    now: float
    hum_volt: float
    positions: tuple[float, ...]
    volts: tuple[float, ...]
    null: float


def balances(amplifier: SolvedAmplifier) -> tuple[Balance, ...]:
    """Every filament that is fed with AC through a balance pot, solved at several positions. Raises NoSolution.

    The hum is that of every cause together. Each one's share is in proportion to how far the pot is off, so that its
    square is a parabola, whose lowest point is the null.
    """
    found = []
    for path, supply in amplifier.compiled.components(FilamentSupply):
        if supply.returns != "balance pot" or supply.fed != "AC":
            continue
        volts = [hum_volt(solve(changed(amplifier.design, f"{path}/travel", at), amplifier)) for at in _AROUND]
        bend, slope, _ = np.polyfit(np.array(_AROUND) - 0.5, np.square(volts), 2)
        null = 0.5 - slope / (2 * bend) if bend > 0 else 0.5
        found.append(
            Balance(path, amplifier.compiled.designator(path), supply.travel, hum_volt(amplifier), _AROUND,
                    tuple(volts), float(np.clip(null, 0.0, 1.0)))
        )  # fmt: skip
    return tuple(found)
