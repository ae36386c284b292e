"""How long the HT stays dangerous after switching off."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from thermionic.amplifier import compile_design
from thermionic.amplifier.solved import is_pulled
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.supply import solve_circuit
from thermionic.circuit.system import System
from thermionic.design import Capacitor, Resistor
from thermionic.devices import MainsSource
from thermionic.powerup.plan import Plan

LONGEST = 3600.0


def discharge_seconds(plan: Plan, volt: float = 50.0) -> float | None:
    """Seconds until no rail is further than ``volt`` from earth, with the tubes pulled or cold, so that nothing but
    bleeders draws current: at the worst, with every capacitor and every resistor at the top of its tolerance. For the
    design and on the mains of ``plan``. None if that takes longer than an hour.

    Backward Euler on C dx/dt + G x = 0 with steps that grow by 2 %: good to about 2 % in time.
    """
    compiled = compile_design(plan.design)
    parts: tuple[tuple[str, Capacitor | Resistor], ...] = (
        *compiled.components(Capacitor),
        *compiled.components(Resistor),
    )
    top = {name: 1 + part.tolerance for path, part in parts for name in compiled.designators(path)}
    netlist = compiled.netlist.without(is_pulled)
    state = solve_circuit(netlist)
    still = netlist.without(lambda part: part.device.rectifies or isinstance(part.device, MainsSource))
    for part in still.parts:
        if part.name in top:
            changed = {name: getattr(part.device, name) * top[part.name] for name in ("ohm", "farad")
                       if hasattr(part.device, name)}  # fmt: skip
            still = still.with_device(part.name, replace(part.device, **changed))  # type: ignore[type-var]
    system = System(still)
    rails = [
        system.node(node)
        for node in dict.fromkeys(compiled.node(rail.node) for rail in compiled.rails)
        if node in system.nodes
    ]
    if not rails:
        return 0.0
    x = np.array([0.0 if node == GROUND else state.at.voltage(node) for node in system.nodes])
    x = np.concatenate([x, np.zeros(system.size - len(x))])
    time, step = 0.0, 0.01
    while np.max(np.abs(x[rails])) > volt:
        if time > LONGEST:
            return None
        x = system.solve(system.C / step + system.G, system.C @ x / step)
        time, step = time + step, step * 1.02
    return time
