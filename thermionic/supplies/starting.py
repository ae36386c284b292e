"""From the switch: the first cycles, the first two minutes, and switched on again while hot."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from thermionic.amplifier import Compiled, SolvedAmplifier, compile_design
from thermionic.blocks.facets import Copper, Rectified, Standby
from thermionic.blocks.fields import FusePart
from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.circuit.startup import StartUp, start_up
from thermionic.circuit.system import System
from thermionic.circuit.transient import Accuracy, Transient, transient
from thermionic.design import Capacitor, Resistor
from thermionic.devices import Contact, Fuse, MainsSource
from thermionic.devices import Resistor as ResistorDevice
from thermionic.devices.base import Array
from thermionic.devices.thermal import Hot

MINUTE = 60.0
LONG = 2 * MINUTE  # what is followed from the switch
_CYCLES = 8  # of the mains, that the first surge is followed for
_ACCURACY = Accuracy(relative=1e-3, volt=1e-2, other=1e-4)
_SOAKS = 1.0  # s: what a resistor's own body takes up without getting hot
_SHORT_OHM = 0.02
_HOT_RISE = 175.0  # of a thermistor in a short, K
_CURVE = 240  # points that are kept of a curve


@dataclass(frozen=True)
class Peak:
    """The most that something came to: volts or amperes, and how many seconds after the switch."""

    value: float
    second: float


@dataclass(frozen=True)
class SwitchOn:
    """The first two minutes on one mains: ``seconds`` (points,); the mean voltage of each rail by its name, V; what
    flows in the fuse, A rms (empty without one); every capacitor's highest voltage and every resistor's
    greatest heat in a second (W, without its ripple's), by designator; and when the fuse went, None if it held.
    ``off_at`` is when it was switched off again, None if it was not."""

    mains_volt: float
    seconds: Array
    rails: dict[str, Array]
    fuse_ampere: Array
    capacitors: dict[str, Peak]
    resistors: dict[str, Peak]
    blown: float | None
    off_at: float | None = None


@dataclass(frozen=True)
class Surge:
    """The first cycles after the switch is closed at the mains' crest: the peak in each rectifier, by its block, A;
    the mains' own, A; and what had gone through the fuse when it was over, A² s, with what it melts at (None without
    a fuse). ``hot`` it is of tubes at emission into empty capacitors: switched off and on again."""

    mains_volt: float
    hot: bool
    rectifiers: dict[str, Peak]
    mains: Peak | None
    fuse_i2t: float | None
    melting_i2t: float | None


def switch_on(
    amplifier: SolvedAmplifier,
    volt: float,
    until: float = LONG,
    off_at: float | None = None,
    opened: Collection[str] = (),
) -> SwitchOn:
    """Switched on with everything cold and empty, its tubes coming to temperature at their own pace; ``opened`` are
    the designators of parts left out. Raises NoSolution, BudgetSpent, NetlistRefused where nothing is rectified."""
    compiled = compile_design(amplifier.design.on_mains(volt)).warming()
    netlist = _with_fuses(compiled).without(lambda part: part.name in opened)
    run = start_up(netlist, until, off_at)
    fuse = next((name for name in run.rms_ampere if isinstance(netlist[name].device, Fuse)), None)
    changes = [
        0.0,
        *([] if off_at is None else [off_at]),
        *(use.closes_at for use in compiled.said(Standby) if use.closes_at < until),
    ]
    seconds, rails = _thinned(
        run, changes, {rail.name: run.voltage(compiled.node(rail.node)) for rail in compiled.rails}
    )
    _, flows = _thinned(run, changes, {"": run.rms_ampere[fuse]} if fuse else {})
    return SwitchOn(
        volt, seconds, rails, flows.get("", np.zeros(0)), _peaks(compiled, netlist, run, Capacitor),
        _peaks(compiled, netlist, run, Resistor), min(run.blown.values(), default=None), off_at,
    )  # fmt: skip


def _with_fuses(compiled: Compiled) -> Netlist:
    """The circuit with fuses that melt, which at work are resistances."""
    netlist = compiled.netlist
    for path, fuse in compiled.components(FusePart):
        for name in compiled.designators(path):
            netlist = netlist.with_device(name, fuse.fuse())
    return netlist


def _thinned(run: StartUp, changes: Iterable[float], curves: dict[str, Array]) -> tuple[Array, dict[str, Array]]:
    """Few enough points for a picture, and where things happen: after every one of ``changes``, s."""
    end = float(run.seconds[-1])
    edges = sorted(set(changes))
    each = [begin + np.geomspace(2e-3, end - begin, _CURVE // 2) for begin in edges]
    grid = np.unique(np.concatenate([edges, *each, np.linspace(0.0, end, _CURVE // 2)]))
    return grid, {name: np.interp(grid, run.seconds, curve) for name, curve in curves.items()}


def _peaks(
    compiled: Compiled, netlist: Netlist, run: StartUp, kind: type[Capacitor] | type[Resistor]
) -> dict[str, Peak]:
    """The highest voltage of every capacitor, or the greatest heat of every resistor, the mean of a second."""
    from scipy.integrate import (
        cumulative_trapezoid,  # takes a while to import, which nothing before the first page needs
    )

    result = {}
    for path, part in compiled.components(kind):
        for name in compiled.designators(path):
            if name in netlist:
                plus, minus = netlist[name].nodes
                most = np.abs(run.voltage(plus) - run.voltage(minus))
                if isinstance(part, Resistor):
                    joule = cumulative_trapezoid(most**2 / part.ohm, run.seconds, initial=0)
                    most = (joule - np.interp(run.seconds - _SOAKS, run.seconds, joule)) / _SOAKS
                result[name] = _peak(run.seconds, most)
    return result


def surge(amplifier: SolvedAmplifier, volt: float, *, hot: bool = False) -> Surge:
    """The first cycles of the mains, switched on at its crest with every capacitor empty: with the tubes cold and a
    standby switch open, or ``hot`` and closed. Raises NoSolution, BudgetSpent.

    The core of the mains transformer is taken not to saturate: its own surge, which hangs on where in the cycle it
    was switched off, comes on top and is not computed.
    """
    compiled = compile_design(amplifier.design.on_mains(volt))
    netlist = compiled.netlist if hot else compiled.warming().netlist
    for part in netlist.parts:
        if isinstance(part.device, Contact) and not hot:
            netlist = netlist.with_device(part.name, part.device.at_time(0.0))
        if isinstance(part.device, MainsSource):
            netlist = netlist.with_device(part.name, replace(part.device, phase=np.pi / 2))
    hertz = amplifier.design.brief.mains_hertz
    until = _CYCLES / hertz
    run = transient(System(netlist), until, at_rest=True, accuracy=_ACCURACY, longest=0.01 / hertz)
    arms = {}
    for use in compiled.said(Rectified):
        waves = [_through(netlist, run, name) for name in use.parts]
        arms[use.block] = max((_peak(run.seconds, wave) for wave in waves), key=lambda peak: peak.value)
    fuse = next(((name, part) for path, part in compiled.components(FusePart) for name in compiled.designators(path)),
                None)  # fmt: skip
    if fuse is None:
        return Surge(volt, hot, arms, None, None, None)
    name, fitted = fuse
    ohm = float(netlist[name].device.ohm)  # type: ignore[attr-defined]
    current = (run.voltage(netlist[name].nodes[0]) - run.voltage(netlist[name].nodes[1])) / ohm
    i2t = float(np.trapezoid(current**2, run.seconds))
    return Surge(volt, hot, arms, _peak(run.seconds, np.abs(current)), i2t, float(fitted.fuse().melting_i2t))


def _through(netlist: Netlist, run: Transient, name: str) -> Array:
    """The current in a rectifier's arm at every point, A, (points,); of two anodes the larger."""
    device: Any = netlist[name].device
    nodes = netlist[name].nodes
    ports = np.stack(
        [run.voltage(nodes[plus]) - run.voltage(nodes[minus]) for plus, minus in device.ports], axis=-1
    )  # fmt: skip
    currents = np.array([device.at_time(second).currents(volts)[0] for second, volts in
                         zip(run.seconds, ports, strict=True)])  # fmt: skip
    largest: Array = currents.max(axis=-1)
    return largest


