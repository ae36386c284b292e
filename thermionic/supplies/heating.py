"""What every heater has at a moment, its own resistance going with its heat."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from scipy.optimize import brentq

from thermionic.amplifier import Compiled
from thermionic.blocks.facets import HeaterFeed, HeaterUse
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.supply_state import CircuitState

# A heater radiates as T^4 and resists as T^1.2 (Jones and Langmuir, see devices.Lamp), so its current goes as this
# power of its voltage. Cold it has about a seventh of its hot resistance: (293 K / 1450 K)^1.2.
CURRENT_POWER = 1.0 - 2.4 / 5.2
COLD = (293.0 / 1450.0) ** 1.2


@dataclass(frozen=True)
class Heated:
    """One heater at work: who it is, its volts and amperes, and what it is made for."""

    use: HeaterUse
    volt: float
    ampere: float

    @property
    def share(self) -> float:
        """Its volts over those that it is made for."""
        return self.volt / self.use.volt


@dataclass(frozen=True)
class StringState:
    """One string: its feed, the volts at its source (rms, or DC), its current and every heater in it; the heat in its
    dropping resistor, W."""

    feed: HeaterFeed
    volt: float
    ampere: float
    heated: tuple[Heated, ...]
    dropping_watt: float


def heating(compiled: Compiled, state: CircuitState) -> tuple[StringState, ...]:
    """Every heater string of a solved circuit.

    The voltage at the string's source is the circuit's, where a heater has its rated resistance; behind it the string
    is solved with each heater's own law.
    """
    strings = []
    for feed in compiled.said(HeaterFeed):
        uses = [use for use in compiled.said(HeaterUse) if use.block == feed.block]
        volt = _effective(state, compiled.node(feed.node), bool(feed.winding))
        strings.append(_solved(feed, uses, volt))
    return tuple(strings)


def _effective(state: CircuitState, node: str, ac: bool) -> float:
    if not ac or state.mains is None:
        return 0.0 if node == GROUND else state.at.voltage(node)
    return float(np.sqrt(np.mean(state.mains.node_waveform(node) ** 2)))


def _solved(feed: HeaterFeed, uses: list[HeaterUse], volt: float) -> StringState:
    chains: dict[int, list[HeaterUse]] = defaultdict(list)
    for use in uses:
        chains[use.chain].append(use)

    def current(use: HeaterUse, at: float) -> float:
        """Through a bottle's heater and what shunts it, A, with ``at`` volts across it."""
        return float(use.ampere * (at / use.volt) ** CURRENT_POWER + (at / use.shunt_ohm if use.shunt_ohm else 0.0))

    def across(use: HeaterUse, ampere: float) -> float:
        return _root(lambda at: current(use, at) - ampere, 0.0, 100.0 * use.volt)

    def through(chain: list[HeaterUse], at: float) -> float:
        """The current of a chain with ``at`` volts across it, A."""
        if len(chain) == 1:
            return current(chain[0], at)
        most = max(current(use, at) for use in chain)
        return _root(lambda ampere: sum(across(use, ampere) for use in chain) - at, 0.0, most)

    count = {place: min(use.count for use in chain) for place, chain in chains.items()}

    def left(at: float) -> float:
        drawn = sum(count[place] * through(chain, at) for place, chain in chains.items())
        return volt - drawn * feed.dropping_ohm - at

    at = _root(lambda at: -left(at), 0.0, abs(volt)) if feed.dropping_ohm else abs(volt)
    heated, total = [], 0.0
    for place, chain in sorted(chains.items()):
        ampere = through(chain, at)
        total += count[place] * ampere
        for use in chain:
            own = at if len(chain) == 1 else across(use, ampere)
            heated.append(Heated(use, own, use.ampere * (own / use.volt) ** CURRENT_POWER))
    return StringState(feed, abs(volt), total, tuple(heated), total**2 * feed.dropping_ohm)


def _root(function: Callable[[float], float], low: float, high: float) -> float:
    """Where a rising function is nothing."""
    if high <= low or function(high) <= 0:
        return high
    if function(low) >= 0:
        return low
    return float(brentq(function, low, high, xtol=1e-9, rtol=1e-10))
