"""The operating point of a circuit fed by rectifiers: solved over the mains cycle, not by rule of thumb.

The rectifiers (tubes, silicon or selenium, any number, with whatever windings) see the rest of the circuit
linearised: its exact DC load line near the solution, its impedance at every harmonic of the mains. Their ports
are balanced against it. The rest sees the rectifiers as the straight lines that they are around their mean
currents. The two are iterated until they agree.
"""

from __future__ import annotations

import numpy as np

from thermionic import budget
from thermionic.circuit.netlist import Netlist, Part
from thermionic.circuit.operating_point import operating_point
from thermionic.circuit.rectified import BESIDE, REFERENCE, RectifierPorts, rectifiers_on_mains
from thermionic.circuit.small_signal import respond
from thermionic.circuit.supply_state import CircuitState, MainsState
from thermionic.circuit.system import System
from thermionic.devices import Resistor
from thermionic.devices.base import Array, ComplexArray
from thermionic.devices.thermal import Hot
from thermionic.errors import NoSolution

# With these harmonics of the ripple mean currents are good to 3 parts in 100,000 (root mean square over 34 supplies;
# the worst to 8) and peak currents to 0.1 %, or where they are short spikes to 8 %: measured against 192 of them and
# 800 samples.
HARMONICS, SAMPLES = 36, 112
# The rectifiers and their load agree when they are this close, relative: a millivolt in 300 V.
AGREED = 3e-6
_ROUNDS = 40
_SETTLED_KELVIN = 0.1  # of a thermistor or lamp


def solve_circuit(netlist: Netlist, near: CircuitState | None = None) -> CircuitState:
    """The operating point of ``netlist``, its rectifiers solved over the mains cycle if it is on the mains.

    On the mains is what has a MainsSource; else the plain operating point is found.
    ``near`` is a solution of a similar circuit to start from. Raises NoSolution, NetlistRefused and BudgetSpent.
    """
    with budget.at_most():
        hot = [part for part in netlist.parts if isinstance(part.device, Hot)]
        if not hot or not rectifiers_on_mains(netlist):
            return _alternate(netlist, near)
        return _warmed_through(netlist, hot, near)


def _warmed_through(netlist: Netlist, hot: list[Part], near: CircuitState | None) -> CircuitState:
    """The steady state with every thermistor and lamp at the temperature that its own mean heat keeps it at.

    They warm over many mains cycles, so within one each is a resistance.
    """
    rises = {part.name: _rise_before(part, near) for part in hot}
    last: dict[str, tuple[float, float]] = {}
    state = near
    for _ in range(60):
        cold = netlist
        for part in hot:
            cold = cold.with_device(part.name, Resistor(part.device.ohm_at(rises[part.name])))  # type: ignore[attr-defined]
        state = _alternate(cold, state)
        settled = True
        for part in hot:
            name, rise = part.name, rises[part.name]
            off = part.device.steady_rise(resistor_heat(state, cold[name])) - rise  # type: ignore[attr-defined]
            settled &= abs(off) < _SETTLED_KELVIN
            # By the secant through the last two, which is where a cooler part that is warmed less would settle.
            change = 0.6 * off
            if name in last and abs(rise - last[name][0]) > 1e-6:
                slope = (off - last[name][1]) / (rise - last[name][0])
                change = -off / slope if slope < -0.2 else change
            last[name] = rise, off
            rises[name] = rise + float(np.clip(change, -60.0, 60.0))
        if settled:
            return CircuitState(netlist, state.at, state.mains)
    raise NoSolution(
        f"{netlist.title}: {hot[0].name} does not settle at a temperature.",
        tried=("its steady heat, again and again",),
        where=hot[0].name,
    )


def _rise_before(part: Part, near: CircuitState | None) -> float:
    """The rise that a thermistor or lamp had in a similar circuit; else that of a watt in it."""
    device = part.device
    assert isinstance(device, Hot)
    now = near.at.system.netlist if near is not None else None
    was = now[part.name].device if now is not None and part.name in now else None
    if not isinstance(was, Resistor):
        return device.steady_rise(1.0)
    low, high = 0.0, 600.0
    falls = device.ohm_at(low) > device.ohm_at(high)
    for _ in range(40):
        middle = 0.5 * (low + high)
        if (device.ohm_at(middle) > float(was.ohm)) == falls:
            low = middle
        else:
            high = middle
    return 0.5 * (low + high)


