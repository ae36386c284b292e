"""What every heater has at a moment, its own resistance going with its heat."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from thermionic.amplifier import Compiled, SolvedAmplifier
from thermionic.blocks.facets import HeaterFeed, HeaterUse
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.supply import solve_circuit
from thermionic.circuit.supply_state import CircuitState
from thermionic.devices import Resistor

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
    from scipy.optimize import brentq  # takes a while to import, which nothing before the first page needs

    if high <= low or function(high) <= 0:
        return high
    if function(low) >= 0:
        return low
    return float(brentq(function, low, high, xtol=1e-9, rtol=1e-10))


def held(compiled: Compiled) -> dict[str, str]:
    """The node that holds the heater of each envelope that a supply of the design feeds."""
    feeds = {feed.block: feed.held for feed in compiled.said(HeaterFeed)}
    return {use.envelope: feeds[use.block] for use in compiled.said(HeaterUse)}


def others_when_pulled(amplifier: SolvedAmplifier, use: HeaterUse) -> float | None:
    """How far the furthest of the other heaters of its string is from its volts, as a share, with one bottle pulled;
    None where the rest of its chain goes out with it, or nothing else is on the string. Raises NoSolution."""
    compiled = amplifier.compiled
    string = [heater_use for heater_use in compiled.said(HeaterUse) if heater_use.block == use.block]
    if any(one.chain == use.chain and one is not use for one in string):
        return None
    part = amplifier.netlist[use.part]
    if use.count > 1:
        ohm = float(part.device.ohm) * use.count / (use.count - 1)  # type: ignore[attr-defined]
        netlist = amplifier.netlist.with_device(use.part, Resistor(ohm))
    elif len(string) > 1:
        netlist = amplifier.netlist.without(lambda one: one.name == use.part)
    else:
        return None
    state = solve_circuit(netlist, amplifier.state)
    feed = next(heater_feed for heater_feed in compiled.said(HeaterFeed) if heater_feed.block == use.block)
    volt = _effective(state, compiled.node(feed.node), bool(feed.winding))
    left = [replace(one, count=one.count - 1) if one is use else one for one in string]
    after = _solved(feed, [one for one in left if one.count > 0], volt)
    return max((one.share for one in after.heated), key=lambda share: abs(share - 1), default=None)


# Between a heater and its cathode: the leakage of usual receiving types when new and the capacitance of a small one.
# Samples differ by ten times either way, so what follows from them is unsure by as much.
LEAK_OHM, LEAK_FARAD = 20e6, 5e-12
# How much of its volts, end to end, a heater's middle is off earth by, and what is left of it by uneven leakage.
_OFF = {"one end": 0.5, "none": 0.5, "centre tap": 0.1, "balance resistors": 0.1, "balance pot": 0.05}


@dataclass(frozen=True)
class HeaterHum:
    """The hum that an AC heater leaves at the load by leakage and capacitance to its cathode, V rms, by tube."""

    part: str
    block: str
    volt: float


def heater_hum(amplifier: SolvedAmplifier) -> tuple[HeaterHum, ...]:
    """What each heater that is fed with AC leaves at the load at the mains frequency, the most first.

    Its leakage current into the cathode's impedance, through the amplifier's own small signal. Unsure by ten times:
    see ``LEAK_OHM``.
    """
    compiled, small = amplifier.compiled, amplifier.small_signal
    hertz = np.array([amplifier.design.brief.mains_hertz])
    admittance = 1 / LEAK_OHM + 2j * np.pi * hertz[0] * LEAK_FARAD
    feeds = {feed.block: feed for feed in compiled.said(HeaterFeed)}
    fed = {use.envelope: use for use in compiled.said(HeaterUse)}
    load = amplifier.state.at.system.node(compiled.node(amplifier.load.node))
    heater_hums = []
    for tube in compiled.tubes:
        use = fed.get(tube.envelope)
        if use is None or not feeds[use.block].winding or tube.type.heater is None or tube.type.heater.filament:
            continue
        off = _OFF[feeds[use.block].reference] * use.volt
        node = compiled.node(tube.cathode)
        if node == GROUND:
            continue
        reach = small.respond(hertz, small.push(node))[0, load, 0]
        heater_hums.append(HeaterHum(tube.part, tube.block, float(abs(reach * admittance) * off)))
    return tuple(sorted(heater_hums, key=lambda one: -one.volt))
