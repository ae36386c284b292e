"""Feedback: how much there is at every frequency, how near the amplifier is to oscillating, and what would help."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from thermionic import devices
from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.solved import REFERENCE_HERTZ
from thermionic.blocks import Flow
from thermionic.blocks.facets import Loop
from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.circuit.small_signal import Linear, Response, SmallSignal
from thermionic.circuit.system import System
from thermionic.design import Design, changed, dump, find, fit_part, validate
from thermionic.devices.base import Array, ComplexArray, Device
from thermionic.lazily import lazily, remembered
from thermionic.values import Series, nearest, step

# Rules of thumb: with these the response has no peak worth the name, and tubes and parts may stray.
PHASE_MARGIN, GAIN_MARGIN = 45.0, 6.0
_OPEN = 1e9  # Ω
_CAPACITORS = (100e-9, 1e-6)
_LOWEST, _HIGHEST, _A_DECADE = 0.01, 1e8, 40
# What the upper end's margins are looked for at while a compensation is sought.
_UPPER_HERTZ = np.geomspace(200.0, _HIGHEST, 137)


@dataclass(frozen=True)
class Margin:
    """At one end of the band: the frequency at which the loop gain is 1 and how far its phase there is from turning
    the feedback round, degrees; the frequency at which its phase has turned and how far below 1 it is there, dB.
    None where there is no such frequency."""

    crossing_hertz: float | None
    phase_degrees: float | None
    turning_hertz: float | None
    gain_db: float | None

    @property
    def is_thin(self) -> bool:
        """Whether either is below what the rule of thumb asks."""
        thin_phase = self.phase_degrees is not None and self.phase_degrees < PHASE_MARGIN
        return thin_phase or (self.gain_db is not None and self.gain_db < GAIN_MARGIN)


@dataclass(frozen=True, eq=False)
class LoopGain:
    """The loop gain T of one feedback path with one load: (frequencies,), positive where the feedback is negative."""

    hertz: Array
    gain: ComplexArray

    @property
    def feedback_db(self) -> Array:
        """What the feedback takes off the gain, dB: 20 log10 |1 + T|."""
        level: Array = 20 * np.log10(np.abs(1.0 + self.gain))
        return level

    def feedback_at(self, hertz: float) -> float:
        """The same at one frequency."""
        return float(np.interp(np.log(hertz), np.log(self.hertz), self.feedback_db))

    @lazily
    def _degrees(self) -> Array:
        """The phase of T, unwrapped, with that in mid-band between -180 and 180."""
        angle = np.degrees(np.unwrap(np.angle(self.gain)))
        middle = int(np.argmin(np.abs(np.log(self.hertz / REFERENCE_HERTZ))))
        shifted: Array = angle - 360.0 * round(float(angle[middle]) / 360.0)
        return shifted

    @property
    def degrees(self) -> Array:
        """The phase of T, degrees: 0 in mid-band for negative feedback."""
        return self._degrees

    @lazily
    def is_stable(self) -> bool:
        """Whether the amplifier with this loop closed is at rest, by Nyquist's criterion: 1 + T does not go round
        the origin (H. Nyquist, "Regeneration theory", Bell System Technical Journal 11 (1932), p. 126). It holds
        where the amplifier is stable without this loop."""
        turned = np.unwrap(np.angle(1.0 + self.gain))
        return bool(abs(turned[-1] - turned[0]) < np.pi)

    @lazily
    def low(self) -> Margin:
        """The margins below the middle of the band."""
        below = self.hertz <= self._middle
        return _margin(self.hertz[below][::-1], self.gain[below][::-1], self.degrees[below][::-1])

    @lazily
    def high(self) -> Margin:
        """The margins above it."""
        above = self.hertz >= self._middle
        return _margin(self.hertz[above], self.gain[above], self.degrees[above])

    @property
    def _middle(self) -> float:
        """Where there is most feedback between 20 Hz and 20 kHz."""
        heard = (self.hertz >= 20.0) & (self.hertz <= 20e3)
        return float(self.hertz[heard][np.argmax(np.abs(self.gain[heard]))])


def _margin(hertz: Array, gain: ComplexArray, degrees: Array) -> Margin:
    """The least margins on the way outwards from the middle."""
    level = 20 * np.log10(np.maximum(np.abs(gain), 1e-30))
    log = np.log(hertz)
    phases = [
        (180.0 - abs(float(_between(degrees, at, share))), float(np.exp(_between(log, at, share))))
        for at, share in _crossings(level)
    ]
    gains = [
        (-float(_between(level, at, share)), float(np.exp(_between(log, at, share))))
        for turn in (180.0, -180.0)
        for at, share in _crossings(degrees - turn)
    ]
    phase = min(phases, default=(None, None))
    # A loop that has turned while its gain is above 1 still is the worst of all.
    margin = min(gains, default=(None, None))
    return Margin(phase[1], phase[0], margin[1], margin[0])


def _crossings(values: Array) -> Iterator[tuple[int, float]]:
    """Where a curve goes through nought: the point before, and the share of the way to the next."""
    for at in np.flatnonzero(np.signbit(values[1:]) != np.signbit(values[:-1])).tolist():
        yield at, float(values[at] / (values[at] - values[at + 1]))


def _between(values: Array, at: int, share: float) -> float:
    return float(values[at] + share * (values[at + 1] - values[at]))


def frequencies() -> Array:
    """Those at which a loop is followed, Hz: far past both ends of the band."""
    count = round(float(np.log10(_HIGHEST / _LOWEST)) * _A_DECADE) + 1
    return np.geomspace(_LOWEST, _HIGHEST, count)


def loop_gain(amplifier: SolvedAmplifier, loop: Loop, load: Device | None = None) -> LoopGain:
    """The loop gain of a feedback path, with another load in place of the amplifier's own if one is given.

    Raises NetlistRefused where the loop cannot be broken at its parts.
    """
    return _gain_of(amplifier, amplifier.state.at.system.netlist, loop.parts, load)


def _gain_of(
    amplifier: SolvedAmplifier,
    netlist: Netlist,
    parts: tuple[str, ...],
    load: Device | None = None,
    hertz: Array | None = None,
) -> LoopGain:
    hertz = frequencies() if hertz is None else hertz
    if load is not None:
        netlist = netlist.with_device(amplifier.load.part, load)
    return LoopGain(hertz, _linear(amplifier, netlist).loop_gain(parts, hertz))


def _linear(amplifier: SolvedAmplifier, netlist: Netlist) -> SmallSignal:
    """The amplifier's circuit with linear parts changed or added. None of them has ports, so that the devices' slopes
    stay as they are."""
    if netlist is amplifier.state.at.system.netlist:
        return amplifier.small_signal
    system = System(netlist)
    return SmallSignal(Linear(system, system.jacobian(amplifier.state.at.port_slopes)))


@dataclass(frozen=True)
class LoadCase:
    """What a loop is with one load: its name, whether the values in it are assumed, and the loop gain."""

    name: str
    assumed: bool
    loop: LoopGain


@remembered
def load_cases(amplifier: SolvedAmplifier, block_id: str) -> tuple[LoadCase, ...]:
    """A feedback path with the load as designed, a loudspeaker's own curve, none, and capacitors. Raises KeyError
    for a block that is no loop, NetlistRefused."""
    loop = loop_of(amplifier, block_id)
    own = amplifier.netlist[amplifier.load.part].device
    ohm = amplifier.load.ohm
    cases: list[tuple[str, bool, Device | None]] = [("as designed", False, None)]
    if amplifier.load.power:
        if isinstance(own, devices.Resistor):
            cases.append(("a usual loudspeaker's curve", True, usual_loudspeaker(ohm)))
        else:
            cases.append((f"a resistance of {ohm:g} Ω", False, devices.Resistor(ohm)))
        cases += [(f"{_written(farad)} alone", False, devices.Capacitor(farad)) for farad in _CAPACITORS]
    cases.append(("nothing connected", False, devices.Resistor(_OPEN)))
    return tuple(LoadCase(name, assumed, loop_gain(amplifier, loop, load)) for name, assumed, load in cases)


def usual_loudspeaker(ohm: float) -> devices.Driver:
    """A moving-coil driver of a nominal impedance with figures in the middle of the usual: assumed, where nothing
    was measured."""
    return devices.Driver(0.8 * ohm, 50e-6 * ohm, 55.0, 4.0, 0.5)


def _written(farad: float) -> str:
    return f"{farad * 1e9:g} nF" if farad < 1e-6 else f"{farad * 1e6:g} µF"


def loop_of(amplifier: SolvedAmplifier, block_id: str) -> Loop:
    """The feedback path of that block. Raises KeyError."""
    for loop in amplifier.compiled.loops:
        if loop.block == block_id:
            return loop
    raise KeyError(block_id)


@dataclass(frozen=True, eq=False)
class WithAndWithout:
    """The amplifier with a feedback path and with its parts lifted: the response from the source to the load, and
    the impedance at the load's terminals without the load, Ω, (frequencies,)."""

    hertz: Array
    closed: Response
    opened: Response
    closed_ohm: Array
    opened_ohm: Array


