"""One stage of a solved amplifier: its numbers, and its anode diagram with load lines."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from thermionic.amplifier.driven import driven
from thermionic.amplifier.solved import REFERENCE_HERTZ, SolvedAmplifier
from thermionic.blocks.facets import TubeUse
from thermionic.circuit.netlist import GROUND, Part
from thermionic.devices import Pentode, Resistor, Triode
from thermionic.devices.base import Array
from thermionic.lazily import remembered

# How much emission differs from tube to tube, one standard deviation; frequencies at which a driver in its box is a
# long way from a resistance.
EMISSION, _REACTIVE = 0.15, (50.0, 10e3)


@dataclass(frozen=True)
class StageNumbers:
    """One tube of a stage at idle and for a small signal, SI units.

    ``anode_volt`` and ``cathode_volt`` are to earth, ``bias_volt`` grid to cathode; ``screen_volt`` (to cathode) and
    ``screen_watt`` are None for a triode. ``gain`` is from the stage's input (before its coupling capacitor) to
    where its signal leaves, at 1 kHz; ``low_hertz`` and ``high_hertz`` are its -3 dB points (None if outside 2 Hz to
    500 kHz). ``output_ohm`` is the impedance where the signal leaves, with what follows. ``input_for_full_volt`` is
    the rms level at its grid for the amplifier's full output.
    """

    anode_volt: float
    cathode_volt: float
    bias_volt: float
    anode_ampere: float
    dissipation_watt: float
    dissipation_limit_watt: float
    screen_volt: float | None
    screen_watt: float | None
    gain: float
    output_ohm: float
    low_hertz: float | None
    high_hertz: float | None
    input_for_full_volt: float


@dataclass(frozen=True, eq=False)
class AnodeDiagram:
    """What is drawn over anode voltage (anode to cathode, V) and anode current (A).

    ``curves`` are (grid volts, currents at ``volts``), with a pentode's screen where the circuit has it:
    ``screen_volt`` at idle (None for a triode) and following the anode by ``screen_follows`` of its swing. A line
    is two points, each (V, A). ``swing`` is (samples, 2): the path over one period of 1 kHz at the drive of
    ``swing_output`` at the load (W, V rms for a line load). ``limit_watt`` is the dissipation limit. ``spread`` is
    where the curve at the idle grid voltage lies with a tube of 15 % less and more emission; ``ellipses`` are, with a
    reactive load, frequencies and the small-signal path there at the same drive, (samples, 2) each.
    """

    volts: Array
    curves: tuple[tuple[float, Array], ...]
    dc_line: tuple[tuple[float, float], tuple[float, float]]
    ac_line: tuple[tuple[float, float], tuple[float, float]]
    operating_point: tuple[float, float]
    swing: Array
    swing_output: float
    limit_watt: float
    limit_volt: float
    most_volt: float
    most_ampere: float
    screen_volt: float | None = None
    screen_follows: float = 0.0
    spread: tuple[Array, Array] | None = None
    ellipses: tuple[tuple[float, Array], ...] = ()


def tube_use(amplifier: SolvedAmplifier, block_id: str, part: str = "") -> TubeUse:
    """The section of a block to look at: that of the part named, else its first. Raises KeyError."""
    uses = amplifier.compiled.tubes_of(block_id)
    if not uses:
        raise KeyError(block_id)
    return next((use for use in uses if use.part == part), uses[0])


@remembered  # the amplifier before a change is asked again beside the one after it
def stage_numbers(amplifier: SolvedAmplifier, block_id: str, part: str = "") -> StageNumbers:
    """The numbers of one section of the block with that id. Raises KeyError, NoSolution."""
    use = tube_use(amplifier, block_id, part)
    state = amplifier.parts[use.part]
    source = use.source_node
    quiet = source == GROUND or abs(amplifier.phasor(source)) < 1e-9
    response = amplifier.response(use.output, "" if quiet else source)
    return StageNumbers(
        anode_volt=amplifier.voltage(use.anode),
        cathode_volt=amplifier.voltage(use.cathode),
        bias_volt=amplifier.over_cathode(use, "grid"),
        anode_ampere=state.current,
        dissipation_watt=state.dissipation,
        dissipation_limit_watt=use.limits.anode_w,
        screen_volt=amplifier.over_cathode(use, "screen") if _has_screen(use) else None,
        screen_watt=amplifier.screen_watt(use) if _has_screen(use) else None,
        gain=amplifier.gain(use.output, "" if quiet else source),
        output_ohm=abs(amplifier.small_signal.impedance(use.output, REFERENCE_HERTZ)),
        low_hertz=response.corner(REFERENCE_HERTZ, upwards=False),
        high_hertz=response.corner(REFERENCE_HERTZ, upwards=True),
        input_for_full_volt=amplifier.full_output.source_volt * abs(amplifier.phasor(use.grid)),
    )


def _has_screen(use: TubeUse) -> bool:
    return "screen" in use.nodes and use.nodes["screen"] != use.anode


def _load(amplifier: SolvedAmplifier, use: TubeUse, hertz: float) -> float:
    """What the tube sees between anode and cathode at a frequency, Ω: the real part of the impedance there with
    the tube's own conductances taken out."""
    at = amplifier.state.at
    system = at.system
    place = system.place(use.part)
    own = at.port_slopes.copy()
    own[place.injects, :] = 0.0
    matrix = system.jacobian(own) + 2j * np.pi * hertz * system.C
    terminals = system.S[:, place.ports.stop - 1]
    return float((terminals @ np.linalg.solve(matrix, terminals.astype(complex))).real)


