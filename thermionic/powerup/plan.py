"""The test points of each step of the first power-up, with expected values and bands, all solved."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from enum import Enum

import numpy as np

from thermionic.amplifier import Compiled, compile_design
from thermionic.amplifier.solved import is_pulled
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
from thermionic.lazily import lazily

TEST_HERTZ = 1000.0
# What a hand-held multimeter is good for.
METER = 0.015
# Least error of a reading, V: the meter's last digits, and hum on an AC range.
LEAST_DC, LEAST_AC = 0.1, 0.005


class Step(Enum):
    """How far the power-up has come."""

    NO_TUBES = "no-tubes"
    ALL_TUBES = "all-tubes"

    @property
    def title(self) -> str:
        """As it is said to the builder."""
        return {"no-tubes": "No tubes fitted", "all-tubes": "All tubes in"}[self.value]

    def title_for(self, design: Design) -> str:
        """As it is said of a design whose rectifier may be a tube itself, which stays in."""
        tube = self is Step.NO_TUBES and bool(compile_design(design).rectifier_tubes)
        return "No tubes but the rectifier" if tube else self.title


@dataclass(frozen=True)
class Probe:
    """Where to put the probes: ``node`` to earth, DC, or AC rms at 1 kHz with the test signal on."""

    key: str
    title: str
    place: str
    node: str
    ac: bool = False


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


@dataclass(frozen=True, eq=False)
class Plan:
    """One step of the power-up of a design on a given mains: its netlist, points and test signal."""

    design: Design
    step: Step
    mains_volt: float
    compiled: Compiled
    netlist: Netlist
    state: CircuitState
    test_volt: float
    probes: tuple[Probe, ...]

    def values(self, state: CircuitState) -> Array:
        """What every test point reads in a solved variant of the circuit, V, (points,)."""
        system = state.at.system
        tone: Array | None = None
        readings = []
        for probe in self.probes:
            if not probe.ac:
                readings.append(state.at.voltage(self.compiled.node(probe.node)))
                continue
            if tone is None:
                source = float(self.netlist[self.compiled.source.part].device.excitation().tone[2])
                phasors = SmallSignal(state.at).tone(np.array([TEST_HERTZ]))[0]
                tone = np.abs(phasors) * self.test_volt / source
            readings.append(float(tone[system.node(probe.node)]))
        return np.array(readings)

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


def plan(design: Design, step: Step, mains_volt: float) -> Plan:
    """The plan for one step with ``mains_volt`` measured at the wall. Raises ValueRefused, NoSolution.

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
    probes = tuple(_probes(compiled, netlist, step))
    return Plan(design, step, mains_volt, compiled, netlist, state, test_volt, probes)


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


def _probes(compiled: Compiled, netlist: Netlist, step: Step) -> Iterator[Probe]:
    """The probes of a step, in the order to measure: rails, then each tube's electrodes, then the signal. Of
    points on one node the first is measured."""
    seen: set[str] = {GROUND}
    for probe in (*_rail_probes(compiled), *_tube_probes(compiled)):
        if probe.node not in seen and probe.node in netlist.nodes:
            seen.add(probe.node)
            yield probe
    if step is Step.ALL_TUBES:
        yield from _signal_probes(compiled)


def _rail_probes(compiled: Compiled) -> Iterator[Probe]:
    for rail in compiled.rails:
        place = f"across {compiled.designator(rail.capacitor)}" if rail.capacitor else "to earth"
        title = f"{'Bias' if rail.bias else 'HT'} at {rail.name.replace('_', ' ')}"
        yield Probe(rail.name, title, place, rail.node)


def _tube_probes(compiled: Compiled) -> Iterator[Probe]:
    for use in compiled.tubes:
        for electrode in ("anode", "screen", "cathode", "grid"):
            if electrode in use.nodes:
                title = f"{use.part} {electrode}" + (f", {use.type.type}" if electrode == "anode" else "")
                yield Probe(use.nodes[electrode], title, f"{electrode} to earth at the socket", use.nodes[electrode])


def _signal_probes(compiled: Compiled) -> Iterator[Probe]:
    last = compiled.tubes[-1].block if compiled.tubes else ""
    seen: set[str] = set()
    for use in compiled.tubes:
        if (use.block != last or not compiled.load.power) and use.output not in seen:
            seen.add(use.output)
            place = "AC, through 100 nF rated 630 V"
            where = "anode" if use.output == use.anode else "output"
            yield Probe(f"{use.output}_ac", f"{use.part} {where}, signal", place, use.output, ac=True)
    load = compiled.load
    title = compiled.design.block(load.block).label
    title = "Loudspeaker" if load.power else title
    place = "AC, across the dummy load" if load.power else "AC, across the load"
    yield Probe(f"{load.block}_ac", f"{title}, signal", place, load.node, ac=True)


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