@remembered
def with_and_without(amplifier: SolvedAmplifier, block_id: str) -> WithAndWithout:
    """See WithAndWithout; the operating point is kept as it is. Raises KeyError."""
    loop = loop_of(amplifier, block_id)
    netlist = amplifier.state.at.system.netlist
    for part in loop.parts:
        netlist = netlist.with_device(part, devices.Resistor(_OPEN))
    hertz = np.geomspace(1.0, 1e6, 241)
    found = []
    for small in (amplifier.small_signal, _linear(amplifier, netlist)):
        system = small.at.system
        node = system.node(amplifier.load.node)
        columns = np.hstack([system.tone[:, None], small.push(amplifier.load.node)])
        solved = small.respond(hertz, columns)[:, node]
        source = amplifier.netlist[amplifier.compiled.source.part].device.excitation().tone[2]
        found.append((Response(hertz, solved[:, 0] / source), np.abs(amplifier.without_load(hertz, solved[:, 1]))))
    return WithAndWithout(hertz, found[0][0], found[1][0], found[0][1], found[1][1])


@dataclass(frozen=True)
class Compensation:
    """A change that widens the margins, with what it costs. ``margin`` and ``before`` are at the upper end with the
    load as designed; ``worst`` is the least phase margin over all loads; the peaks are of the response above 1 kHz,
    dB, the corners its upper -3 dB, and ``feedback_db`` what is left at 10 kHz. A step network goes from ``place``, a
    port, to earth."""

    kind: str
    farad: float
    ohm: float
    margin: Margin
    before: Margin
    worst: float
    worst_before: float
    peak_db: float
    peak_before_db: float
    corner_hertz: float | None
    corner_before_hertz: float | None
    feedback_db: float
    feedback_before_db: float
    enough: bool
    place: str = ""


