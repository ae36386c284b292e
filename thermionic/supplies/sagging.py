"""How far the supply sags under a burst at full output, and how soon it is back."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from thermionic import budget
from thermionic.amplifier import SolvedAmplifier
from thermionic.circuit.netlist import Netlist
from thermionic.circuit.supply_state import MainsState
from thermionic.circuit.system import System
from thermionic.circuit.transient import transient
from thermionic.devices import Sine
from thermionic.devices.base import Array
from thermionic.devices.thermal import Hot
from thermionic.errors import NetlistRefused

BURST, AFTER = 0.5, 1.5
BACK = 0.1  # of its sag is left of a rail that counts as back
_NOTHING = 1e-3  # of a rail, that is no sag at all
_TONES = 8  # of the tone in a cycle of the mains
_SAMPLES = 40  # of a period of the tone
_PIECE = 0.1  # s, followed between two looks at the budget and the caller


@dataclass(frozen=True, eq=False)
class Sagged:
    """One rail: its mean over each mains cycle, V (cycles,); before the burst, at its end, and how long after that
    all but a tenth of the sag was made up, s (None if not within the run)."""

    name: str
    volts: Array
    before: float
    under: float
    back: float | None


@dataclass(frozen=True, eq=False)
class Sag:
    """A burst of ``hertz`` from 0 to ``length`` s: ``seconds`` (cycles,) the middle of each mains
    cycle, every rail, and the mean power into the load in the first and in the last cycle of the burst, W. It is at
    full output; that of a line stage is at its source's full level, where that is less."""

    hertz: float
    length: float
    seconds: Array
    rails: tuple[Sagged, ...]
    first_watt: float
    last_watt: float


def sag(
    amplifier: SolvedAmplifier,
    told: Callable[[float], None] = lambda part: None,
    length: float = BURST,
    after: float = AFTER,
) -> Sag:
    """Follow a burst of ``length`` s, whole mains cycles, at full output and ``after`` s of what comes after it in
    time, rectifiers, mains and all, from the periodic state that it idles in. Raises NetlistRefused for a design that
    nothing is rectified in, or with a load that has no response in time; NoSolution, BudgetSpent.
    """
    mains = amplifier.state.mains
    if mains is None:
        raise NetlistRefused(f"{amplifier.design.name} has no rectifier, so its supply does not sag.")
    mains_hertz = amplifier.design.brief.mains_hertz
    tone = _TONES * mains_hertz
    name = amplifier.compiled.source.part
    volt = amplifier.full_output.source_volt
    if not amplifier.load.power:
        volt = min(volt, amplifier.compiled.source.volt)
    peak = volt * 2**0.5
    still = _warm(amplifier)
    driven = still.with_device(name, replace(still[name].device, wave=Sine(0.0, peak, tone)))  # type: ignore[type-var]
    nodes = {rail.name: amplifier.compiled.node(rail.node) for rail in amplifier.compiled.rails}
    load = amplifier.compiled.node(amplifier.load.node)
    pieces: list[tuple[Array, dict[str, Array], Array]] = []
    x = _idling(System(driven), mains)
    whole, begun = length + after, 0.0
    for netlist, until, longest in ((driven, length, 1 / tone / _SAMPLES), (still, whole, 0.05 / mains_hertz)):
        while begun < until - 1e-9:
            span = min(_PIECE, until - begun)
            budget.check("following a burst in time")
            # Each piece begins with a mains cycle and a period of the tone.
            run = transient(System(netlist), span, start=x, longest=longest)
            x = run.x[-1]
            pieces.append((begun + run.seconds, {key: run.voltage(node) for key, node in nodes.items()},
                           run.voltage(load)))  # fmt: skip
            begun += span
            told(begun / whole)
    seconds = np.concatenate([piece[0] for piece in pieces])
    cycles = round(whole * mains_hertz)
    middles = np.asarray((np.arange(cycles) + 0.5) / mains_hertz, dtype=float)
    rails = []
    for key, node in nodes.items():
        means = _means(seconds, np.concatenate([piece[1][key] for piece in pieces]), mains_hertz, cycles)
        before = amplifier.state.at.voltage(node)
        rails.append(_sagged(key, middles, means, before, length))
    power = (
        1
        / amplifier.load.ohm
        * _means(seconds, np.concatenate([piece[2] for piece in pieces]) ** 2, mains_hertz, cycles)
    )
    last = round(length * mains_hertz) - 1
    return Sag(tone, length, middles, tuple(rails), float(power[0]), float(power[last]))


def _warm(amplifier: SolvedAmplifier) -> Netlist:
    """The circuit with its rectifiers, and thermistors and lamps as the resistances that they have come to."""
    netlist, solved = amplifier.netlist, amplifier.state.at.system.netlist
    for part in netlist.parts:
        if isinstance(part.device, Hot):
            netlist = netlist.with_device(part.name, solved[part.name].device)
    return netlist


def _idling(system: System, mains: MainsState) -> Array:
    """The unknowns of the whole circuit at the beginning of a mains cycle, as it idles."""
    x = np.zeros(system.size)
    at = mains.x[:, 0].real + mains.x[:, 1:].real.sum(axis=1)
    for place, node in enumerate(system.nodes):
        x[place] = at[mains.system.node(node)]
    for placed in system.placed:
        name = placed.part.name
        for which in range(placed.part.device.branches):
            x[system.branch(name, which)] = at[mains.system.branch(name, which)]
    return x


def _means(seconds: Array, values: Array, hertz: float, cycles: int) -> Array:
    """The mean of each mains cycle, (cycles,)."""
    from scipy.integrate import (
        cumulative_trapezoid,  # takes a while to import, which nothing before the first page needs
    )

    integral = cumulative_trapezoid(values, seconds, initial=0)
    edges = np.interp(np.arange(cycles + 1) / hertz, seconds, integral)
    means: Array = np.diff(edges) * hertz
    return means


def _sagged(name: str, middles: Array, means: Array, before: float, length: float) -> Sagged:
    during = middles < length
    under = float(means[during][-1])
    left = np.abs(means - before) > max(BACK * abs(under - before), _NOTHING * abs(before))
    out = np.flatnonzero(left & ~during)
    back: float | None = 0.0
    if len(out):
        back = None if out[-1] == len(middles) - 1 else float(middles[out[-1] + 1] - length)
    return Sagged(name, means, before, under, back)
