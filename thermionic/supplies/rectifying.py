"""What a rectifier has to stand at a moment: reverse voltage, peak, heating and mean current."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.blocks.facets import Rectified
from thermionic.circuit.supply_state import CircuitState, MainsState

_SAMPLES = 1024


@dataclass(frozen=True)
class Rectifying:
    """One rectifier at a moment: the highest reverse voltage on an arm, V; the peak in an arm, the output's heating
    (rms) and its mean current, A."""

    reverse_volt: float
    peak_ampere: float
    rms_ampere: float
    mean_ampere: float


def rectifying(state: CircuitState, use: Rectified) -> Rectifying:
    """What a rectifier stands in a solved circuit. Raises KeyError where it is not in it.

    Between the half cycles the arms of a bridge that do not conduct divide the voltage between them as their leakage
    does; each is taken to have all of it.
    """
    mains = state.mains
    if mains is None:
        raise KeyError(use.block)
    arms = [state.of(name) for name in use.parts]
    total = np.sum([arm.currents.sum(axis=0) for arm in arms], axis=0)
    return Rectifying(
        _reverse(mains, use),
        max(arm.peak_ampere for arm in arms),
        float(np.sqrt(np.mean(total**2))),
        # A doubler's arms carry the same current one after the other.
        sum(arm.mean_ampere for arm in arms) / len(arms),
    )


def _reverse(mains: MainsState, use: Rectified) -> float:
    def wave(node: str) -> np.ndarray:
        return mains.node_waveform(node, _SAMPLES)

    if use.arms:
        return max(float(np.max(wave(plus) - wave(before))) for before, plus, _ in use.arms)
    output, emf = wave(use.plus) - wave(use.minus), wave(use.emf)
    if use.form == "bridge":
        return float(max(np.max(output), np.max(emf)))
    return float(np.max(output + emf))
