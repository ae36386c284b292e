"""The test points of each step of the first power-up, with expected values and bands, all solved."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, replace

import numpy as np

from thermionic.amplifier import Compiled, compile_design
from thermionic.amplifier.solved import is_pulled
from thermionic.blocks.facets import Winding
from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.circuit.small_signal import SmallSignal
from thermionic.circuit.supply import solve_circuit
from thermionic.circuit.supply_state import CircuitState
from thermionic.design import Capacitor, Design, Resistor, changed, full_up
from thermionic.devices import Capacitor as CapacitorDevice
from thermionic.devices import Feed
from thermionic.devices import Resistor as ResistorDevice
from thermionic.devices.base import Array
from thermionic.devices.scatter import limits
from thermionic.errors import NoSolution
from thermionic.lazily import lazily
from thermionic.powerup.probes import Probe, Step, probes
from thermionic.supplies.stress import drop

TEST_HERTZ = 1000.0
# What a hand-held multimeter is good for.
METER = 0.015
METER_OHM = 10e6  # its input resistance, as most have it
# A point of more resistance than this part of the meter's is solved with the meter on it.
_LIGHT = 0.5
# Least error of a reading, V: the meter's last digits, and hum on an AC range.
LEAST_DC, LEAST_AC = 0.1, 0.005


@dataclass(frozen=True)
class TestPoint(Probe):
    """A probe with what to expect there, V. ``low`` and ``high`` bound what the parts' tolerances, the tubes' spread
    and the meter explain."""

    __test__ = False  # not a pytest class

    expected: float = 0.0
    low: float = 0.0
    high: float = 0.0

    @property
    def sigma(self) -> float:
        """Half of the band's half width, V."""
        return (self.high - self.low) / 4


@dataclass(frozen=True)
class Held:
    """A capacitor's designator and path, the most that is across it over the mains cycle, V, and its rating, V."""

    designator: str
    path: str
    volt: float
    rating_volt: float


@dataclass(frozen=True, eq=False)
class Plan:
    """One step of the power-up of a design on a given mains, read with a meter of ``meter_ohm``: its netlist, points
    and test signal."""

    design: Design
    step: Step
    mains_volt: float
    compiled: Compiled
    netlist: Netlist
    state: CircuitState
    test_volt: float
    probes: tuple[Probe, ...]
    meter_ohm: float

    def values(self, state: CircuitState) -> Array:
        """What the meter reads at every test point in a solved variant of the circuit, V, (points,): it is on one
        point at a time, and loads it."""
        readings = np.zeros(len(self.probes))
        steady = [row for row, probe in enumerate(self.probes) if not probe.ac]
        readings[steady] = self._steady(state, [self.compiled.node(self.probes[row].node) for row in steady])
        signal = [row for row, probe in enumerate(self.probes) if probe.ac]
        if signal:
            readings[signal] = self._signal(state, [self.compiled.node(self.probes[row].node) for row in signal])
        return readings

    def _steady(self, state: CircuitState, nodes: list[str]) -> Array:
        """DC readings: a point of low resistance R is loaded as its linear circuit is, V / (1 + R / R_meter); one of
        high resistance is solved with the meter on it."""
        system, x = state.at.system, state.at.x
        rows = [system.node(node) for node in nodes]
        _, slopes = system.currents(system.sensed(x))
        unit = np.zeros((system.size, len(rows)))
        unit[rows, range(len(rows))] = 1.0
        ohms = system.solve(system.jacobian(slopes), unit)[rows, range(len(rows))]
        loaded = x[rows] / (1 + np.maximum(ohms, 0.0) / self.meter_ohm)
        for place in np.flatnonzero(ohms > _LIGHT * self.meter_ohm):
            with suppress(NoSolution):
                meter = Part("R_METER", ResistorDevice(self.meter_ohm), (nodes[place], GROUND))
                loaded[place] = solve_circuit(state.netlist.with_parts([meter]), state).at.voltage(nodes[place])
        return loaded

    def _signal(self, state: CircuitState, nodes: list[str]) -> Array:
        """Readings of the test signal, V rms."""
        hertz = np.array([TEST_HERTZ])
        small = SmallSignal(state.at)
        source = float(self.netlist[self.compiled.source.part].device.excitation().tone[2])
        phasors = small.tone(hertz)[0] * self.test_volt / source
        return np.array([
            abs(phasors[state.at.system.node(node)] / (1 + small.impedances(node, hertz)[0] / self.meter_ohm))
            for node in nodes
        ])  # fmt: skip

    @lazily
    def capacitors(self) -> tuple[Held, ...]:
        """What every capacitor has across it at this step, the most strained first."""
        held = []
        for path, capacitor in self.compiled.components(Capacitor):
            for name in self.compiled.designators(path):
                across = drop(self.state, name)
                if across is not None:
                    held.append(Held(name, path, float(np.max(np.abs(across))), capacitor.rating_volt))
        return tuple(sorted(held, key=lambda one: -one.volt / one.rating_volt))

    def solve(self, netlist: Netlist) -> Array:
        """What every test point reads in a variant of the netlist. Raises NoSolution."""
        return self.values(solve_circuit(netlist, self.state))

    @lazily
    def points(self) -> tuple[TestPoint, ...]:
        """The test points, in the order to measure them."""
        expected = self.values(self.state)
        shifts = [self.solve(variant) - expected for variant in _tolerances(self.netlist, self.compiled)]
        spread = np.sqrt(np.sum(np.square(shifts), axis=0) + (METER * expected) ** 2)
        points = []
        for probe, value, width in zip(self.probes, expected, spread, strict=True):
            width = max(float(width), LEAST_AC if probe.ac else LEAST_DC)
            value = round(float(value), 4) + 0.0  # a tenth of a millivolt, and no minus zero
            points.append(TestPoint(**vars(probe), expected=value, low=value - width, high=value + width))
        return tuple(points)


