"""A whole amplifier, solved: one object from which every room and every finding reads."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.interpolate import PchipInterpolator

from thermionic.blocks.compiling import RESERVOIR, SOURCE, Compiled, compile_design
from thermionic.circuit.large_signal import Drive, distortion, drive
from thermionic.circuit.netlist import Netlist
from thermionic.circuit.operating_point import PartState
from thermionic.circuit.small_signal import Response, SmallSignal
from thermionic.circuit.supply import CircuitState, RectifierState, solve_circuit
from thermionic.design import Design
from thermionic.devices import Triode
from thermionic.devices.base import ComplexArray
from thermionic.errors import NoSolution

REFERENCE_HERTZ = 1000.0
FULL_DISTORTION = 0.05
_RESPONSE_HERTZ = np.logspace(np.log10(2.0), np.log10(500e3), 73)
# The drive levels at which power and distortion are solved, as shares of the output grid's idle bias.
_SWEEP = np.array([0.05, 0.4, 0.7, 0.9, 1.0, 1.1, 1.2, 1.4])
_OVERDRIVE = 2.0


@dataclass(frozen=True)
class DrivenPoint:
    """The amplifier at one drive: source level (V rms), output (W into the loudspeaker), total harmonic
    distortion and its second to fifth harmonics as fractions of the fundamental."""

    source_volt: float
    power_watt: float
    distortion: float
    harmonics: tuple[float, ...]


@dataclass(frozen=True, eq=False)
class _Near:
    """What a similar amplifier's solution lends to the next as a first guess."""

    without_tubes: CircuitState | None = None
    drive: Drive | None = None