@remembered
def compensations(amplifier: SolvedAmplifier, block_id: str) -> tuple[Compensation, ...]:
    """A lead capacitor across the feedback resistor and a step network at the first anode in the loop, each where it
    widens thin margins at the upper end; empty where they are not thin. Raises KeyError, NetlistRefused."""
    loop = loop_of(amplifier, block_id)
    own = _uppers(amplifier, amplifier.state.at.system.netlist, loop.parts)
    if _worth(own) >= 1.0:
        return ()
    found = [_lead(amplifier, loop, own), _network(amplifier, loop, own)]
    return tuple(one for one in found if one is not None)


@dataclass(frozen=True)
class _Trial:
    """A circuit with a compensation of so many farads and ohms in it, and the parts that carry its feedback."""

    farad: float
    ohm: float
    netlist: Netlist
    carried: tuple[str, ...]


def _lead(amplifier: SolvedAmplifier, loop: Loop, own: list[LoopGain]) -> Compensation | None:
    if not loop.lead:
        return None
    netlist = amplifier.state.at.system.netlist
    trials = []
    for farad in _series(10e-12, 22e-9):
        capacitor = devices.Capacitor(farad)
        if len(loop.parts) > 1:
            trials.append(_Trial(farad, 0.0, netlist.with_device(loop.parts[1], capacitor), loop.parts))
        else:
            added = netlist.with_parts([Part("CLEAD", capacitor, netlist[loop.part].nodes)])
            trials.append(_Trial(farad, 0.0, added, (*loop.parts, "CLEAD")))
    return _best(amplifier, "lead", own, trials)


def _network(amplifier: SolvedAmplifier, loop: Loop, own: list[LoopGain]) -> Compensation | None:
    first = _first_inside(amplifier, loop)
    if first is None:
        return None
    netlist = amplifier.state.at.system.netlist
    impedance = abs(amplifier.small_signal.impedance(first.anode, REFERENCE_HERTZ))
    trials = []
    for share in (0.1, 0.2, 0.4):
        ohm = nearest(impedance * share, Series.E12)
        for farad in _series(22e-12, 4.7e-9)[::2]:
            parts = (
                Part("RSTEP", devices.Resistor(ohm), (amplifier.compiled.node(first.anode), "step_network")),
                Part("CSTEP", devices.Capacitor(farad), ("step_network", GROUND)),
            )
            trials.append(_Trial(farad, ohm, netlist.with_parts(parts), loop.parts))
    best = _best(amplifier, "step", own, trials)
    place = _place(amplifier, amplifier.compiled.node(first.anode))
    return replace(best, place=place) if best and place else None


def _place(amplifier: SolvedAmplifier, node: str) -> str:
    """The port that names a node, as ``block.port``; "" where none does."""
    for block in amplifier.design.blocks:
        for port, flow in block.ports().items():
            named = flow in (Flow.PLACE, Flow.SIGNAL) and not block.sided(port)
            if named and amplifier.compiled.node(block.node(port)) == node:
                return f"{block.id}.{port}"
    return ""


