"""A whole amplifier, solved: one object from which every room and every finding reads."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from thermionic.amplifier.compiling import Compiled, compile_design
from thermionic.amplifier.full_output import FULL_DISTORTION, DrivenPoint, full_output
from thermionic.blocks import Group, Resistor, split
from thermionic.blocks.facets import ConverterUse, Load, TubeUse
from thermionic.circuit.large_signal import Drive, distortion, drive
from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.circuit.operating_point import OperatingPoint, PartState
from thermionic.circuit.small_signal import Response, SmallSignal, respond
from thermionic.circuit.supply import solve_circuit
from thermionic.circuit.supply_state import CircuitState, RectifierState
from thermionic.circuit.system import System
from thermionic.design import Design, route
from thermionic.devices.base import Array, ComplexArray
from thermionic.devices.gas import GasRegulator
from thermionic.devices.triode import Cathode
from thermionic.errors import NoSolution, NoSteadyState
from thermionic.lazily import lazily

REFERENCE_HERTZ = 1000.0
_RESPONSE_HERTZ = np.logspace(np.log10(2.0), np.log10(500e3), 73)
# The drive levels at which power and distortion are solved, as shares of the output grid's idle bias.
_SWEEP = np.array([0.05, 0.4, 0.7, 0.9, 1.0, 1.1, 1.2, 1.4])
_OVERDRIVE = 2.0
# Full output between two levels of which the higher is so many times the lower is solved again, so often at most.
_WIDE, _NARROWED = 1.4, 2
_SAME = 0.02  # of a level: what is nearer to a solved level is not solved again
# What only saves time.
_NOT_PICKLED = ("_remembered", "_elsewhere", "near")
_FEWEST = 2  # levels that make a sweep
# The sweep goes no further than so many times the drive at which the first tube of all swings to zero bias.
_EARLIEST = 6.0


def is_pulled(part: Part) -> bool:
    """Whether a part is a tube that is out while the HT is tried: any but a rectifier."""
    return isinstance(part.device, (Cathode, GasRegulator)) and not part.device.rectifies


def drive_as_far(at: OperatingPoint, hertz: float, levels: Array, near: Drive | None = None) -> Drive:
    """The steady state at each of rising levels, as far up as there is one, at least at the two lowest. Raises
    NoSteadyState, BudgetSpent."""
    while True:
        try:
            return drive(at, hertz, levels, near)
        except NoSteadyState as failure:
            if failure.failed[0] < _FEWEST:
                raise
            levels = levels[: failure.failed[0]]


@dataclass(frozen=True, eq=False)
class _Near:
    """What a similar amplifier's solution lends to the next as a first guess."""

    without_tubes: CircuitState | None = None
    swept: Drive | None = None
    # By the volts of the mains: with its tubes, and without them where that was solved.
    elsewhere: dict[float, tuple[CircuitState, CircuitState | None]] = field(default_factory=dict)