@dataclass(frozen=True, eq=False)
class SolvedAmplifier:
    """A compiled design with its operating point; everything else is solved when first asked for."""

    compiled: Compiled
    state: CircuitState
    near: _Near = _Near()

    @property
    def design(self) -> Design:
        """The design that was solved."""
        return self.compiled.design

    @property
    def netlist(self) -> Netlist:
        """The circuit, with its real rectifier."""
        return self.compiled.netlist

    @property
    def rectifier(self) -> RectifierState:
        """The HT rectifier over the mains cycle."""
        assert self.state.rectifier is not None
        return self.state.rectifier

    def voltage(self, node: str) -> float:
        """Steady voltage of a node to signal earth, V."""
        return self.state.at.voltage(node)

    @cached_property
    def parts(self) -> dict[str, PartState]:
        """Current, voltage and dissipation of every part; supply resistors with their ripple's heat.

        A tube's voltage is from anode to cathode and its current the anode's. The rectified winding's current is
        that delivered, its dissipation the heat in its copper.
        """
        states = dict(self.state.at.parts)
        rectifier = self.rectifier
        for part in self.netlist.parts:
            state = states[part.name]
            if isinstance(part.device, Triode):
                anode, _, cathode = (self.voltage(node) for node in part.nodes)
                states[part.name] = PartState(state.current, anode - cathode, state.dissipation)
            elif part.name == rectifier.part:
                heat = rectifier.winding_rms_ampere**2 * float(rectifier.winding.ohm)
                states[part.name] = PartState(rectifier.mean_ampere, state.voltage, heat)
            elif part.path.startswith("supply") and part.path.endswith("/resistor"):
                first, second = (rectifier.mains.node_waveform(node) for node in part.nodes)
                heat = float(np.var(first - second)) / part.device.ohm  # type: ignore[attr-defined]
                states[part.name] = PartState(state.current, state.voltage, state.dissipation + heat)
        return states

    def part(self, path: str) -> PartState:
        """The state of the part that a design path belongs to. Raises KeyError."""
        return self.parts[self.compiled.designator(path)]

    @cached_property
    def without_tubes(self) -> CircuitState:
        """The same supply on the same mains with every tube pulled."""
        pulled = self.netlist.without(lambda part: isinstance(part.device, Triode))
        return solve_circuit(pulled, self.near.without_tubes)

    @cached_property
    def small_signal(self) -> SmallSignal:
        """The circuit linearised at its operating point."""
        return SmallSignal(self.state.at)

    @cached_property
    def _tone_response(self) -> ComplexArray:
        return self.small_signal.tone(_RESPONSE_HERTZ)

    def response(self, node: str, source: str = "") -> Response:
        """Transfer from a node (by default the source's own voltage) to another, 2 Hz to 500 kHz."""
        at = self._tone_response[:, self.state.at.system.node(node)]
        base = (
            self._tone_response[:, self.state.at.system.node(source)] if source else np.full(len(at), self._tone_volt)
        )
        return Response(_RESPONSE_HERTZ, at / base)

    @property
    def _tone_volt(self) -> float:
        return float(self.netlist[SOURCE].device.excitation().tone[2])

    @cached_property
    def _reference_phasors(self) -> ComplexArray:
        phasors: ComplexArray = self.small_signal.tone(np.array([REFERENCE_HERTZ]))[0]
        return phasors

    def gain(self, node: str, source: str = "source") -> float:
        """Magnitude of the voltage gain between two nodes at 1 kHz."""
        system = self.state.at.system
        phasors = self._reference_phasors
        return float(abs(phasors[system.node(node)] / phasors[system.node(source)]))

    @cached_property
    def output_impedance(self) -> float:
        """Impedance at the loudspeaker terminals at 1 kHz without the loudspeaker, Ω."""
        speaker = self.design.loudspeaker
        with_load = self.small_signal.impedance(speaker.id, REFERENCE_HERTZ)
        return abs(1.0 / (1.0 / with_load - 1.0 / speaker.ohm))

    # The large-signal results.

    @cached_property
    def drive(self) -> Drive:
        """The periodic steady state at 1 kHz over a range of drive, from whispering to past full output.

        Levels are multiples of the source's own level at the volume set; the source's own is among them
        unless it would overdrive the amplifier more than twice over.
        """
        output = next(part for part in self.netlist.parts if part.path == f"chain/{self.design.output_stage.id}")
        grid, cathode = (self.state.at.system.node(node) for node in output.nodes[1:])
        swing = float(abs(self._reference_phasors[grid] - self._reference_phasors[cathode]))
        bias = abs(float(self.state.at.x[grid] - self.state.at.x[cathode]))
        if swing <= 0:
            raise NoSolution("No signal reaches the output stage; its power cannot be solved.")
        full = max(bias, 0.1) / swing
        levels = _SWEEP * full
        if 0.0 < 1.0 <= _OVERDRIVE * full:
            levels = np.sort(np.append(levels, 1.0))
        return drive(self.state.at, REFERENCE_HERTZ, levels, self.near.drive)

    @cached_property
    def sweep(self) -> tuple[DrivenPoint, ...]:
        """Power and distortion at the loudspeaker, from small drive to past full output."""
        phasors = self.drive.phasors(self.design.loudspeaker.id)
        total = distortion(phasors)
        size = np.abs(phasors)
        ohm = self.design.loudspeaker.ohm
        return tuple(
            DrivenPoint(
                source_volt=float(level * self._tone_volt / np.sqrt(2)),
                power_watt=float(np.sum(size[row, 1:] ** 2) / (2 * ohm)),
                distortion=float(total[row]),
                harmonics=tuple(float(h) for h in size[row, 2:6] / size[row, 1]),
            )
            for row, level in enumerate(self.drive.levels)
        )

    @cached_property
    def at_source(self) -> DrivenPoint | None:
        """The amplifier driven by its source at the volume set; None if that overdrives it more than twice."""
        rows = np.flatnonzero(self.drive.levels == 1.0)
        return self.sweep[int(rows[0])] if len(rows) else None

    @cached_property
    def full_output(self) -> DrivenPoint:
        """Where distortion first reaches 5 %; the top of the sweep if it never does.

        Between the levels solved, everything is interpolated with monotone cubics over the drive.
        """
        rows = np.array(
            [[p.source_volt, p.power_watt**0.5, p.distortion, *p.harmonics] for p in self.sweep], dtype=float
        )
        fine = np.linspace(rows[0, 0], rows[-1, 0], 400)
        between = PchipInterpolator(rows[:, 0], rows[:, 1:])(fine)
        past = np.flatnonzero(between[:, 1] >= FULL_DISTORTION)
        at = between[past[0] if len(past) else -1]
        return DrivenPoint(
            source_volt=float(fine[past[0] if len(past) else -1]),
            power_watt=float(at[0] ** 2),
            distortion=float(at[1]),
            harmonics=tuple(float(h) for h in at[2:]),
        )

    def ripple(self, node: str) -> float:
        """Hum ripple on a node, V peak to peak."""
        return self.rectifier.ripple_peak_to_peak(node)

    @property
    def reservoir_volt(self) -> float:
        """Mean voltage on the reservoir, V."""
        return self.voltage(RESERVOIR)


def solve(design: Design, near: SolvedAmplifier | None = None) -> SolvedAmplifier:
    """Compile and solve a design; ``near`` is a solved similar one to start from.

    Raises UnknownTube, NoSolution.
    """
    compiled = compile_design(design)
    if near is None:
        return SolvedAmplifier(compiled, solve_circuit(compiled.netlist))
    known = vars(near)  # only what it has been asked for already
    lent = _Near(known.get("without_tubes"), known.get("drive"))
    return SolvedAmplifier(compiled, solve_circuit(compiled.netlist, near.state), lent)
