"""The operating point of a circuit fed by rectifiers: solved over the mains cycle, not by rule of thumb.

The rectifiers (tubes, silicon or selenium, any number, with whatever windings) see the rest of the circuit
linearised: its exact DC load line near the solution, its impedance at every harmonic of the mains. Their ports
are balanced against it. The rest sees the rectifiers as the straight lines that they are around their mean
currents. The two are iterated until they agree.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from thermionic import budget
from thermionic.circuit.balance_equations import Balance
from thermionic.circuit.harmonic_balance import balance
from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.circuit.operating_point import OperatingPoint, operating_point
from thermionic.circuit.small_signal import respond
from thermionic.circuit.spectrum import harmonics_of_one
from thermionic.circuit.supply_state import CircuitState, MainsState
from thermionic.circuit.system import System
from thermionic.devices import AffinePorts, LinearPart, MainsSource, Resistor
from thermionic.devices.base import Array, ComplexArray, Device, Table
from thermionic.devices.thermal import Hot
from thermionic.errors import NetlistRefused, NoSolution

# The mean is good to 2 parts in 100,000 and the peak current to 0.1 % with these harmonics of the ripple (measured
# against 320 of them).
HARMONICS, SAMPLES = 32, 128
# The rectifiers and their load agree when they are this close, relative: a millivolt in 300 V.
AGREED = 3e-6
_ROUNDS = 40
_SOFTEST = 300.0
# Laid across every rectifier port in the linear part and taken out of the devices: a winding between
# diodes that do not conduct would otherwise float.
REFERENCE = 1e-5
# Every rectifier leaks a little, or nothing would say where a floating winding is while no diode conducts: 200 MΩ, a
# few millionths of what a supply delivers.
_LEAK = 5e-9
# Ohms in series with every port at DC, met by just the voltage that they drop: the ports of a bridge are not
# independent, and their lone resistance has no inverse.
BESIDE = 1.0
# The harmonic at whose impedance a rectifier is moved behind a resistance; see Mains.move_behind.
_BEHIND_AT = 3
_ROUGHLY = 4  # times fewer harmonics to begin with
STAND_IN = "RECTIFIERS"
_SETTLED_KELVIN = 0.1  # of a thermistor or lamp


def solve_circuit(netlist: Netlist, near: CircuitState | None = None) -> CircuitState:
    """The operating point of ``netlist``, its rectifiers solved over the mains cycle if it is on the mains.

    On the mains is what has a MainsSource; else the plain operating point is found.
    ``near`` is a solution of a similar circuit to start from. Raises NoSolution, NetlistRefused and BudgetSpent.
    """
    with budget.at_most():
        hot = [part for part in netlist.parts if isinstance(part.device, Hot)]
        mains = Mains(netlist, near)
        if not hot or not mains.rectifying:
            return mains.solve()
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
        state = Mains(cold, state).solve()
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


def _same(one: tuple[object, ...], other: tuple[object, ...]) -> bool:
    """Whether two keys have equal numbers and the very same devices."""
    return len(one) == len(other) and all(
        a is b or (not isinstance(a, Device) and a == b) for a, b in zip(one, other, strict=True)
    )


class Mains:
    """One circuit's alternation between the operating point and the mains cycle."""

    def __init__(self, netlist: Netlist, near: CircuitState | None) -> None:
        self.netlist, self.near = netlist, near
        self.sources = [part for part in netlist.parts if isinstance(part.device, MainsSource)]
        self.rectifying = tuple(part for part in netlist.parts if self.sources and part.device.rectifies)

    def solve(self) -> CircuitState:
        """See solve_circuit."""
        if not self.rectifying:
            system = System(self.netlist)
            return CircuitState(self.netlist, operating_point(system, self._start(system)), None)
        self.prepare(HARMONICS, SAMPLES)
        x: Array | None = None
        previous: Array | float = np.inf
        reach: ComplexArray | None = None
        # Port voltages to start from, with what the currents drop that they are moved behind.
        start: ComplexArray | None = None
        near = self.near.mains if self.near else None
        if near and (near.stand_in.pairs != self.pairs or near.volts.shape[-1] != len(self.hertz)):
            near = None
        stand_in = near.stand_in if near else self._guess()
        for _ in range(_ROUNDS):
            budget.check(f"solving {self.netlist.title} over the mains cycle")
            system = self.open.with_device(self.name, stand_in)
            at = operating_point(system, x if x is not None else self._start(system))
            x = at.x
            output = x @ self.ports
            drawn = stand_in.ampere + stand_in.siemens @ output
            slopes = self.open.jacobian(at.port_slopes)
            still = float(np.max(np.abs(output - previous))) <= 1e-4 * float(np.max(np.abs(output)))
            if reach is None or not still:
                reach = respond(self.open, slopes, self.hertz, self.columns)
                mains = np.einsum("kns,ks->kn", reach[..., len(output) :], self.drive)
                reach = reach[..., : len(output)]
            else:
                still_reach = respond(self.open, slopes, self.hertz[:1], self.columns)[..., : len(output)]
                reach = np.concatenate([still_reach, reach[1:]])
            impedance = np.einsum("np,knq->kpq", self.ports, reach)
            lone = impedance[0].real + BESIDE * np.eye(len(output))
            impedance[0] = lone
            open_volts = (mains @ self.ports).T[None]
            open_volts[0, :, 0] = output + lone @ (drawn - REFERENCE * output)
            if start is None:
                self.move_behind(impedance)
                if near:
                    start = self.moved_behind(near.volts[None], (near.amperes - REFERENCE * near.volts)[None])
                else:
                    start = self._roughly(impedance, open_volts, output)
            solved = self.balanced(impedance, open_volts, start)
            volts, start = solved.volts, self.moved_behind(solved.volts, solved.amperes)
            mean, current = volts[0, :, 0].real, solved.amperes[0, :, 0].real + REFERENCE * volts[0, :, 0].real
            stand_in = self.straightened(solved.follows[0], lone, mean, current)
            if float(np.max(np.abs(mean - output))) <= AGREED * float(np.max(np.abs(mean))) + 1e-6:
                return self._finished(at, stand_in, solved.volts[0], solved.amperes[0], reach, mains)
            previous = output
        raise NoSolution(
            f"{self.netlist.title}: the rectifier {self.rectifying[0].name} and its load would not agree on a "
            f"voltage (still moving by {float(np.max(np.abs(mean - output))):.2g} V after {_ROUNDS} rounds).",
            tried=("alternating the rectifier over the mains cycle and the operating point",),
            where=self.rectifying[0].nodes[0],
        )

    def prepare(self, harmonics: int, samples: int) -> None:
        """Set up the linear rest and the ports; there must be a rectifier.

        ``harmonics`` and ``samples`` are of the ripple, twice the mains frequency.
        """
        devices = [part.device for part in self.netlist.parts]
        frequencies = {one.hertz for one in devices if isinstance(one, MainsSource)}
        if len(frequencies) > 1:
            raise NetlistRefused(
                f"{self.netlist.title} is on mains of {' and '.join(f'{f:g} Hz' for f in sorted(frequencies))}; one "
                "is solved."
            )
        mains_hertz = frequencies.pop()
        # With everything folded it all repeats each half cycle.
        folded = all(part.device.folded for part in self.sources)  # type: ignore[attr-defined]
        self.fundamental = 2 * mains_hertz if folded else mains_hertz
        finer = 1 if folded else 2
        self.spectrum = harmonics_of_one(finer * harmonics, finer * samples)
        self.hertz = self.spectrum.hertz(self.fundamental)

        parts = [part for part in self.netlist.parts if part not in self.rectifying]
        for part in self.rectifying:
            rest = LinearPart(part.device)
            if np.any(rest.conductance()) or np.any(rest.storage()):
                parts.append(Part(f"{part.name}_rest", rest, part.nodes))
        nodes: list[str] = []
        for part in self.rectifying:
            for plus, minus in part.device.ports:
                nodes += [part.nodes[plus], part.nodes[minus]]
        count = len(nodes) // 2
        pairs = tuple((2 * port, 2 * port + 1) for port in range(count))
        self.name = self.rectifying[0].name if len(self.rectifying) == 1 else STAND_IN
        idle = AffinePorts(pairs, REFERENCE * np.eye(count), np.zeros(count))
        self.open = System(Netlist(self.netlist.title, (*parts, Part(self.name, idle, tuple(nodes)))))
        self.pairs = pairs
        self.ports = np.zeros((self.open.size, count))
        for port in range(count):
            for node, sign in ((nodes[2 * port], 1.0), (nodes[2 * port + 1], -1.0)):
                if node != GROUND:
                    self.ports[self.open.node(node), port] += sign
        push = np.zeros((self.open.size, len(self.sources)))
        for column, part in enumerate(self.sources):
            push[self.open.branch(part.name), column] = 1.0
        self.columns = np.hstack([self.ports, push])
        # The mains sources' harmonics, (harmonics + 1, sources), or (harmonics + 1, variants, sources).
        shapes = [
            part.device.phasors(len(self.hertz) - 1, self.fundamental)[
                (...,) + (None,) * np.ndim(part.device.peak_volt)
            ]
            * np.asarray(part.device.peak_volt)
            for part in self.sources
            if isinstance(part.device, MainsSource)
        ]
        self.drive = np.stack(shapes, axis=-1) if shapes else np.zeros((len(self.hertz), 0))
        self.behind = np.zeros(count)
        self._packed: tuple[tuple[object, ...], Table] | None = None

    def _guess(self) -> AffinePorts:
        pairs = self.pairs
        push = self.columns[:, len(pairs) :]
        reach = self.ports.T @ respond(self.open, self.open.G, np.array([self.fundamental]), push)[0]
        peaks = np.array([part.device.peak_volt for part in self.sources])  # type: ignore[attr-defined]
        folded = np.array([part.device.folded for part in self.sources])  # type: ignore[attr-defined]
        swing = np.abs(reach @ (peaks * ~folded)) + np.abs(reach @ (peaks * folded))
        start = 2 / np.pi * (reach @ (peaks * folded)).real - 0.9 * swing
        siemens = 1 / 400.0
        return AffinePorts(pairs, siemens * np.eye(len(pairs)), -siemens * start)

    def move_behind(self, impedance: ComplexArray) -> None:
        """Choose the resistance to move each rectifier behind that has a closed form with one: between what it sees
        while the others conduct and while they do not, by their geometric mean."""
        at = impedance[_BEHIND_AT]
        alone = np.abs(np.diagonal(at))
        inverse = np.linalg.pinv(at) if len(at) > 1 else np.divide(1.0, at, out=np.zeros_like(at), where=at != 0)
        among = np.abs(np.diagonal(inverse))
        movable = [part.device.behind(1.0) is not None for part in self.rectifying for _ in part.device.ports]
        # A port that is shorted sees nothing, and need not be moved.
        moved = np.array(movable) & (among > 0)
        self.behind = np.where(moved, np.sqrt(alone / np.where(moved, among, 1.0)), 0.0)

    def moved_behind(self, volts: ComplexArray, amperes: ComplexArray) -> ComplexArray:
        """The voltages of the ports with what their currents drop in the resistance they are moved behind."""
        moved: ComplexArray = volts + self.behind[:, None] * amperes
        return moved

    def balanced_once(
        self, impedance: ComplexArray, open_volts: ComplexArray, guess: ComplexArray, together: bool = False
    ) -> Balance:
        """The ports over the mains cycle, a resistance being added to each rectifier that has a closed form with one,
        and taken from the network: so a hard knee is a soft one to Newton, and the solution the same.

        ``guess`` is ``moved_behind``, and what the Balance says of how means follow is of such voltages.
        """
        inside = impedance - np.diag(self.behind)
        count = guess.shape[-1]
        spectrum = self.spectrum if count == len(self.hertz) else harmonics_of_one(count - 1, 4 * count)
        found = balance(spectrum, inside, open_volts, self.currents, guess, together)
        return replace(found, volts=found.volts - self.behind[:, None] * found.amperes)

    def _roughly(self, impedance: ComplexArray, open_volts: ComplexArray, means: Array) -> ComplexArray:
        """Where to start from with nothing but the ports' mean voltages: the balance of a few harmonics."""
        start = open_volts.copy()
        start[0, :, 0] = means
        few = len(self.hertz) // _ROUGHLY + 1
        try:
            found = self.balanced(impedance[:few], open_volts[..., :few], start[..., :few])
        except NoSolution:
            if budget.spent():
                raise
            return start
        start[..., :few] = self.moved_behind(found.volts, found.amperes)
        return start

    def balanced(self, impedance: ComplexArray, open_volts: ComplexArray, guess: ComplexArray) -> Balance:
        """The ports over the mains cycle (see balanced_once); where that fails at once, with ever harder knees."""
        self.softness = 1.0
        try:
            return self.balanced_once(impedance, open_volts, guess)
        except NoSolution:
            if budget.spent():
                raise
        softness, ratio = _SOFTEST, 4.0
        self.softness = softness
        while True:
            try:
                solved = self.balanced_once(impedance, open_volts, guess)
            except NoSolution as failure:
                if ratio < 1.05 or self.softness == _SOFTEST or budget.spent():
                    raise NoSolution(
                        f"{self.netlist.title}: the rectifier {self.rectifying[0].name} found no steady state over "
                        f"the mains cycle. {failure}",
                        tried=(*failure.tried, "harmonic balance with ever harder knees"),
                        where=self.rectifying[0].nodes[0],
                    ) from None
                ratio = np.sqrt(ratio)
            else:
                softness, guess = self.softness, self.moved_behind(solved.volts, solved.amperes)
                if softness == 1.0:
                    return solved
            self.softness = max(1.0, softness / ratio)

    def currents(self, v: Array, phase: Array, which: NDArray[np.int_]) -> tuple[Array, Array]:
        """The rectifiers' currents and slopes at port voltages v (..., ports), REFERENCE taken out."""
        i, g = np.zeros(v.shape), np.zeros((*v.shape, v.shape[-1]))
        # Of what is sensed, a part is the drop of the current that is taken out.
        less = REFERENCE - _LEAK
        share = 1.0 - self.behind * less
        v = v / share
        table = self._table(share)
        table.evaluate(v, phase, i, g, which if len(table.numbers) > 1 else None)
        ohm = self.behind / share
        at = np.arange(v.shape[-1])
        slopes = (g + less * ohm[:, None] * g) / share
        slopes[..., at, at] -= less / share
        return i - less * (v - ohm * i), slopes

    def _table(self, share: Array) -> Table:
        """The rectifiers behind their resistances, packed."""
        key = (self.softness, self.behind.tobytes(), *(part.device for part in self.rectifying))
        if self._packed is None or not _same(self._packed[0], key):
            devices: list[Device] = []
            places: list[slice] = []
            first = 0
            for part in self.rectifying:
                ports = slice(first, first + len(part.device.ports))
                device = part.device if self.softness == 1.0 else part.device.softened(self.softness)
                behind = self.behind[first] / share[first]
                moved = device.behind(float(behind)) if behind else device
                assert moved is not None
                devices.append(moved)
                places.append(ports)
                first = ports.stop
            self._packed = key, Table.of(devices, places, places)
        return self._packed[1]

    def straightened(self, follows: Array, lone: Array, mean: Array, current: Array) -> AffinePorts:
        """The rectifiers as straight lines through their means, by how these follow a volt of open voltage: see
        Balance."""
        count = len(mean)
        left = np.linalg.solve(lone - np.diag(self.behind), np.eye(count) - follows)
        share = follows - self.behind[:, None] * left
        siemens = np.linalg.solve(share.T, left.T).T + REFERENCE * np.eye(count)
        return AffinePorts(self.pairs, siemens, current - siemens @ mean)

    def _finished(
        self,
        at: OperatingPoint,
        stand_in: AffinePorts,
        volts: ComplexArray,
        amperes: ComplexArray,
        reach: ComplexArray,
        mains: ComplexArray,
    ) -> CircuitState:
        x = -np.einsum("knp,pk->nk", reach, amperes) + mains.T
        x[:, 0] = at.x
        state = MainsState(
            self.fundamental, self.rectifying, volts, amperes + REFERENCE * volts, stand_in, x, self.open
        )
        return CircuitState(self.netlist, at, state)

    def _start(self, system: System) -> Array | None:
        """The unknowns of a similar circuit, where it has the same ones."""
        near = self.near
        if near is None or near.at.system.size != system.size or near.at.system.nodes != system.nodes:
            return None
        return near.at.x
