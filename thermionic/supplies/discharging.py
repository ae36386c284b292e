"""How long capacitors stay dangerous after switching off."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, replace

import numpy as np

from thermionic.amplifier import Compiled
from thermionic.amplifier.solved import is_pulled
from thermionic.blocks.facets import Rectified
from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.circuit.supply_state import CircuitState
from thermionic.circuit.system import System
from thermionic.circuit.transient import Accuracy, Transient, transient
from thermionic.design import Capacitor, Resistor
from thermionic.devices import Capacitor as CapacitorDevice
from thermionic.devices import MainsSource, Thevenin, VoltageSource
from thermionic.devices import Resistor as ResistorDevice
from thermionic.devices.base import Device
from thermionic.errors import NoSolution

LONGEST = 3600.0
# What may be left, V: the usual limit of extra-low voltage for DC at which a circuit counts as discharged is 60 V
# (IEC 61140); this is below it.
HARMLESS = 50.0


# Of each step, a part of the largest voltage, and volts.
_ACCURACY = Accuracy(relative=1e-4, volt=1e-3, other=1e-6)


@dataclass(frozen=True)
class Discharge:
    """One capacitor after switching off: its path and designator, the volts that it begins with, and the seconds
    until it holds no more than ``HARMLESS``; None if that takes longer than an hour, or where ``unsolved`` says why
    it is not known: it is then to be taken for charged."""

    path: str
    designator: str
    volt: float
    second: float | None
    unsolved: str = ""


def discharge(
    compiled: Compiled, state: CircuitState, *, opened: Collection[str] = (), volt: float = HARMLESS
) -> tuple[Discharge, ...]:
    """Every capacitor that holds more than ``volt``, from a solved ``state`` of the circuit, at the worst: see
    ``switched_off``. What conducts while they empty, a regulator or a transistor behind the reservoir, is solved in
    time with them, to a ten thousandth of the highest voltage a step."""
    off = switched_off(compiled, state, opened)
    charged = [
        (path, name, abs(off[name].device.start_volt or 0.0))  # type: ignore[attr-defined]
        for path, _ in compiled.components(Capacitor)
        for name in compiled.designators(path)
        if name in off
    ]
    charged = [one for one in charged if one[2] > volt]
    if not charged:
        return ()
    try:
        run = transient(System(off), LONGEST, at_rest=True, accuracy=_ACCURACY)
    except NoSolution as reason:
        return tuple(Discharge(path, name, begins, None, str(reason)) for path, name, begins in charged)
    return tuple(Discharge(path, name, begins, _below(run, off[name].nodes, volt)) for path, name, begins in charged)


def switched_off(compiled: Compiled, state: CircuitState, opened: Collection[str] = ()) -> Netlist:
    """The circuit the moment that it is switched off, each capacitor with its charge from a solved ``state``: each
    capacitor and resistor at the top of its tolerance, the parts whose designators are ``opened`` taken out, the
    tubes pulled or cold, and all sources dead or gone. Rectifiers block and are taken out."""
    rectifying = {part for use in compiled.said(Rectified) for part in use.parts}

    def stays(part: Part) -> bool:
        dead = part.name in rectifying or (part.device.rectifies and not part.path)
        gone = isinstance(part.device, MainsSource | Thevenin)
        return not (dead or gone or part.name in opened or is_pulled(part))

    def across(part: Part) -> float:
        a, b = (
            0.0 if node == GROUND or node not in state.at.system.nodes else state.at.voltage(node)
            for node in part.nodes[:2]
        )
        return a - b

    stated: tuple[tuple[str, Capacitor | Resistor], ...] = (
        *compiled.components(Capacitor),
        *compiled.components(Resistor),
    )
    tolerance = {name: part.tolerance for path, part in stated for name in compiled.designators(path)}

    def at_worst(part: Part) -> Device:
        device, top = part.device, 1 + tolerance.get(part.name, 0.0)
        if isinstance(device, CapacitorDevice):
            return CapacitorDevice(device.farad * top, across(part))
        if isinstance(device, ResistorDevice):
            return ResistorDevice(device.ohm * top)
        if isinstance(device, VoltageSource):
            return VoltageSource(0.0)
        return device

    still = compiled.netlist.without(lambda part: not stays(part))
    return replace(still, parts=tuple(replace(part, device=at_worst(part)) for part in still.parts))


def _below(run: Transient, nodes: tuple[str, ...], volt: float) -> float | None:
    """When the voltage between two nodes is below ``volt`` for good, s; None if it is not by the end."""
    size = np.abs(run.voltage(nodes[0]) - run.voltage(nodes[1]))
    above = np.flatnonzero(size > volt)
    if not len(above):
        return 0.0
    last = int(above[-1])
    if last + 1 == len(size):
        return None
    part = (size[last] - volt) / (size[last] - size[last + 1])
    return float(run.seconds[last] + part * (run.seconds[last + 1] - run.seconds[last]))