def _peak(seconds: Array, wave: Array) -> Peak:
    place = int(np.argmax(wave))
    return Peak(float(wave[place]), float(seconds[place]))


def shorted_ampere(amplifier: SolvedAmplifier, block: str) -> float | None:
    """The current in the fuse with the rectifier of ``block`` shorted, A rms; None without a fuse or a rectifier, or
    where that is fed through a capacitor."""
    compiled = amplifier.compiled
    fuse = next((name for path, _ in compiled.components(FusePart) for name in compiled.designators(path)), None)
    use = next((rectified for rectified in compiled.said(Rectified) if rectified.block == block), None)
    if fuse is None or use is None or use.form == "coupled":
        return None
    # What is shorted then draws alone: the winding with its copper, the primary's and all that is before it.
    copper = next(copper for copper in compiled.said(Copper) if copper.block == use.winding)
    end = compiled.netlist[copper.part].nodes[1]
    short = compiled.netlist.without(lambda part: part.device.rectifies)
    for part in short.parts:
        if isinstance(part.device, Hot):
            short = short.with_device(part.name, ResistorDevice(part.device.ohm_at(_HOT_RISE)))
    short = short.with_parts([Part("RSHORT", ResistorDevice(_SHORT_OHM), (end, GROUND))])
    system = System(short)
    x = np.linalg.solve(system.G + 1e-9 * np.eye(system.size), system.b_dc)
    at = dict(zip(system.nodes, x, strict=False))
    a, b = (at.get(node, 0.0) for node in short[fuse].nodes)
    # The mean of a rectified sine is 2/pi of its peak; what flows is one, since all that is left is resistance.
    mean = abs(a - b) / float(short[fuse].device.ohm)  # type: ignore[attr-defined]
    return float(mean * np.pi / 2 / 2**0.5)