@dataclass(frozen=True, eq=False)
class SolvedAmplifier:
    """A compiled design with its operating point; everything else is solved when first asked for."""

    compiled: Compiled
    state: CircuitState
    near: _Near = _Near()

    def __getstate__(self) -> dict[str, Any]:
        """What is pickled: not what only saves time."""
        return {name: value for name, value in vars(self).items() if name not in _NOT_PICKLED}

    def stand_alone(self) -> None:
        """Let go of what a similar amplifier has lent: what has been solved by now serves as well, and an amplifier
        that is kept does not keep another's solutions."""
        object.__setattr__(self, "near", _Near())

    @property
    def design(self) -> Design:
        """The design that was solved."""
        return self.compiled.design

    @property
    def netlist(self) -> Netlist:
        """The circuit, with its real rectifier."""
        return self.compiled.netlist

    @property
    def load(self) -> Load:
        """What it drives."""
        return self.compiled.load

    def on_mains(self, volt: float) -> SolvedAmplifier:
        """The same amplifier with another voltage at the wall, V rms; solved once. Raises NoSolution."""
        if volt == self.design.brief.mains_volt:
            return self
        solved: dict[float, SolvedAmplifier] = vars(self).setdefault("_elsewhere", {})
        if volt not in solved:
            lent = self.near.elsewhere
            like = lent[min(lent, key=lambda one: abs(one - volt))] if lent else (self.state, None)
            compiled = compile_design(self.design.on_mains(volt)).like(self.compiled)
            solved[volt] = SolvedAmplifier(compiled, solve_circuit(compiled.netlist, like[0]), _Near(like[1]))
        return solved[volt]

    @lazily
    def rectifiers(self) -> tuple[RectifierState, ...]:
        """Every rectifier over the mains cycle; empty if there is none."""
        mains = self.state.mains
        return tuple(self.state.of(part.name) for part in mains.parts) if mains else ()

    def voltage(self, node: str) -> float:
        """Steady voltage of a node to signal earth, V."""
        return self.state.at.voltage(self.compiled.node(node))

    def over_cathode(self, use: TubeUse, electrode: str) -> float:
        """Steady voltage of a tube's electrode to its cathode, V."""
        return self.voltage(use.nodes[electrode]) - self.voltage(use.cathode)

    @lazily
    def parts(self) -> dict[str, PartState]:
        """Current, voltage and dissipation of every part; resistors with their ripple's heat.

        A tube's voltage is from anode to cathode and its current and dissipation the anode's.
        """
        # What stands for the rectifiers while the rest is solved is no part.
        states = {name: state for name, state in self.state.at.parts.items() if name in self.netlist}
        for use in self.compiled.tubes:
            state = states[use.part]
            volt = self.over_cathode(use, "anode")
            states[use.part] = PartState(state.current, volt, state.current * volt)
        mains = self.state.mains
        for rectifier in self.rectifiers:
            states[rectifier.part] = PartState(rectifier.mean_ampere, rectifier.mean_volt, rectifier.dissipation)
        if mains is not None:
            for path, _ in self.compiled.components(Resistor):
                for name in self.compiled.designators(path):
                    part, state = self.netlist[name], states[name]
                    heat = mains.ripple_mean_square(*part.nodes) / part.device.ohm  # type: ignore[attr-defined]
                    states[name] = PartState(state.current, state.voltage, state.dissipation + heat)
        return states

    def rms_ampere(self, name: str) -> float:
        """A resistor's current over the mains cycle, A rms."""
        return self.state.rms_ampere(name)

    def part(self, path: str) -> PartState:
        """The state of the hottest of the parts that a design path belongs to. Raises KeyError."""
        return max(
            (self.parts[name] for name in self.compiled.designators(path)), key=lambda state: state.dissipation
        )

    def screen_watt(self, use: TubeUse) -> float:
        """What a pentode's screen dissipates, W; 0 for a triode."""
        if "screen" not in use.nodes or use.nodes["screen"] == use.anode:
            return 0.0
        current = float(self.state.at.terminal_currents[use.part][1])
        return current * (self.over_cathode(use, "screen"))

    @lazily
    def without_tubes(self) -> CircuitState:
        """The same supply on the same mains with every tube pulled but the rectifiers."""
        return solve_circuit(self.netlist.without(is_pulled), self.near.without_tubes)

    @lazily
    def small_signal(self) -> SmallSignal:
        """The circuit linearised at its operating point."""
        return SmallSignal(self.state.at)

    @lazily
    def _tone_response(self) -> ComplexArray:
        return self.small_signal.tone(_RESPONSE_HERTZ)

    def response(self, node: str, source: str = "") -> Response:
        """Transfer from a node (by default the source's own voltage) to another, 2 Hz to 500 kHz."""
        system, name = self.state.at.system, self.compiled.node
        at = self._tone_response[:, system.node(name(node))]
        base = self._tone_response[:, system.node(name(source))] if source else np.full(len(at), self.tone_volt)
        return Response(_RESPONSE_HERTZ, at / base)

    @property
    def source_node(self) -> str:
        """The node of the source's own voltage."""
        return self.compiled.source.node

    @property
    def tone_volt(self) -> float:
        """The peak of the source's test tone, V."""
        return float(self.netlist[self.compiled.source.part].device.excitation().tone[2])

    @lazily
    def reference_phasors(self) -> ComplexArray:
        """Every unknown's phasor at 1 kHz for the source's test tone, (size,)."""
        phasors: ComplexArray = self.small_signal.tone(np.array([REFERENCE_HERTZ]))[0]
        return phasors

    def phasor(self, node: str) -> complex:
        """A node's phasor at 1 kHz per volt of the source, by its small signal."""
        if node == GROUND:
            return 0j
        return complex(self.reference_phasors[self.state.at.system.node(self.compiled.node(node))]) / self.tone_volt

    def gain(self, node: str, source: str = "") -> float:
        """Magnitude of the voltage gain between two nodes at 1 kHz; from the source if no other is named."""
        return abs(self.phasor(node)) / abs(self.phasor(source or self.source_node))

    @lazily
    def output_impedance(self) -> float:
        """Impedance at the load's terminals at 1 kHz without the load, Ω."""
        hertz = np.array([REFERENCE_HERTZ])
        return float(abs(self.without_load(hertz, self.small_signal.impedances(self.load.node, hertz))[0]))

    def without_load(self, hertz: Array, with_load: ComplexArray) -> ComplexArray:
        """Impedances at the load's terminals, Ω, as they are without the load: (frequencies,)."""
        load = self.netlist[self.load.part]
        alone = Netlist(
            load.name, (Part(load.name, load.device, tuple(n if n == GROUND else "a" for n in load.nodes)),)
        )
        system = System(alone)
        own = respond(system, system.G, hertz, np.eye(system.size)[:, :1])[:, 0, 0]
        result: ComplexArray = 1.0 / (1.0 / with_load - 1.0 / own)
        return result

    # The large-signal results.

    @lazily
    def swept(self) -> Drive:
        """The periodic steady state at 1 kHz over a range of drive, from whispering to past full output.

        Levels are multiples of the source's own level at the volume set; the source's own is among them
        unless it would overdrive the amplifier more than twice over. Where no steady state is found from some level
        on, those below stand for the range; ``unsettled_volt`` says so.
        """
        return drive_as_far(self.state.at, REFERENCE_HERTZ, self._levels, self.near.swept)

    @lazily
    def drive(self) -> Drive:
        """What was swept, with levels between where full output falls between two that are far apart."""
        driven = self.swept
        for _ in range(_NARROWED):
            points = self.points(driven)
            full = full_output(points, self.load.ohm)
            solved = np.array([0.0, *(point.source_volt for point in points)])
            above = min(int(np.searchsorted(solved, full.source_volt)), len(points))
            near = np.abs(solved - full.source_volt).min() < _SAME * full.source_volt
            if near or solved[above] < _WIDE * solved[above - 1] or full.distortion < FULL_DISTORTION:
                break
            level = np.array([full.source_volt * np.sqrt(2) / self.tone_volt])
            try:
                driven = driven.joined(drive(self.state.at, REFERENCE_HERTZ, level))
            except NoSteadyState:
                break
        return driven

    @lazily
    def _levels(self) -> Array:
        full = self._full_level
        levels: Array = _SWEEP * full
        if 0.0 < 1.0 <= _OVERDRIVE * full:
            levels = np.sort(np.append(levels, 1.0))
        return levels

    @property
    def unsettled_volt(self) -> float | None:
        """The source's level, V rms, from which on no steady state was found; None if one was at every level."""
        solved, wanted = len(self.swept.levels), self._levels
        return float(wanted[solved] * self.tone_volt / np.sqrt(2)) if solved < len(wanted) else None

    @lazily
    def route(self) -> tuple[str, ...]:
        """The ids of the blocks that the signal goes through to the load."""
        return tuple(block.id for block in route(self.design, self.load.block))

    @lazily
    def _full_level(self) -> float:
        """The drive, in multiples of the source's own level, at which the last tubes before the load swing to zero
        bias; sooner where a tube before them does so long before (a follower at the end hardly swings against its
        cathode).
        """
        reach = self._to_zero_bias
        if not reach or min(reach.values()) == np.inf:
            raise NoSolution("No signal reaches the tubes; the power cannot be solved.")
        last = reach[max(reach, key=self.route.index)]
        return float(min(last, _EARLIEST * min(reach.values())))

    @lazily
    def _to_zero_bias(self) -> dict[str, float]:
        """The drive, in multiples of the source's own level, at which the first tube of each block on the signal's
        way swings to zero bias by its small signal."""
        reach: dict[str, float] = {}
        for use in self.compiled.tubes:
            if use.block not in self.route:
                continue
            swing = abs(self.phasor(use.grid) - self.phasor(use.cathode)) * self.tone_volt
            bias = abs(self.over_cathode(use, "grid"))
            level = max(bias, 0.1) / swing if swing > 1e-9 else np.inf
            reach[use.block] = min(level, reach.get(use.block, np.inf))
        return reach

    @property
    def first_to_zero_bias(self) -> str:
        """The block whose grid is the first to reach its cathode as the drive rises; "" without tubes."""
        return min(self._to_zero_bias, key=lambda block: self._to_zero_bias[block], default="")

    @lazily
    def sweep(self) -> tuple[DrivenPoint, ...]:
        """Power and distortion at the loudspeaker, from small drive to past full output."""
        return self.points(self.drive)

    def points(self, driven: Drive) -> tuple[DrivenPoint, ...]:
        """What comes out at the load at each level of a drive."""
        phasors = driven.phasors(self.load.node)
        total = distortion(phasors)
        size = np.abs(phasors)
        ohm = self.load.ohm
        return tuple(
            DrivenPoint(
                source_volt=float(level * self.tone_volt / np.sqrt(2)),
                output_volt=float(np.sqrt(np.sum(size[row, 1:] ** 2) / 2)),
                power_watt=float(np.sum(size[row, 1:] ** 2) / (2 * ohm)),
                distortion=float(total[row]),
                harmonics=tuple(float(h) for h in size[row, 2:6] / size[row, 1]),
            )
            for row, level in enumerate(driven.levels)
        )

    @lazily
    def at_source(self) -> DrivenPoint | None:
        """The amplifier driven by its source at the volume set; None if that overdrives it more than twice."""
        rows = np.flatnonzero(self.drive.levels == 1.0)
        return self.sweep[int(rows[0])] if len(rows) else None

    @lazily
    def full_output(self) -> DrivenPoint:
        """Where distortion first reaches 5 %; the top of the sweep if it never does."""
        return full_output(self.sweep, self.load.ohm)

    def output(self, point: DrivenPoint) -> float:
        """What a drive gives by the load's own measure: W if watts are wanted of it, else V rms."""
        return point.power_watt if self.load.power else point.output_volt

    def ripple(self, node: str) -> float:
        """Hum ripple on a node, V peak to peak; 0 where nothing is rectified. What a converter switches is not in it:
        see ``switched``."""
        mains = self.state.mains
        return mains.ripple_peak_to_peak(self.compiled.node(node)) if mains else 0.0

    @lazily
    def switched(self) -> frozenset[str]:
        """The nodes of the rails behind a switching converter, whose ripple is of an unknown height."""
        behind = {use.block for use in self.compiled.said(ConverterUse)}
        for block in self.design.blocks:  # a supply's blocks stand behind what feeds them
            if block.group is Group.SUPPLY and any(
                split(reference)[0] in behind for reference in block.references.values()
            ):
                behind.add(block.id)
        return frozenset(self.compiled.node(rail.node) for rail in self.compiled.rails if rail.block in behind)

    @property
    def highest_rail(self) -> float:
        """The highest voltage of its rails, V; 0 without any."""
        return max((self.voltage(rail.node) for rail in self.compiled.rails), default=0.0)


def solve(design: Design, near: SolvedAmplifier | None = None) -> SolvedAmplifier:
    """Compile and solve a design; ``near`` is a solved similar one to start from.

    Raises UnknownTube, NoSolution.
    """
    compiled = compile_design(design)
    if near is None:
        return SolvedAmplifier(compiled, solve_circuit(compiled.netlist))
    compiled = compiled.like(near.compiled)
    known, older = vars(near), near.near  # only what has been solved already, here or before
    elsewhere = older.elsewhere | {
        volt: (one.state, vars(one).get("without_tubes")) for volt, one in known.get("_elsewhere", {}).items()
    }
    lent = _Near(known.get("without_tubes", older.without_tubes), known.get("swept", older.swept), elsewhere)
    return SolvedAmplifier(compiled, solve_circuit(compiled.netlist, near.state), lent)