def resistor_heat(state: CircuitState, part: Part) -> float:
    """Mean power in a two-terminal resistor over the mains cycle, W."""
    assert isinstance(part.device, Resistor)
    if state.mains is None:
        volts = np.array([state.at.voltage(part.nodes[0]) - state.at.voltage(part.nodes[1])])
    else:
        volts = state.mains.node_waveform(part.nodes[0]) - state.mains.node_waveform(part.nodes[1])
    return float(np.mean(volts**2) / part.device.ohm)


def _alternate(netlist: Netlist, near: CircuitState | None) -> CircuitState:
    """The operating point and the mains cycle in turns until they agree; see solve_circuit."""
    if not rectifiers_on_mains(netlist):
        system = System(netlist)
        return CircuitState(netlist, operating_point(system, _unknowns(near, system)), None)
    ports = RectifierPorts(netlist, HARMONICS, SAMPLES)
    x: Array | None = None
    previous: Array | float = np.inf
    reach: ComplexArray | None = None
    # Port voltages to start from, with what the currents drop that they are moved behind.
    start: ComplexArray | None = None
    last = near.mains if near else None
    if last and (last.stand_in.pairs != ports.pairs or last.volts.shape[-1] != len(ports.hertz)):
        last = None
    stand_in = last.stand_in if last else ports.guessed_line()
    for _ in range(_ROUNDS):
        budget.check(f"solving {netlist.title} over the mains cycle")
        system = ports.open.with_device(ports.name, stand_in)
        at = operating_point(system, x if x is not None else _unknowns(near, system))
        x = at.x
        output = x @ ports.ports
        drawn = stand_in.ampere + stand_in.siemens @ output
        slopes = ports.open.jacobian(at.port_slopes)
        still = float(np.max(np.abs(output - previous))) <= 1e-4 * float(np.max(np.abs(output)))
        if reach is None or not still:
            reach = respond(ports.open, slopes, ports.hertz, ports.columns)
            mains = np.einsum("kns,ks->kn", reach[..., len(output) :], ports.drive)
            reach = reach[..., : len(output)]
        else:
            still_reach = respond(ports.open, slopes, ports.hertz[:1], ports.columns)[..., : len(output)]
            reach = np.concatenate([still_reach, reach[1:]])
        impedance = np.einsum("np,knq->kpq", ports.ports, reach)
        lone = impedance[0].real + BESIDE * np.eye(len(output))
        impedance[0] = lone
        open_volts = (mains @ ports.ports).T[None]
        open_volts[0, :, 0] = output + lone @ (drawn - REFERENCE * output)
        if start is None:
            ports.move_behind(impedance)
            if last:
                start = ports.moved_behind(last.volts[None], (last.amperes - REFERENCE * last.volts)[None])
            else:
                start = ports.roughly(impedance, open_volts, output)
        solved = ports.balanced(impedance, open_volts, start)
        volts, start = solved.volts[0], ports.moved_behind(solved.volts, solved.amperes)
        amperes = solved.amperes[0] + REFERENCE * volts
        mean = volts[:, 0].real
        stand_in = ports.straightened(solved.follows[0], lone, mean, amperes[:, 0].real)
        if float(np.max(np.abs(mean - output))) <= AGREED * float(np.max(np.abs(mean))) + 1e-6:
            phasors = -np.einsum("knp,pk->nk", reach, solved.amperes[0]) + mains.T
            phasors[:, 0] = x
            cycle = MainsState(ports.fundamental, ports.rectifying, volts, amperes, stand_in, phasors, ports.open)
            return CircuitState(netlist, at, cycle)
        previous = output
    raise NoSolution(
        f"{netlist.title}: the rectifier {ports.rectifying[0].name} and its load would not agree on a "
        f"voltage (still moving by {float(np.max(np.abs(mean - output))):.2g} V after {_ROUNDS} rounds).",
        tried=("alternating the rectifier over the mains cycle and the operating point",),
        where=ports.rectifying[0].nodes[0],
    )


def _unknowns(near: CircuitState | None, system: System) -> Array | None:
    """The unknowns of a similar circuit, where it has the same ones."""
    if near is None or near.at.system.size != system.size or near.at.system.nodes != system.nodes:
        return None
    return near.at.x
