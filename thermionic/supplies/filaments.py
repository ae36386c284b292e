"""What hum can be balanced out with, the pot of a filament fed with AC and the turns of an output transformer past
its HT: the hum that is left at every setting, and where that is least."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.blocks.fields import FilamentSupply
from thermionic.blocks.ports import block_at
from thermionic.design import changed
from thermionic.devices.tube_laws import ALONG, WEIGHT
from thermionic.supplies.hum import hum_volt

_AROUND = (0.3, 0.4, 0.45, 0.5, 0.55, 0.6, 0.7)
_TURNS = (0.005, 0.02, 0.04, 0.06, 0.09, 0.13, 0.2)


@dataclass(frozen=True)
class Balance:
    """One of them: the path of what is set, the designator of its part, where it stands, the hum at the load there
    and at ``positions``, V rms, and the position that leaves least."""

    path: str
    designator: str
    now: float
    hum_volt: float
    positions: tuple[float, ...]
    volts: tuple[float, ...]
    null: float


def balances(amplifier: SolvedAmplifier) -> tuple[Balance, ...]:
    """Every filament that is fed with AC through a balance pot, solved at several positions. Raises NoSolution."""
    return tuple(
        _balance(amplifier, path, f"{path}/travel", supply.travel, _AROUND)
        for path, supply in amplifier.compiled.components(FilamentSupply)
        if supply.returns == "balance pot" and supply.fed == "AC"
    )


@dataclass(frozen=True)
class Slope:
    """What its own heating volts do to a directly heated tube: its part, those volts, whether they are DC; the bias
    seen from the filament's middle and from its two ends, V; and by how much of it its current is more than that of a
    cathode at the middle's volts throughout. Of AC the ends change places with every half cycle."""

    part: str
    heating_volt: float
    steady: bool
    bias: float
    ends: tuple[float, float]
    more: float


def slopes(amplifier: SolvedAmplifier) -> tuple[Slope, ...]:
    """Every directly heated tube whose filament's supply is in the design.

    The current is the mean over the filament's length, each piece of it a cathode at its own volts: W. G. Dow,
    *Fundamentals of Engineering Electronics* (1937), ch. 4.
    """
    result = []
    for path, supply in amplifier.compiled.components(FilamentSupply):
        for use in amplifier.compiled.tubes_of(block_at(path)):
            heater, device = use.type.heater, amplifier.netlist[use.part].device
            if heater is None or len(device.ports) != 2:
                continue
            peak = heater.volts * (1.0 if supply.fed == "DC" else 2**0.5)
            bias, anode = amplifier.over_cathode(use, "grid"), amplifier.over_cathode(use, "anode")
            along = heater.volts * (ALONG - 0.5)  # AC comes to the same: its mean square is that of as much DC
            pieces, _ = device.currents(np.stack([bias - along, anode - along], axis=-1))
            middle, _ = device.currents(np.array([[bias, anode]]))
            more = float(np.sum(WEIGHT * pieces[:, 1]) / middle[0, 1]) - 1.0
            ends = (bias - peak / 2, bias + peak / 2)
            result.append(Slope(use.part, heater.volts, supply.fed == "DC", bias, ends, more))
    return tuple(result)


def hum_taps(amplifier: SolvedAmplifier) -> tuple[Balance, ...]:
    """Every output transformer through whose turns past the HT something hangs, solved with several. Raises
    NoSolution."""
    result = []
    for use in amplifier.compiled.transformers:
        if use.hum_share and "bucked" not in use.unused:
            result.append(_balance(amplifier, use.path, f"{use.path}/hum_share", use.hum_share, _TURNS))
    return tuple(result)


def _balance(
    amplifier: SolvedAmplifier, path: str, value: str, now: float, positions: tuple[float, ...]
) -> Balance:  # fmt: skip
    """The hum is that of every cause together. This one's share is in proportion to how far it is off, so that its
    square is a parabola near its lowest point, the null."""
    volts = [hum_volt(solve(changed(amplifier.design, value, at), amplifier)) for at in positions]
    lowest = int(np.argmin(volts))
    first = min(max(lowest - 2, 0), len(volts) - 5)
    near = slice(first, first + 5)
    middle = positions[lowest]
    bend, slope, _ = np.polyfit(np.array(positions[near]) - middle, np.square(volts[near]), 2)
    null = middle - slope / (2 * bend) if bend > 0 else middle
    return Balance(path, amplifier.compiled.designator(path), now, hum_volt(amplifier), positions, tuple(volts),
                   float(np.clip(null, 0.0, 1.0)))  # fmt: skip
