"""How far a bias trimmer reaches, against tubes that stray and mains that wanders."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import BiasTrim, TubeUse
from thermionic.circuit.supply import solve_circuit
from thermionic.circuit.supply_state import CircuitState
from thermionic.devices.scatter import TubeSpread, scattered
from thermionic.supplies.moments import house_volts

# How far the tubes that have to be served are from the typical one, in standard deviations: 19 of 20 are inside.
_DEVIATIONS = 2.0


@dataclass(frozen=True)
class Need:
    """One tube and mains to be served: in words, the mains, V rms; a tube's current and grid voltage with the trimmer
    at its least and its most negative bias, A and V; and the position that brings today's current back, None where
    there is none."""

    words: str
    mains_volt: float
    amperes: tuple[float, float]
    volts: tuple[float, float]
    travel: float | None


@dataclass(frozen=True)
class Reach:
    """One trimmer: its block, designator and path, where it stands, the current of each of its tubes there, A, and
    what it is asked to serve."""

    block: str
    part: str
    path: str
    travel: float
    ampere: float
    needs: tuple[Need, ...]


def reaches(amplifier: SolvedAmplifier) -> tuple[Reach, ...]:
    """Every bias trimmer with tubes behind it, solved with the typical tube, and with those two standard deviations
    of production strong and weak on the mains that makes it worse. Raises NoSolution.

    A strong section has the emission of that deviation, and the mu that is likeliest with it (see TubeSpread).
    """
    low, usual, high = house_volts(amplifier.design)
    result = []
    for trim in amplifier.compiled.said(BiasTrim):
        tubes = [use for use in amplifier.compiled.tubes if use.knob == f"{trim.path}/travel"]
        if not tubes:
            continue
        aim = _ampere(amplifier.state, tubes)
        needs = tuple(
            _need(amplifier, trim, tubes, aim, words, deviations, volt)
            for words, deviations, volt in (
                ("The tube as published", 0.0, usual),
                ("A strong tube, the highest mains", _DEVIATIONS, high),
                ("A weak tube, the lowest mains", -_DEVIATIONS, low),
            )
        )
        travel = float(amplifier.netlist[trim.part].device.travel)  # type: ignore[attr-defined]
        result.append(Reach(trim.block, trim.part, trim.path, travel, aim, needs))
    return tuple(result)


def _ampere(state: CircuitState, tubes: list[TubeUse]) -> float:
    """The anode current of one of the tubes, A."""
    return float(np.mean([state.at.terminal_currents[use.part][0] for use in tubes]))


def _need(
    amplifier: SolvedAmplifier,
    trim: BiasTrim,
    tubes: list[TubeUse],
    aim: float,
    words: str,
    deviations: float,
    volt: float,
) -> Need:
    from scipy.optimize import brentq  # takes a while to import, which nothing before the first page needs

    factors = TubeSpread().factors(deviations, 0.0)
    there = amplifier.on_mains(volt)
    netlist = there.netlist
    for use in tubes:
        netlist = netlist.with_device(use.part, scattered(netlist[use.part].device, factors))
    pot = netlist[trim.part].device

    def at(travel: float) -> CircuitState:
        return solve_circuit(netlist.with_device(trim.part, replace(pot, travel=travel)), there.state)  # type: ignore[type-var]

    ends = (at(0.0), at(1.0))
    most, least = (_ampere(state, tubes) for state in ends)
    volts = tuple(
        float(np.mean([state.at.voltage(use.grid) - state.at.voltage(use.cathode) for use in tubes]))
        for state in ends
    )
    travel = None
    if least <= aim <= most:
        travel = float(brentq(lambda one: _ampere(at(one), tubes) - aim, 0.0, 1.0, xtol=2e-3))
    return Need(words, volt, (most, least), (volts[0], volts[1]), travel)