def rated_mains(design: Design) -> float:
    """The mains that the design's transformers are connected for, V rms; the house's where it has none."""
    compiled = compile_design(design)
    return next((winding.primary_volt for winding in compiled.said(Winding)), design.mains[0])


def plan(design: Design, step: Step, mains_volt: float, meter_ohm: float = METER_OHM) -> Plan:
    """The plan for one step with ``mains_volt`` measured at the wall and a meter of ``meter_ohm``. Raises
    ValueRefused, NoSolution.

    The test signal is 1 kHz at the source with the volume control full up, at a level for about 1 V rms at the
    loudspeaker. One channel is measured; the other is taken to be healthy.
    """
    design = full_up(changed(design, "brief/mains_volt", mains_volt))
    compiled = compile_design(design)
    netlist = compiled.netlist
    if step is Step.NO_TUBES:
        netlist = netlist.without(is_pulled)
    state = solve_circuit(netlist)
    netlist = _one_channel(netlist, state)
    state = solve_circuit(netlist, state)
    test_volt = 0.0
    if step is Step.ALL_TUBES:
        system = state.at.system
        tone = SmallSignal(state.at).tone(np.array([TEST_HERTZ]))[0]
        gain = float(abs(tone[system.node(compiled.load.node)] / tone[system.node(compiled.source.node)]))
        test_volt = float(f"{1.0 / max(gain, 1e-3):.0e}")
    return Plan(
        design, step, mains_volt, compiled, netlist, state, test_volt, probes(compiled, netlist, step), meter_ohm
    )


def _one_channel(netlist: Netlist, state: CircuitState) -> Netlist:
    """The circuit with the other channel as the resistance that it is to the rails, so that a fault in the channel
    measured is not repeated in it."""
    parts: list[Part] = []
    for part in netlist.parts:
        device = part.device
        if isinstance(device, Feed) and device.channels > 1:
            parts.append(replace(part, device=Feed(1)))
            drawn = -float(state.at.terminal_currents[part.name][1]) * (device.channels - 1)
            volts = state.at.voltage(part.nodes[0])
            if drawn / volts > 1e-9 if volts else False:
                other = ResistorDevice(volts / drawn)
                parts.append(Part(f"R_OTHER_{part.name}", other, (part.nodes[0], GROUND)))
        else:
            parts.append(part)
    return replace(netlist, parts=tuple(parts))


def _tolerances(netlist: Netlist, compiled: Compiled) -> Iterator[Netlist]:
    """The circuit with each part in turn at its limit: by its own tolerance, or by its kind's spread. Of capacitors
    only those of the rails move a voltage at these points."""
    for path, resistor in compiled.components(Resistor):
        for name in compiled.designators(path):
            yield netlist.with_device(name, ResistorDevice(resistor.ohm * (1 + resistor.tolerance)))
    for rail in compiled.rails[:1]:
        if rail.capacitor:
            name = compiled.designator(rail.capacitor)
            first = next(one for path, one in compiled.components(Capacitor) if path == rail.capacitor)
            yield netlist.with_device(name, CapacitorDevice(first.farad * (1 - first.tolerance)))
    for part in netlist.parts:
        for device in limits(part.device):
            yield netlist.with_device(part.name, device)
