"""What flows into every terminal of a circuit that is solved, without arrays: quicker for a single solution."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from thermionic.devices.base import EARTH, Array

if TYPE_CHECKING:
    from thermionic.circuit.system import System


assert EARTH == -1  # the last of the local unknowns, once earth is appended to them


def terminal_currents_of_one(system: System, x: Array) -> dict[str, Array]:
    """The current into each terminal of every part, A, by the part's name, for one vector of unknowns (size,)."""
    injected = system.currents(system.sensed(x))[0].tolist()
    ended = [*x.tolist(), 0.0]  # earth is -1
    result = {}
    for place in system.placed:
        pieces = place.part.device.pieces
        flow: list[Any] = [0.0] * (len(place.unknowns) + 1)  # and EARTH's own, the last
        for (row, column), value in zip(pieces.conductance.at, pieces.conductance.values, strict=True):
            flow[row] += value * ended[place.unknowns[column]]
        for where, steady in pieces.dc:
            flow[where] -= steady
        for (plus, minus), own in zip(pieces.injects, injected[place.injects], strict=True):
            flow[plus] += own
            flow[minus] -= own
        result[place.part.name] = np.array(flow[: len(place.part.nodes)])
    return result