@dataclass(frozen=True)
class TubeSignal:
    """A tube at 1 kHz per volt of the source: its anode to its cathode (V), and the anode's current (A)."""

    anode_volt: complex
    anode_ampere: complex


def small_signal(amplifier: SolvedAmplifier, use: TubeUse) -> TubeSignal:
    """One tube's part in the signal."""
    at = amplifier.state.at
    place = at.system.place(use.part)
    sensed = np.array(
        [sum(sign * amplifier.phasor(node) for node, sign in zip(nodes, (1, -1), strict=True))
         for nodes in _port_nodes(place.part)]
    )  # fmt: skip
    return TubeSignal(complex(sensed[-1]), complex(at.port_slopes[place.injects, place.ports][-1] @ sensed))


def driven_load(amplifier: SolvedAmplifier, use: TubeUse) -> float:
    """What the tube works into at 1 kHz as it is driven, Ω: its anode's voltage over its anode's current, both of the
    signal. The other half of a pair, and feedback, are in it. Without a signal, what it sees alone."""
    signal = small_signal(amplifier, use)
    if abs(signal.anode_ampere) < 1e-15:
        return _load(amplifier, use, REFERENCE_HERTZ)
    return float((-signal.anode_volt / signal.anode_ampere).real)


def _port_nodes(part: Part) -> list[tuple[str, str]]:
    return [(part.nodes[plus], part.nodes[minus]) for plus, minus in part.device.ports]


def anode_current(device: Triode | Pentode, grid: Array, screen: Array, anode: Array) -> Array:
    """Anode current at voltages to the cathode, A."""
    volts = (grid, anode) if isinstance(device, Triode) else (grid, screen, anode)
    current: Array = device.currents(np.stack(np.broadcast_arrays(*volts), axis=-1))[0][..., -1]
    return current


def anode_diagram(amplifier: SolvedAmplifier, block_id: str, part: str = "") -> AnodeDiagram:
    """The anode diagram of one section of the block with that id. Raises KeyError, NoSolution.

    The DC load line ends on the voltage axis at what the supply gives with no anode current and slopes by the whole
    resistance in the anode's path, cathode resistor and supply included; the AC line by what the tube sees at 1 kHz.
    """
    use = tube_use(amplifier, block_id, part)
    device = amplifier.netlist[use.part].device
    assert isinstance(device, (Triode, Pentode))
    volt = amplifier.over_cathode(use, "anode")
    ampere = amplifier.parts[use.part].current
    dc, ac = _load(amplifier, use, 0.0), driven_load(amplifier, use)

    row = shown_row(amplifier)
    play = driven(amplifier, use.part)
    swing = np.stack([play.volts["anode"][row], play.amperes["anode"][row]], axis=-1)

    screen_volt, follows = screen_of(amplifier, use)
    ac_end, dc_end = volt + ac * ampere, volt + dc * ampere
    most_volt = round_up(1.1 * max(ac_end if ac_end < 3 * volt else 2 * volt, swing[:, 0].max(), volt, 1.0))
    most_ampere = round_up(1.15 * max(float(swing[:, 1].max()), 2.0 * ampere, 1e-6))
    volts = np.linspace(0.0, most_volt, 49)
    bias = amplifier.over_cathode(use, "grid")
    at_screen = volts if screen_volt is None else np.maximum(screen_volt + follows * (volts - volt), 0.0)
    grids = np.array(grid_steps(2.2 * min(bias, -0.5)))
    currents = anode_current(device, grids[:, None], at_screen, volts)
    point = amplifier.sweep[row]
    return AnodeDiagram(
        volts=volts,
        curves=tuple(zip(grids.tolist(), currents, strict=True)),
        dc_line=((dc_end, 0.0), (dc_end - dc * most_ampere, most_ampere)),
        ac_line=((ac_end, 0.0), (ac_end - ac * most_ampere, most_ampere)),
        operating_point=(volt, ampere),
        swing=swing,
        swing_output=amplifier.output(point),
        limit_watt=use.limits.anode_w,
        limit_volt=use.limits.anode_v,
        most_volt=most_volt,
        most_ampere=most_ampere,
        screen_volt=screen_volt,
        screen_follows=follows,
        spread=_spread(device, bias, at_screen, volts),
        ellipses=_ellipses(amplifier, use, (volt, ampere), point.source_volt),
    )