def _series(least: float, most: float) -> list[float]:
    found = [least]
    while found[-1] < most * 0.999:
        found.append(step(found[-1], Series.E12, 1))
    return found


def _first_inside(amplifier: SolvedAmplifier, loop: Loop):  # type: ignore[no-untyped-def]
    """The first tube on the signal's way that the loop's end acts on: one with its cathode or grid, or what leads
    there, at the far end of the feedback's parts."""
    ends = set(amplifier.state.at.system.netlist[loop.part].nodes)
    uses = [use for use in amplifier.compiled.tubes if use.block in amplifier.route]
    uses.sort(key=lambda use: amplifier.route.index(use.block))
    name = amplifier.compiled.node
    for use in uses:
        if ends & {name(use.cathode), name(use.grid)}:
            return use
    return uses[0] if uses else None


def _best(amplifier: SolvedAmplifier, kind: str, own: list[LoopGain], trials: list[_Trial]) -> Compensation | None:
    """The first trial that gives margins enough with every load, else that with the widest; None if none helps."""
    best, worth, uppers = None, _worth(own) + 0.02, own
    for trial in trials:
        tried = _uppers(amplifier, trial.netlist, trial.carried)
        if _worth(tried) > worth:
            best, worth, uppers = trial, _worth(tried), tried
        if worth >= 1.0:
            break
    if best is None:
        return None
    was, now = _shape(amplifier, amplifier.state.at.system.netlist), _shape(amplifier, best.netlist)
    return Compensation(
        kind, best.farad, best.ohm, uppers[0].high, own[0].high, _least_phase(uppers), _least_phase(own),
        now[0], was[0], now[1], was[1], uppers[0].feedback_at(10e3), own[0].feedback_at(10e3), worth >= 1.0,
    )  # fmt: skip


def _uppers(amplifier: SolvedAmplifier, netlist: Netlist, carried: tuple[str, ...]) -> list[LoopGain]:
    """The loop as designed, with nothing connected and with a capacitor."""
    loads: list[Device | None] = [None]
    if amplifier.load.power:
        loads += [devices.Resistor(_OPEN), devices.Capacitor(_CAPACITORS[0])]
    return [_gain_of(amplifier, netlist, carried, load, _UPPER_HERTZ) for load in loads]


def _least_phase(loops: list[LoopGain]) -> float:
    """The least phase margin at the upper end, degrees; below 0 where it oscillates."""
    found = []
    for one in loops:
        phase = one.high.phase_degrees
        found.append((180.0 if phase is None else phase) if one.is_stable else min(phase or 0.0, 0.0))
    return min(found)


def _worth(loops: list[LoopGain]) -> float:
    """1 where the margins with the load as designed are wide enough and every other load leaves it at rest with half
    of that; less in the measure that they are not."""
    shares = []
    for place, one in enumerate(loops):
        wanted = 1.0 if place == 0 else 0.4
        if not one.is_stable:
            shares.append(-1.0)
            continue
        phase, gain = one.high.phase_degrees, one.high.gain_db
        shares.append(1.0 if phase is None else phase / (PHASE_MARGIN * wanted))
        shares.append(1.0 if gain is None else gain / (GAIN_MARGIN * wanted))
    return min(1.0, *shares)


def _shape(amplifier: SolvedAmplifier, netlist: Netlist) -> tuple[float, float | None]:
    """The response's peak above 1 kHz, dB, and its upper corner, Hz."""
    hertz = np.geomspace(1e3, 1e6, 121)
    small = _linear(amplifier, netlist)
    system = small.at.system
    gain = small.tone(hertz)[:, system.node(amplifier.load.node)]
    response = Response(hertz, gain)
    return float(response.decibels.max() - response.decibels[0]), response.corner(1e3, upwards=True)


def compensated(design: Design, block_id: str, kind: str, farad: float, ohm: float, place: str) -> Design:
    """The design with a ``lead`` capacitor in a feedback block, or a ``step`` network from a ``place``
    (``block.port``) to earth. Raises DesignRefused."""
    if kind == "lead":
        path = f"blocks/{block_id}/capacitor"
        fitted = design if find(design, path).value else fit_part(design, path, True)
        return changed(fitted, f"{path}/farad", farad)
    raw = dump(design)
    names = {block.id for block in design.blocks}
    raw["blocks"].append(
        {"id": next(one for one in _names() if one not in names), "kind": "extra-part", "scope": "channel",
         "a": place, "resistor": {"ohm": ohm, "rating_watt": 0.5},
         "capacitor": {"farad": farad, "rating_volt": 400.0, "tolerance": 0.1}}
    )  # fmt: skip
    return validate(raw)


def _names() -> Iterator[str]:
    yield "step_network"
    count = 2
    while True:
        yield f"step_network_{count}"
        count += 1
