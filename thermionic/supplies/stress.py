"""Every part of a supply at its worst steady moment, against what it is made for."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks import Group
from thermionic.blocks.facets import Copper, Core, GasUse, PassUse, Rectified
from thermionic.blocks.fields import Choke, FusePart, SmoothingCapacitor
from thermionic.blocks.ports import block_at
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.supply_state import CircuitState
from thermionic.design import Capacitor, Resistor, find
from thermionic.lazily import remembered
from thermionic.supplies.moments import Moment, moments
from thermionic.supplies.rectifying import rectifying
from thermionic.values import Quantity


@dataclass(frozen=True)
class Stress:
    """One quantity of one part at the moment at which it is worst: the part's path and designator, what it is, its
    value and limit (None where none is known) in the units of ``quantity``, and the moment in words."""

    path: str
    designator: str
    what: str
    value: float
    limit: float | None
    quantity: Quantity
    moment: str

    @property
    def share(self) -> float | None:
        """Of its limit."""
        return self.value / self.limit if self.limit else None


Value = Callable[[Moment], float | None]


def _worst(found: tuple[Moment, ...], value: Value) -> tuple[float, Moment] | None:
    values = [(one, moment) for moment in found if (one := value(moment)) is not None]
    return max(values, key=lambda pair: pair[0], default=None)


def drop(state: CircuitState, name: str) -> np.ndarray | None:
    """The voltage across a two-terminal part over the mains cycle, V; None where it is not in the circuit."""
    if name not in state.netlist:
        return None
    a, b = state.netlist[name].nodes
    if state.mains is None:
        at, back = (0.0 if node == GROUND else state.at.voltage(node) for node in (a, b))
        return np.array([at - back])
    wave: np.ndarray = state.mains.node_waveform(a) - state.mains.node_waveform(b)
    return wave


def _most(name: str, moment: Moment) -> float | None:
    across = drop(moment.state, name)
    return None if across is None else float(np.max(np.abs(across)))


def _flows(name: str, moment: Moment) -> float | None:
    return ripple_ampere(moment.state, name)


def _rectifies(use: Rectified, what: str, moment: Moment) -> float:
    return float(getattr(rectifying(moment.state, use), what))


def _carried(name: str, moment: Moment) -> float:
    return float(moment.state.at.terminal_currents[name][0])


def _heat(name: str, ohm: float, moment: Moment) -> float | None:
    across = drop(moment.state, name)
    return None if across is None else float(np.mean(across**2)) / ohm


def _rms(name: str, moment: Moment) -> float | None:
    across = drop(moment.state, name)
    if across is None:
        return None
    return float(np.mean(across**2) ** 0.5) / float(moment.state.netlist[name].device.ohm)  # type: ignore[attr-defined]


def ripple_ampere(state: CircuitState, name: str) -> float | None:
    """The current that ripple drives through a capacitor, A rms, from its voltage's harmonics; None where it is not
    in the circuit."""
    mains = state.mains
    if mains is None or name not in state.netlist:
        return None
    zero = np.zeros(mains.x.shape[-1])
    a, b = (zero if node == GROUND else mains.x[mains.system.node(node)] for node in state.netlist[name].nodes)
    order = np.arange(mains.x.shape[-1])
    farad = float(state.netlist[name].device.farad)  # type: ignore[attr-defined]
    currents = 2 * np.pi * mains.hertz * order * farad * np.abs(a - b)
    return float(np.sqrt(np.sum(currents[1:] ** 2) / 2))


@remembered
def stresses(amplifier: SolvedAmplifier) -> tuple[Stress, ...]:
    """Every part of the supplies at its worst steady moment, the most strained first, those without a known limit
    last. The first seconds are not among them: see ``starting``. Raises NoSolution."""
    result = [*_parts(amplifier), *_rectifiers(amplifier), *_iron(amplifier), *_regulators(amplifier)]
    return tuple(sorted(result, key=lambda one: -(one.share if one.share is not None else -1.0)))


def _is_supply(amplifier: SolvedAmplifier, path: str) -> bool:
    return amplifier.design.block(block_at(path)).group is Group.SUPPLY


def _parts(amplifier: SolvedAmplifier) -> Iterator[Stress]:
    compiled, when = amplifier.compiled, moments(amplifier)
    for path, capacitor in compiled.components(Capacitor):
        for name in compiled.designators(path)[:1]:
            if not _is_supply(amplifier, path):
                continue
            worst = _worst(when, partial(_most, name))
            if worst:
                yield Stress(path, name, "voltage", worst[0], capacitor.rating_volt, Quantity.VOLTAGE, worst[1].words)
            flows = _worst(when, partial(_flows, name))
            if flows and flows[0] > 1e-3:
                made_for = capacitor.ripple_ampere if isinstance(capacitor, SmoothingCapacitor) else None
                yield Stress(path, name, "ripple current, rms", flows[0], made_for, Quantity.CURRENT, flows[1].words)
    for path, resistor in compiled.components(Resistor):
        for name in compiled.designators(path)[:1]:
            if not _is_supply(amplifier, path):
                continue
            worst = _worst(when, partial(_heat, name, resistor.ohm))
            if worst:
                yield Stress(path, name, "heat", worst[0], resistor.rating_watt, Quantity.POWER, worst[1].words)
    for path, fuse in compiled.components(FusePart):
        name = compiled.designator(path)
        worst = _worst(when, partial(_rms, name))
        if worst:
            yield Stress(path, name, "current, rms", worst[0], fuse.ampere, Quantity.CURRENT, worst[1].words)


def _rectifiers(amplifier: SolvedAmplifier) -> Iterator[Stress]:
    when = moments(amplifier)
    for use in amplifier.compiled.said(Rectified):
        diode = find(amplifier.design, use.diode).value if use.diode else None
        limits = amplifier.design.tube_of(use.tube).unit("rectifier").rectifier_limits if use.tube else None
        arms = 2 if use.form in ("bridge", "full-wave") else 1
        reverse = diode.total_volt if diode else limits.reverse_v if limits else None
        mean = limits.output_a if limits else diode.ampere * arms if diode else None
        for what, name, limit, quantity in (
            ("reverse voltage", "reverse_volt", reverse, Quantity.VOLTAGE),
            ("peak current", "peak_ampere", limits.peak_a if limits else None, Quantity.CURRENT),
            ("steady current", "mean_ampere", mean, Quantity.CURRENT),
        ):
            worst = _worst(when, partial(_rectifies, use, name))
            if worst:
                yield Stress(f"blocks/{use.block}", use.parts[0], what, worst[0], limit, quantity, worst[1].words)


def _iron(amplifier: SolvedAmplifier) -> Iterator[Stress]:
    compiled, when = amplifier.compiled, moments(amplifier)
    for copper in compiled.said(Copper):
        worst = _worst(when, partial(_rms, copper.part))
        if worst:
            value = worst[0] * copper.share**0.5
            path = f"blocks/{copper.block}"
            limit = copper.rating_ampere
            yield Stress(path, copper.part, "winding, rms", value, limit, Quantity.CURRENT, worst[1].words)
    for core in compiled.said(Core):
        worst = _worst(when, partial(_rms, core.part))
        if worst:
            path, rating = f"blocks/{core.block}", core.rating_va
            limit = rating / core.tap_volt if rating else None
            yield Stress(path, core.part, "primary, rms", worst[0], limit, Quantity.CURRENT, worst[1].words)
    for path in compiled.by_path:
        choke = find(amplifier.design, path).value
        if isinstance(choke, Choke) and _is_supply(amplifier, path):
            name = compiled.designator(path)
            worst = _worst(when, partial(_branch, name))
            if worst:
                limit = choke.rating_ampere
                yield Stress(path, name, "steady current", worst[0], limit, Quantity.CURRENT, worst[1].words)


def _branch(name: str, moment: Moment) -> float | None:
    at = moment.state.at
    return abs(float(at.x[at.system.branch(name)])) if name in at.system.netlist else None


def _regulators(amplifier: SolvedAmplifier) -> Iterator[Stress]:
    when = [moment for moment in moments(amplifier) if moment.when == "working"]
    for use in amplifier.compiled.said(PassUse):
        part = find(amplifier.design, use.path).value

        def watt(moment: Moment, use: PassUse = use) -> float:
            at = moment.state.at
            return float(at.terminal_currents[use.part][0]) * (at.voltage(use.drain) - at.voltage(use.source))

        worst = _worst(tuple(when), watt)
        if worst:
            limit = (150.0 - 45.0) / (part.sink_kelvin_per_watt + 125.0 / part.rating_watt)
            yield Stress(use.path, use.part, "heat on its sink", worst[0], limit, Quantity.POWER, worst[1].words)
    for gas in amplifier.compiled.said(GasUse):
        limits = gas.type.unit("regulator").regulator_limits
        worst = _worst(tuple(when), partial(_carried, gas.part))
        if worst and limits:
            path = f"blocks/{gas.block}"
            yield Stress(path, gas.part, "current", worst[0], limits.most_a, Quantity.CURRENT, worst[1].words)