def _spread(device: Triode | Pentode, grid: float, screen: Array, volts: Array) -> tuple[Array, Array]:
    low, high = (replace(device, scale=device.scale * factor) for factor in (1 - EMISSION, 1 + EMISSION))
    grids = np.full_like(volts, grid)
    return anode_current(low, grids, screen, volts), anode_current(high, grids, screen, volts)


def _ellipses(
    amplifier: SolvedAmplifier, use: TubeUse, idle: tuple[float, float], source_volt: float
) -> tuple[tuple[float, Array], ...]:
    """The path over a period at frequencies where a loudspeaker is far from a resistance; none where it is one."""
    if isinstance(amplifier.netlist[amplifier.load.part].device, Resistor):
        return ()
    at = amplifier.state.at
    place, turning = at.system.place(use.part), np.exp(2j * np.pi * np.arange(65) / 64)
    tone = (
        amplifier.small_signal.tone(np.array(_REACTIVE))
        / amplifier.netlist[amplifier.compiled.source.part].device.excitation().tone[2]
    )
    result = []
    for hertz, x in zip(_REACTIVE, tone, strict=True):
        sensed = x @ at.system.S[:, place.ports]
        current = at.port_slopes[place.injects, place.ports][-1] @ sensed
        peak = source_volt * 2**0.5
        path = np.stack([(peak * sensed[-1] * turning).real + idle[0], (peak * current * turning).real + idle[1]], -1)
        result.append((hertz, path))
    return tuple(result)


def screen_of(amplifier: SolvedAmplifier, use: TubeUse) -> tuple[float | None, float]:
    """A pentode's screen over its cathode at idle, and how much of the anode's swing it follows: a tap's share."""
    if not _has_screen(use):
        return None, 0.0
    screen, cathode, anode = (amplifier.phasor(use.nodes[name]) for name in ("screen", "cathode", "anode"))
    anode -= cathode
    follows = float(((screen - cathode) / anode).real) if abs(anode) > 1e-9 else 0.0
    idle = amplifier.over_cathode(use, "screen")
    return idle, min(max(follows, 0.0), 1.0)


def shown_row(amplifier: SolvedAmplifier) -> int:
    """The row of the sweep whose swing is shown: the source's own level, else the one nearest full output."""
    if amplifier.at_source is not None:
        return amplifier.sweep.index(amplifier.at_source)
    full = amplifier.full_output.power_watt
    return min(range(len(amplifier.sweep)), key=lambda row: abs(amplifier.sweep[row].power_watt - full))


def round_up(value: float) -> float:
    """The next 'round' number: 1, 1.2, 1.5, 2, 2.5, 3, 4, 5, 6, 8 times a power of ten."""
    decade = 10.0 ** np.floor(np.log10(value))
    rungs = np.array([1, 1.2, 1.5, 2, 2.5, 3, 4, 5, 6, 8, 10]) * decade
    return float(rungs[np.searchsorted(rungs, value * (1 - 1e-9))])


def grid_steps(lowest: float, count: int = 8) -> list[float]:
    """Grid voltages from 0 down to about ``lowest`` in some ``count`` round steps."""
    size = -lowest / count
    decade = 10.0 ** np.floor(np.log10(size))
    step = next(rung * decade for rung in (1.0, 2.0, 2.5, 5.0, 10.0) if rung * decade >= size * 0.999)
    return [-step * count for count in range(int(np.ceil(-lowest / step)) + 1)]
