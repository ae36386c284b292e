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
    """What a rectifier stands in a solved circuit. Raises KeyError where it is not in it."""
    mains = state.mains
    if mains is None:
        raise KeyError(use.block)
    arms = [state.of(name) for name in use.parts]
    total = np.sum([arm.currents.sum(axis=0) for arm in arms], axis=0)
    return Rectifying(
        _reverse(state, mains, use),
        max(arm.peak_ampere for arm in arms),
        float(np.sqrt(np.mean(total**2))),
        # A doubler's arms carry the same current one after the other.
        sum(arm.mean_ampere for arm in arms) / len(arms),
    )


def _reverse(state: CircuitState, mains: MainsState, use: Rectified) -> float:
    """While one arm conducts, the others have across them what it fills, and on top of that the other end of the
    winding, or in a bridge the drop of the arm that conducts beside them."""
    top, foot = (mains.node_waveform(node, _SAMPLES) for node in use.fills)
    if use.far:
        return float(np.max(top - foot + mains.node_waveform(use.far, _SAMPLES)))
    anode, cathode = state.netlist[use.parts[0]].nodes[:2]
    drop = mains.node_waveform(anode, _SAMPLES) - mains.node_waveform(cathode, _SAMPLES)
    arms = 2 if use.form == "bridge" else 1
    return float(np.max(top - foot + np.maximum(drop, 0.0) / arms))
