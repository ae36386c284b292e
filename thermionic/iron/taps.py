"""Every tap with this load, the taps that are left alone, and no load at all."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic import devices
from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.amplifier.solved import REFERENCE_HERTZ
from thermionic.circuit.large_signal import drive
from thermionic.circuit.operating_point import operating_point
from thermionic.circuit.spectrum import waveform
from thermionic.circuit.system import System
from thermionic.design import Design, changed, find, has_field, signal_inputs
from thermionic.devices.base import ComplexArray
from thermionic.errors import NoSteadyState, ThermionicError
from thermionic.iron.output import tap_of, transformer_of

OPEN_OHM = 1e7
_LOAD_WATT = 2.0  # a dummy load's rating over full output


@dataclass(frozen=True)
class OnTap:
    """The amplifier with its load on one tap: what the primary then shows, and what comes of it. ``refusal`` says why
    where it could not be solved; the rest are then 0."""

    tap: str
    load: str
    load_ohm: float
    primary_ohm: float
    power_watt: float
    distortion: float
    damping: float
    used: bool
    refusal: str = ""


def on_taps(amplifier: SolvedAmplifier) -> list[OnTap]:
    """One loudspeaker as it is, and two of them, on every tap: each solved with all that hangs on the load's tap.

    ``distortion`` is at 1 W or at full output if that is less. Raises DesignRefused without a transformer.
    """
    use, now = transformer_of(amplifier), tap_of(amplifier)
    speaker = amplifier.load.block
    result = []
    for count, words in ((1, "one loudspeaker"), (2, "two in parallel")):
        for tap, ohm in use.taps.items():
            design = _connected(amplifier.design, speaker, f"{use.block}.{tap}", count)
            if design is None:
                continue
            alone = design == amplifier.design
            try:
                trial = amplifier if alone else solve(design, amplifier)
                result.append(_on_tap(trial, tap, words, use.primary_ohm * trial.load.ohm / ohm,
                                     used=tap == now and alone))  # fmt: skip
            except ThermionicError as reason:
                result.append(OnTap(tap, words, 0.0, 0.0, 0.0, 0.0, 0.0, False, str(reason)))
    return result


def _connected(design: Design, speaker: str, reference: str, count: int) -> Design | None:
    """The design with so many of its loudspeakers on a tap; None where the load cannot be several."""
    if count > 1:
        several = f"blocks/{speaker}/count"
        if not has_field(design, several) or find(design, several).value != 1:
            return None
        design = changed(changed(design, f"blocks/{speaker}/count", "2"), f"blocks/{speaker}/connection", "parallel")
    (field,) = signal_inputs(design.block(speaker))
    return changed(design, f"blocks/{speaker}/{field}", reference)


def _on_tap(trial: SolvedAmplifier, tap: str, words: str, primary: float, used: bool) -> OnTap:
    points = trial.sweep
    full = trial.full_output
    at = min(1.0, full.power_watt)
    bent = float(np.interp(at, [0.0, *(p.power_watt for p in points)], [0.0, *(p.distortion for p in points)]))
    return OnTap(
        tap, words, trial.load.ohm, primary, full.power_watt, bent, trial.load.ohm / trial.output_impedance, used
    )


@dataclass(frozen=True)
class Unused:
    """An end of the transformer that nothing is connected to, and how it is left."""

    name: str
    how: str


_LEFT_ALONE = (
    "insulated and tied away, joined to nothing: between it and another tap there is full signal voltage, and "
    "shorted turns load the whole transformer"
)


def unused(amplifier: SolvedAmplifier) -> list[Unused]:
    """The taps that this amplifier leaves alone."""
    use = transformer_of(amplifier)
    result = [Unused(f"secondary {tap} Ω", _LEFT_ALONE) for tap in use.taps if tap in use.unused]
    if "ul" in use.unused:
        result.append(
            Unused("screen taps", "each insulated by itself for the full HT and its swing, up to twice the HT; "
                   "never joined to each other")
        )  # fmt: skip
    if "cathode" in use.unused:
        result.append(Unused("cathode winding", "left open at both ends, insulated"))
    return result


@dataclass(frozen=True)
class Unloaded:
    """What an open load does. ``anode_volt`` is the highest anode-to-earth voltage over a cycle at the drive that
    gives full output with the load on, ``with_load_volt`` the same with it on; ``dummy_ohm`` and ``dummy_watt`` what
    takes the loudspeaker's place. ``found`` is whether the open circuit was solved up to that drive; if not
    ``anode_volt`` is at the highest drive that was."""

    anode_volt: float
    with_load_volt: float
    dummy_ohm: float
    dummy_watt: float
    found: bool


def unloaded(amplifier: SolvedAmplifier) -> Unloaded:
    """The amplifier driven with nothing connected. Raises DesignRefused without an output transformer."""
    use = transformer_of(amplifier)
    anodes = [tube.anode for tube in amplifier.compiled.tubes if tube.block in amplifier.route]
    last = [node for node in anodes if amplifier.compiled.node(node) in amplifier.netlist[use.part].nodes]
    level = amplifier.drive.levels[0] * amplifier.full_output.source_volt / amplifier.sweep[0].source_volt
    watt = amplifier.full_output.power_watt
    dummy = _preferred_watt(_LOAD_WATT * watt)
    with_load = _peak(amplifier, drive(amplifier.state.at, REFERENCE_HERTZ, np.array([0.5, 1.0]) * level).x[-1], last)
    at = operating_point(
        System(amplifier.state.at.system.netlist.with_device(amplifier.load.part, devices.Resistor(OPEN_OHM))),
        amplifier.state.at.x if _same_size(amplifier) else None,
    )
    best, reached = 0.0, 0.0
    for share in (0.1, 0.2, 0.35, 0.5, 0.7, 0.85, 1.0):
        try:
            driven = drive(at, REFERENCE_HERTZ, np.array([0.5 * share, share]) * level)
        except NoSteadyState:
            continue
        names = [at.system.node(amplifier.compiled.node(node)) for node in last]
        best, reached = max(best, float(waveform(driven.x[-1, names], 256).max())), share
    return Unloaded(best, with_load, amplifier.load.ohm, dummy, reached == 1.0)


def _same_size(amplifier: SolvedAmplifier) -> bool:
    return isinstance(amplifier.netlist[amplifier.load.part].device, devices.Resistor)


def _peak(amplifier: SolvedAmplifier, x: ComplexArray, nodes: list[str]) -> float:
    system = amplifier.state.at.system
    rows = [system.node(amplifier.compiled.node(node)) for node in nodes]
    return float(waveform(x[rows], 256).max())


def _preferred_watt(watt: float) -> float:
    return next((one for one in (5.0, 10.0, 25.0, 50.0, 100.0, 200.0) if one >= watt), float(round(watt, -2) + 100))
