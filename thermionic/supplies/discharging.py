"""How long capacitors stay dangerous after switching off."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, replace

import numpy as np

from thermionic.amplifier import Compiled
from thermionic.amplifier.solved import is_pulled
from thermionic.circuit.netlist import GROUND, Part
from thermionic.circuit.supply_state import CircuitState
from thermionic.circuit.system import System
from thermionic.design import Capacitor, Resistor
from thermionic.devices import MainsSource

LONGEST = 3600.0
# What may be left, V: the usual limit of extra-low voltage for DC at which a circuit counts as discharged is 60 V
# (IEC 61140); this is below it.
HARMLESS = 50.0


@dataclass(frozen=True)
class Discharge:
    """One capacitor after switching off: its path and designator, the volts that it begins with, and the seconds
    until it holds no more than ``HARMLESS``; None if that takes longer than an hour."""

    path: str
    designator: str
    volt: float
    second: float | None


def discharge(
    compiled: Compiled, state: CircuitState, *, opened: Collection[str] = (), volt: float = HARMLESS
) -> tuple[Discharge, ...]:
    """Every capacitor that holds more than ``volt``, from a solved ``state`` of the circuit, at the worst: each
    capacitor and resistor at the top of its tolerance, the parts whose designators are ``opened`` taken out, and the
    tubes pulled or cold, so that nothing but bleeders draws current.

    Backward Euler on C dx/dt + G x = 0 with steps that grow by 2 %: good to about 2 % in time.
    """
    tolerances: tuple[tuple[str, Capacitor | Resistor], ...] = (
        *compiled.components(Capacitor),
        *compiled.components(Resistor),
    )
    top = {name: 1 + part.tolerance for path, part in tolerances for name in compiled.designators(path)}

    def stays(part: Part) -> bool:
        dead = part.device.rectifies or isinstance(part.device, MainsSource)
        return not (dead or part.name in opened or is_pulled(part))

    still = compiled.netlist.without(lambda part: not stays(part))
    for part in still.parts:
        if part.name in top:
            changed = {name: getattr(part.device, name) * top[part.name] for name in ("ohm", "farad")
                       if hasattr(part.device, name)}  # fmt: skip
            still = still.with_device(part.name, replace(part.device, **changed))  # type: ignore[type-var]
    system = System(still)

    def at(node: str) -> float:
        return 0.0 if node == GROUND or node not in state.at.system.nodes else state.at.voltage(node)

    watched = [
        (path, name, tuple(system.node(node) if node != GROUND else -1 for node in still[name].nodes))
        for path, _ in compiled.components(Capacitor)
        for name in compiled.designators(path)
        if name in still
    ]
    x = np.zeros(system.size)
    x[: len(system.nodes)] = [at(node) for node in system.nodes]

    def across(x: np.ndarray, nodes: tuple[int, ...]) -> float:
        a, b = (x[node] if node >= 0 else 0.0 for node in nodes)
        return abs(float(a - b))

    first = {name: across(x, nodes) for _, name, nodes in watched}
    slopes = np.zeros((system.B.shape[1], system.ports))
    conductance = system.jacobian(slopes) if system.ports else system.G
    seconds = dict.fromkeys((name for _, name, nodes in watched if first[name] > volt), None)
    time, step = 0.0, 0.01
    while time <= LONGEST and any(second is None for second in seconds.values()):
        x = system.solve(system.C / step + conductance, system.C @ x / step)
        time, step = time + step, step * 1.02
        for _, name, nodes in watched:
            if seconds.get(name, 0.0) is None and across(x, nodes) <= volt:
                seconds[name] = time
            elif name in seconds and seconds[name] is not None and across(x, nodes) > volt:
                seconds[name] = None  # it is charged by another
    return tuple(Discharge(path, name, first[name], seconds[name]) for path, name, _ in watched if name in seconds)
