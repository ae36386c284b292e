"""The moments at which a supply is looked at, each of them solved."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.circuit.supply_state import CircuitState
from thermionic.design import Design
from thermionic.devices.base import Array

# How far the public mains may go from what is usual in a house where nobody has read it: EN 50160 (2010), 4.2.2.
SPREAD = 0.1


def house_volts(design: Design) -> tuple[float, float, float]:
    """The mains at its lowest, as it usually is, and at its highest, V rms: as read, else a tenth either way."""
    brief = design.brief
    low = brief.mains_low_volt if brief.mains_low_volt is not None else (1 - SPREAD) * brief.mains_volt
    high = brief.mains_high_volt if brief.mains_high_volt is not None else (1 + SPREAD) * brief.mains_volt
    return low, brief.mains_volt, high


@dataclass(frozen=True, eq=False)
class Moment:
    """The circuit at one moment: the mains, V rms, when that is, in words, and the state that was solved."""

    mains_volt: float
    when: str
    state: CircuitState

    @property
    def words(self) -> str:
        """As it is said in a finding."""
        return f"at {self.mains_volt:.0f} V mains, {self.when}"

    def wave(self, node: str) -> Array:
        """A node's voltage over the mains cycle, V, (samples,); one sample without the mains."""
        mains = self.state.mains
        return np.array([self.state.at.voltage(node)]) if mains is None else mains.node_waveform(node)

    def highest(self, node: str) -> float:
        """A node's highest voltage over the mains cycle, V."""
        return float(np.max(self.wave(node)))

    def lowest(self, node: str) -> float:
        """A node's lowest voltage over the mains cycle, V."""
        return float(np.min(self.wave(node)))


def at_work(amplifier: SolvedAmplifier, volt: float) -> Moment:
    """With everything warm. Raises NoSolution."""
    return Moment(volt, "working", amplifier.on_mains(volt).state)


def cold(amplifier: SolvedAmplifier, volt: float) -> Moment:
    """Before the tubes conduct, which is also how it stands with all of them pulled. Raises NoSolution."""
    return Moment(volt, "tubes cold or pulled", amplifier.on_mains(volt).without_tubes)


def moments(amplifier: SolvedAmplifier) -> tuple[Moment, ...]:
    """Working on the lowest, usual and highest mains, and cold on the highest."""
    low, usual, high = house_volts(amplifier.design)
    return (
        at_work(amplifier, low),
        at_work(amplifier, usual),
        at_work(amplifier, high),
        cold(amplifier, high),
    )
