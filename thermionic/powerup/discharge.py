"""How long the HT stays dangerous after switching off."""

from __future__ import annotations

import numpy as np

from thermionic.blocks import SolvedAmplifier
from thermionic.blocks.compiling import RESERVOIR
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.system import System
from thermionic.devices import RectifiedWinding

LONGEST = 3600.0


def discharge_seconds(amplifier: SolvedAmplifier, volt: float = 50.0) -> float | None:
    """Seconds until no HT node is above ``volt``, with the tubes pulled or cold, so that nothing but bleeders draws
    current. None if that takes longer than an hour.

    Backward Euler on C dx/dt + G x = 0 with steps that grow by 2 %: good to about 2 % in time.
    """
    state = amplifier.without_tubes
    netlist = state.netlist.without(lambda part: isinstance(part.device, RectifiedWinding))
    system = System(netlist)
    rails = [system.node(node) for node in (RESERVOIR, *(s.id for s in amplifier.design.supply.sections))]
    x = np.array([0.0 if node == GROUND else state.at.voltage(node) for node in system.nodes])
    x = np.concatenate([x, np.zeros(system.size - len(x))])
    time, step = 0.0, 0.01
    while np.max(x[rails]) > volt:
        if time > LONGEST:
            return None
        x = system.solve(system.C / step + system.G, system.C @ x / step)
        time, step = time + step, step * 1.02
    return time
