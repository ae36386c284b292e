"""Switching on, and off again: tens of seconds of a mains-fed circuit while its tubes warm up and its capacitors
fill.

The mains cycle is not followed. Within one the rectifiers are in their periodic state for the mean voltages of the
moment (harmonic balance, as in ``supply``), and what they deliver on average drives the slow circuit: the envelope
method of multi-rate analysis (E. Ngoya and R. Larcheveque, "Envelop transient analysis", IEEE MTT-S Digest (1996),
p. 1365), with the mean as the only slowly varying phasor. What happens within the first few cycles (the very first
inrush into an empty capacitor) is a matter for ``transient``.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from thermionic import budget
from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.circuit.rectified import REFERENCE, RectifierPorts, rectifiers_on_mains
from thermionic.circuit.small_signal import respond
from thermionic.circuit.spectrum import waveform
from thermionic.circuit.system import System
from thermionic.circuit.transient import Accuracy, Stepper
from thermionic.devices import AffinePorts, Contact, Device, Fuse, Resistor
from thermionic.devices.base import Array, ComplexArray
from thermionic.devices.thermal import Hot
from thermionic.errors import NetlistRefused

_ACCURACY = Accuracy(relative=2e-3, volt=0.3, other=3e-2)
_HARMONICS, _SAMPLES = 16, 64  # enough for the mean to a part in a thousand, which is what the rest is good to
_CORRECTIONS = 8
_SLOW = 1e-6
_THERMAL = 0.05  # how much of its resistance a thermistor may lose in a step
_STIFF = 10.0  # Ω: where the balance meets a port's mean voltage; any small value gives the same line


@dataclass(frozen=True, eq=False)
class StartUp:
    """A slow run: mean voltages and what the mains cycle was like at each time.

    ``seconds`` (points,); ``x`` (points, size) the mean of every unknown; ``rectifier_ampere`` the mean current
    that the rectifiers deliver in all; ``peak_ampere`` the greatest in any port; ``rms_ampere`` per resistor-like
    part of the mains side that was asked after (thermistors, lamps, fuses); ``ohms`` their resistances; all
    (points,). ``blown`` is when each fuse went, if it did.
    """

    system: System
    seconds: Array
    x: Array
    rectifier_ampere: Array
    peak_ampere: Array
    rms_ampere: dict[str, Array]
    ohms: dict[str, Array]
    blown: dict[str, float]

    def voltage(self, node: str) -> Array:
        """A node's mean voltage at every point, V."""
        if node == GROUND:
            return np.zeros(len(self.seconds))
        return self.x[:, self.system.node(node)]

    def peak(self, node: str) -> tuple[float, float]:
        """A node's highest mean voltage, V, and when it was reached, s."""
        volts = self.voltage(node)
        place = int(np.argmax(volts))
        return float(volts[place]), float(self.seconds[place])


def start_up(netlist: Netlist, until: float, off_at: float | None = None) -> StartUp:
    """Run from switch-on, everything cold and empty, to ``until`` s; off again at ``off_at`` if given.

    Tubes with a Warmup come to emission as theirs says; capacitors start at their own charge. Raises
    NetlistRefused for a circuit without a rectifier on the mains; NoSolution, BudgetSpent.
    """
    if not until > 0:
        raise NetlistRefused("A slow run must last longer than no time.")
    with budget.at_most():
        return _Envelope(netlist, until, off_at if off_at is not None else np.inf).go()


