"""A netlist's ``.supply`` and ``.startup``: sine sources are the mains, rectifiers are followed over the cycle."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from thermionic.circuit.netlist import Netlist, Part
from thermionic.circuit.startup import start_up
from thermionic.circuit.supply import solve_circuit
from thermionic.circuit.supply_state import CircuitState
from thermionic.devices import BehaviouralCharge, BehaviouralCurrent, JunctionCharge, MainsSource, Sine, VoltageSource
from thermionic.errors import NetlistRefused

# How far the mean of a part's current over the mains cycle may be from its current at the mean voltages, of the
# greatest there: a fiftieth is within what .supply is held to beside a transient. And A that are none.
_STRAIGHT, _NO_CURRENT = 0.02, 1e-9


def _on_mains(netlist: Netlist, named: Sequence[str]) -> Netlist:
    """The netlist with sine sources of a name, or all that there are, as the mains."""
    wanted = {name.lower() for name in named}
    out = netlist
    for part in netlist.parts:
        device = part.device
        if not isinstance(device, VoltageSource) or (wanted and part.name.lower() not in wanted):
            continue
        if not isinstance(device.wave, Sine):
            if wanted:
                raise NetlistRefused(f"{part.name} is to be the mains, which is a source V with SIN.")
            continue
        wave = device.wave
        if wave.offset or wave.damping or wave.delay or wave.phase:
            raise NetlistRefused(f"{part.name} is to be the mains: SIN(0 peak frequency) and nothing more.")
        out = out.with_device(part.name, MainsSource(wave.amplitude, wave.hertz))
        wanted.discard(part.name.lower())
    if wanted:
        raise NetlistRefused(f"there is no source {', '.join(sorted(wanted))} to be the mains.")
    if out is netlist:
        raise NetlistRefused("there is no source V with SIN to be the mains.")
    return replace(out, parts=tuple(map(_as_rectifier, out.parts)))


def _as_rectifier(part: Part) -> Part:
    """A law of the voltage across it as what it may be, a rectifier; any other part as it is."""
    result = part.device.across_itself(part.nodes) if isinstance(part.device, BehaviouralCurrent) else None
    return part if result is None else replace(part, device=result[0], nodes=result[1])


def _held_to_account(state: CircuitState) -> None:
    """Raise NetlistRefused where a part that was taken as straight around its mean is not so over the mains cycle:
    its mean current with the voltages that were found is another than the one they were found with."""
    assert state.mains is not None
    for part in state.netlist.parts:
        device, terminals = part.device, len(part.device.terminals)
        if device.rectifies or not device.ports or isinstance(device, (BehaviouralCharge, JunctionCharge)):
            continue  # a charge has no mean current
        if any(max(pair) >= terminals for pair in device.ports):
            continue
        waves = np.stack([state.mains.node_waveform(node) for node in part.nodes], axis=-1)
        sensed = np.stack([waves[:, plus] - waves[:, minus] for plus, minus in device.ports], axis=-1)
        over_cycle, _ = device.currents(sensed)
        at_mean, _ = device.currents(sensed.mean(axis=0))
        off = np.abs(over_cycle.mean(axis=0) - at_mean)
        if np.any(off > _STRAIGHT * np.abs(over_cycle).max(axis=0) + _NO_CURRENT):
            raise NetlistRefused(
                f"{part.name} does not act as a straight line over the mains cycle, and is no rectifier that .supply "
                "follows: a diode, or a current by the voltage across itself. Run it as a .tran."
            )


def supply(netlist: Netlist, named: Sequence[str]) -> dict[str, Any]:
    """``.supply``: the steady state over the mains cycle."""
    state = solve_circuit(_on_mains(netlist, named))
    if state.mains is not None:
        _held_to_account(state)
    else:
        raise NetlistRefused("A .supply wants a rectifier on the mains: a diode, or a tube's law as one.")
    nodes = [node for node in state.at.system.nodes if "__" not in node]
    waves = {node: state.mains.node_waveform(node) for node in nodes}
    return {
        "frequency": state.mains.hertz,
        "nodes": {
            node: {"mean": float(np.mean(wave)), "least": float(np.min(wave)), "most": float(np.max(wave)),
                   "ripple": float(np.ptp(wave)), "rms": float(np.sqrt(np.mean(wave**2)))}
            for node, wave in waves.items()
        },
    }  # fmt: skip


def startup(netlist: Netlist, until: float, off: float | None, named: Sequence[str]) -> dict[str, Any]:
    """``.startup``: every node's mean from switch-on."""
    run_ = start_up(_on_mains(netlist, named), until, off)
    nodes = [node for node in run_.system.nodes if "__" not in node]
    return {"time": run_.seconds.tolist(), "nodes": {node: run_.voltage(node).tolist() for node in nodes}}