class _Envelope:
    def __init__(self, netlist: Netlist, until: float, off: float) -> None:
        self.original, self.until, self.off = netlist, until, off
        self.hot = [part for part in netlist.parts if isinstance(part.device, Hot)]
        self.fuses = [part for part in netlist.parts if isinstance(part.device, Fuse)]
        self.contacts = {part: part.device for part in netlist.parts if isinstance(part.device, Contact)}
        self.now = 0.0
        self.rises = {part.name: 0.0 for part in self.hot}
        self.heat = {part.name: 0.0 for part in self.fuses}
        self.blown: dict[str, float] = {}
        self.volts: ComplexArray | None = None
        self.network_of: tuple[object, ...] = ()
        self.warmed: tuple[RectifierPorts, float, System] | None = None

    def go(self) -> StartUp:
        """See start_up."""
        if not rectifiers_on_mains(self.original):
            raise NetlistRefused(f"{self.original.title} has no rectifier on the mains to switch on.")
        self._network()
        second, settle = 0.0, True
        stand_in = self._line(second, np.zeros(len(self.mains.pairs)), None)
        # Where the circuit changes at once; a step ends there.
        edges = sorted({self.off, self.until, *(device.closes_at for device in self.contacts.values())})
        system = self._system(stand_in, second)
        stepper = Stepper(system, self.until, self.until / 40, _ACCURACY)
        stepper.still()  # the mains itself is in the rectifiers' line
        stepper.follow_only(_SLOW)
        x = stepper.rest()
        stand_in = self._line(second, x @ self.mains.ports, None)
        points: list[tuple[float, Array, float, float, dict[str, float], dict[str, float]]] = []
        h = min(2e-3, self.until / 100)
        points.append(self._point(second, x))
        slope = np.zeros(len(x))
        while second < self.until * (1 - 1e-12):
            budget.check(f"following {self.original.title} from switch-on ({second:.3g} of {self.until:.3g} s done)")
            edge = next(edge for edge in edges if edge > second * (1 + 1e-12))
            h = min(h, max(edge - second, 1e-9), self.until - second, self.until / 40)
            solved, line = self._step(stepper, stand_in, x, slope, second, h, settle)
            if solved is None or (solved[2] > 1.0 and not settle):
                h *= 0.25 if solved is None else max(0.2, 0.85 * solved[2] ** (-1 / 3))
                if h < 1e-9 * self.until:
                    stepper.give_up(x, second)
                continue
            new, _, error = solved
            slope = (new - x) / h
            thermal = self._warm(h)
            second, x, stand_in = second + h, new, line
            points.append(self._point(second, x))
            growth = min(0.85 * max(error, 1e-6) ** (-1 / 3), _THERMAL / max(thermal, 1e-9))
            h *= float(np.clip(growth, 0.3, 2.0))
            settle = second >= edge * (1 - 1e-12) and edge < self.until
            if settle:
                h, slope = 2e-3, np.zeros(len(x))
                stand_in = self._line(second, x @ self.mains.ports, None)
        seconds, xs, means_out, peaks, rms, ohms = zip(*points, strict=True)
        names = [part.name for part in (*self.hot, *self.fuses)]
        return StartUp(
            self.mains.open,
            np.array(seconds),
            np.array(xs),
            np.array(means_out),
            np.array(peaks),
            {name: np.array([one[name] for one in rms]) for name in names},
            {name: np.array([ohm[name] for ohm in ohms]) for name in names},
            self.blown,
        )

    def _step(
        self, stepper: Stepper, stand_in: AffinePorts, x: Array, slope: Array, second: float, h: float, settle: bool
    ) -> tuple[tuple[Array, Array, float] | None, AffinePorts]:
        """One step, the rectifiers' line drawn anew at its end until it goes through where the step ends."""
        stepper.present = stepper.system = self._system(stand_in, second)
        rate = stepper.rate(x, second)
        line, before = stand_in, x @ self.mains.ports
        solved = None
        for _ in range(_CORRECTIONS):
            stepper.present = stepper.system = self._system(line, second + h)
            solved = stepper.step(x, slope, rate, second, h, settle)
            if solved is None:
                return None, stand_in
            means = solved[0] @ self.mains.ports
            line = self._line(second + h, means, line)
            if np.all(np.abs(means - before) <= 0.02 + 1e-4 * np.abs(means)):
                return solved, line
            before = means
        return None, stand_in

    def _resistance(self, part: Part) -> float:
        if isinstance(part.device, Contact):
            return float(part.device.at_time(self.now * (1 + 1e-12)).ohm)
        if isinstance(part.device, Hot):
            return part.device.ohm_at(self.rises[part.name])
        assert isinstance(part.device, Fuse)
        return 1e9 if part.name in self.blown else float(part.device.ohm)

    def _network(self) -> None:
        """The mains side's linear network, anew where a resistance in it has changed by more than a little."""
        changing = (*self.hot, *self.fuses, *self.contacts)
        state = tuple(round(float(np.log(self._resistance(part))), 2) for part in changing)
        if state == self.network_of and state:
            return
        if self.network_of == () or state:
            netlist = self.original
            for part in changing:
                netlist = netlist.with_device(part.name, Resistor(self._resistance(part)))
            self.netlist = netlist
            self.mains = mains = RectifierPorts(netlist, _HARMONICS, _SAMPLES)
            quiet = mains.open.G + 1e-7 * mains.open.S @ mains.open.S.T
            solved = respond(mains.open, quiet, mains.hertz, mains.columns)
            count = len(mains.pairs)
            self.reach = solved[..., :count]
            self.drive = np.einsum("kns,ks->kn", solved[..., count:], mains.drive)
            self.impedance = np.einsum("np,knq->kpq", mains.ports, self.reach)
            self.open_volts = (self.drive @ mains.ports).T[None]
        self.network_of = state or (None,)

    def _line(self, second: float, means: Array, before: AffinePorts | None) -> AffinePorts:
        """The rectifiers as straight lines, around the mean voltages of their ports that are theirs on the load line
        that goes through ``means`` and the currents that the line ``before`` gave there."""
        self._network()
        mains = self.mains
        if second >= self.off:
            self.amperes = np.zeros((len(means), len(mains.hertz)), dtype=complex)
            self.volts = None
            return AffinePorts(mains.pairs, 1e-9 * np.eye(len(means)), np.zeros(len(means)))
        mains.rectifying = tuple(
            replace(part, device=part.device.at_time(max(second, 1e-3), self.off)) for part in mains.rectifying
        ) if second == 0 else tuple(
            replace(part, device=self.netlist[part.name].device.at_time(second, self.off))
            for part in mains.rectifying
        )  # fmt: skip
        impedance = self.impedance.copy()
        # Within a step capacitors hold their charge: what the ports see is what they see at a high harmonic.
        lone = impedance[-1].real + _STIFF * np.eye(len(means))
        impedance[0] = lone
        open_volts = self.open_volts.copy()
        drawn = np.zeros(len(means)) if before is None else before.ampere + before.siemens @ means
        open_volts[0, :, 0] = means + lone @ (drawn - REFERENCE * means)
        guess = open_volts
        if self.volts is not None:
            guess = mains.moved_behind(self.volts, (self.amperes - REFERENCE * self.volts[0])[None])
        solved = mains.balanced(impedance, open_volts, guess)
        self.volts, self.amperes = solved.volts, solved.amperes[0] + REFERENCE * solved.volts[0]
        mean = solved.volts[0, :, 0].real
        return mains.straightened(solved.follows[0], lone, mean, self.amperes[:, 0].real)

    def _system(self, stand_in: AffinePorts, second: float) -> System:
        """The slow circuit: the rectifiers' line, and the tubes as warm as they are."""
        if self.warmed is None or self.warmed[:2] != (self.mains, second):

            def now(place):  # type: ignore[no-untyped-def]
                device: Device = place.part.device
                return device.at_time(second, self.off)

            self.warmed = (self.mains, second, self.mains.open.revised(now))
        return self.warmed[2].with_device(self.mains.name, stand_in)

    def _rms(self, part: Part) -> float:
        """Current in a resistor over the mains cycle, A rms."""
        if self.volts is None:
            return 0.0
        system = self.mains.open
        phasors = -np.einsum("knp,pk->nk", self.reach, self.amperes - REFERENCE * self.volts[0])
        phasors += self.drive.T
        a, b = (phasors[system.node(node)] if node != GROUND else 0.0 for node in part.nodes)
        wave = waveform(np.asarray(a - b), 512)
        return float(np.sqrt(np.mean(wave**2))) / self._resistance(part)

    def _warm(self, h: float) -> float:
        """Let thermistors, lamps and fuses warm for ``h``; by how much the fastest resistance changed."""
        most = 0.0
        for part in self.hot:
            device = part.device
            assert isinstance(device, Hot)
            ohm = self._resistance(part)
            watt = self._rms(part) ** 2 * ohm
            rise = self.rises[part.name]
            slope = device.warming(rise, watt)
            # Straight towards where this heat would leave it, but not past it.
            goal = device.steady_rise(watt)
            change = slope * h
            if (goal - rise) * change > 0 and abs(change) > abs(goal - rise):
                change = goal - rise
            self.rises[part.name] = rise + change
            most = max(most, abs(np.log(self._resistance(part) / ohm)))
        for part in self.fuses:
            device = part.device
            assert isinstance(device, Fuse)
            current = self._rms(part)
            tau = float(device.tau)
            self.heat[part.name] += (current**2 * tau - self.heat[part.name]) * -np.expm1(-h / tau)
            if self.heat[part.name] >= device.melting_i2t and part.name not in self.blown:
                self.blown[part.name] = self.now + h
                self.volts = None
        return most

    def _point(
        self, second: float, x: Array
    ) -> tuple[float, Array, float, float, dict[str, float], dict[str, float]]:
        self.now = second
        waves = np.abs(waveform(self.amperes, 512))
        rms = {part.name: self._rms(part) for part in (*self.hot, *self.fuses)}
        ohms = {part.name: self._resistance(part) for part in (*self.hot, *self.fuses)}
        total = float(np.sum(np.abs(self.amperes[:, 0].real)))
        return second, x, total, float(waves.max(initial=0.0)), rms, ohms
