"""The rectifiers of a circuit as ports over the mains cycle, and the linear rest as they see it; see supply."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from thermionic import budget
from thermionic.circuit.balance_equations import Balance
from thermionic.circuit.harmonic_balance import balance
from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.circuit.small_signal import respond
from thermionic.circuit.spectrum import harmonics_of_one
from thermionic.circuit.system import System
from thermionic.devices import AffinePorts, LinearPart, MainsSource
from thermionic.devices.base import Array, ComplexArray, Device, Table
from thermionic.errors import NetlistRefused, NoSolution

# Laid across every rectifier port in the linear part and taken out of the devices: a winding between
# diodes that do not conduct would otherwise float.
REFERENCE = 1e-5
# Every rectifier leaks a little, or nothing would say where a floating winding is while no diode conducts: 200 MΩ, a
# few millionths of what a supply delivers. While it is sought roughly they leak more, 1 MΩ: where several windings or
# coupled ones float, all the steps would go into where.
_LEAK, _LEAK_ROUGHLY = 5e-9, 1e-6
# Ohms in series with every port at DC, met by just the voltage that they drop: the ports of a bridge are not
# independent, and their lone resistance has no inverse.
BESIDE = 1.0
# The harmonic at whose impedance a rectifier is moved behind a resistance; see RectifierPorts.move_behind.
_BEHIND_AT = 3
# To begin with, so many times fewer harmonics; and of the voltages, what may be left then.
_ROUGHLY, _ENOUGH = 4, 2e-3
_STAND_IN = "RECTIFIERS"
_SOFTEST = 300.0  # times softer knees, where all else fails


def _same(one: tuple[object, ...], other: tuple[object, ...]) -> bool:
    """Whether two keys have equal numbers and the very same devices."""
    return len(one) == len(other) and all(
        a is b or (not isinstance(a, Device) and a == b) for a, b in zip(one, other, strict=True)
    )


def rectifiers_on_mains(netlist: Netlist) -> tuple[Part, ...]:
    """The rectifiers of a circuit that has a source of mains, else none."""
    on_mains = any(isinstance(part.device, MainsSource) for part in netlist.parts)
    return tuple(part for part in netlist.parts if on_mains and part.device.rectifies)


class RectifierPorts:
    """The ports of a circuit's rectifiers over the mains cycle, and the linear rest that they see.

    There must be a rectifier on the mains; ``harmonics`` and ``samples`` are of the ripple, twice its frequency.
    ``open`` is the rest with a stand-in for the rectifiers, of that ``name``; ``ports`` (size, ports) what each port
    senses of its unknowns, ``columns`` the ports and then the sources of mains, whose phasors are in ``drive``.
    Raises NetlistRefused for mains of several frequencies.
    """

    def __init__(self, netlist: Netlist, harmonics: int, samples: int) -> None:
        self.title = netlist.title
        self.rectifying = rectifiers_on_mains(netlist)
        self.sources = {part.name: part.device for part in netlist.parts if isinstance(part.device, MainsSource)}
        frequencies = {source.hertz for source in self.sources.values()}
        if len(frequencies) > 1:
            several = " and ".join(f"{hertz:g} Hz" for hertz in sorted(frequencies))
            raise NetlistRefused(f"{self.title} is on mains of {several}; one is solved.")
        mains_hertz = frequencies.pop()
        # With everything folded it all repeats each half cycle.
        folded = all(source.folded for source in self.sources.values())
        self.fundamental = 2 * mains_hertz if folded else mains_hertz
        finer = 1 if folded else 2
        self.spectrum = harmonics_of_one(finer * harmonics, finer * samples)
        self.hertz = self.spectrum.hertz(self.fundamental)

        parts = [part for part in netlist.parts if part not in self.rectifying]
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
        self.name = self.rectifying[0].name if len(self.rectifying) == 1 else _STAND_IN
        idle = AffinePorts(pairs, REFERENCE * np.eye(count), np.zeros(count))
        self.open = System(Netlist(self.title, (*parts, Part(self.name, idle, tuple(nodes)))))
        self.pairs = pairs
        self.ports = np.zeros((self.open.size, count))
        for port in range(count):
            for node, sign in ((nodes[2 * port], 1.0), (nodes[2 * port + 1], -1.0)):
                if node != GROUND:
                    self.ports[self.open.node(node), port] += sign
        push = np.zeros((self.open.size, len(self.sources)))
        for column, name in enumerate(self.sources):
            push[self.open.branch(name), column] = 1.0
        self.columns = np.hstack([self.ports, push])
        # The mains sources' harmonics, (harmonics + 1, sources), or (harmonics + 1, variants, sources).
        shapes = [
            source.phasors(len(self.hertz) - 1, self.fundamental)[(...,) + (None,) * np.ndim(source.peak_volt)]
            * np.asarray(source.peak_volt)
            for source in self.sources.values()
        ]
        self.drive = np.stack(shapes, axis=-1)
        self.behind = np.zeros(count)
        self.leak, self.softness = _LEAK, 1.0
        self._packed: tuple[tuple[object, ...], Table] | None = None

    def guessed_line(self) -> AffinePorts:
        """The rectifiers as straight lines, before anything is known: some hundred ohms below the peaks."""
        pairs = self.pairs
        push = self.columns[:, len(pairs) :]
        reach = self.ports.T @ respond(self.open, self.open.G, np.array([self.fundamental]), push)[0]
        peaks = np.array([source.peak_volt for source in self.sources.values()])
        folded = np.array([source.folded for source in self.sources.values()])
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
        self,
        impedance: ComplexArray,
        open_volts: ComplexArray,
        guess: ComplexArray,
        together: bool = False,
        enough: float = 0.0,
    ) -> Balance:
        """The ports over the mains cycle, a resistance being added to each rectifier that has a closed form with one,
        and taken from the network: so a hard knee is a soft one to Newton, and the solution the same.

        ``guess`` is ``moved_behind``, and what the Balance says of how means follow is of such voltages.
        """
        inside = impedance - np.diag(self.behind)
        count = guess.shape[-1]
        spectrum = self.spectrum if count == len(self.hertz) else harmonics_of_one(count - 1, 4 * count)
        result = balance(spectrum, inside, open_volts, self.currents, guess, together, enough)
        return replace(result, volts=result.volts - self.behind[:, None] * result.amperes)

    def roughly(self, impedance: ComplexArray, open_volts: ComplexArray, means: Array) -> ComplexArray:
        """Where to start from with nothing but the ports' mean voltages: the balance of a few harmonics."""
        start = open_volts.copy()
        start[0, :, 0] = means
        few = len(self.hertz) // _ROUGHLY + 1
        try:
            with self._leaking(_LEAK_ROUGHLY):
                result = self.balanced(impedance[:few], open_volts[..., :few], start[..., :few], _ENOUGH)
        except NoSolution:
            if budget.spent():
                raise
        else:
            start[..., :few] = self.moved_behind(result.volts, result.amperes)
        return start

    @contextmanager
    def _leaking(self, siemens: float) -> Iterator[None]:
        """Rectifiers that leak so much within it."""
        self.leak = siemens
        try:
            yield
        finally:
            self.leak = _LEAK

    def balanced(
        self, impedance: ComplexArray, open_volts: ComplexArray, guess: ComplexArray, enough: float = 0.0
    ) -> Balance:
        """The ports over the mains cycle (see balanced_once). Where that fails at once, from the balance of half the
        harmonics; where that fails, with ever harder knees."""
        self.softness = 1.0
        try:
            return self.balanced_once(impedance, open_volts, guess, False, enough)
        except NoSolution:
            if budget.spent():
                raise
        if guess.shape[-1] == len(self.hertz):
            try:
                return self.balanced_once(impedance, open_volts, self._half(impedance, open_volts, guess))
            except NoSolution:
                if budget.spent():
                    raise
        return self._by_harder_knees(impedance, open_volts, guess, enough)

    def _half(self, impedance: ComplexArray, open_volts: ComplexArray, guess: ComplexArray) -> ComplexArray:
        """The guess with the balance of half the harmonics in it, found while the rectifiers leak ever less."""
        few = len(self.hertz) // 2 + 1
        better = guess.copy()
        for leak in (_LEAK_ROUGHLY, 1e-7, 1e-8, _LEAK):
            with self._leaking(leak):
                result = self.balanced_once(impedance[:few], open_volts[..., :few], better[..., :few])
            better[..., :few] = self.moved_behind(result.volts, result.amperes)
        return better

    def _by_harder_knees(
        self, impedance: ComplexArray, open_volts: ComplexArray, guess: ComplexArray, enough: float
    ) -> Balance:
        """See balanced. Raises NoSolution, BudgetSpent."""
        softness, ratio = _SOFTEST, 4.0
        self.softness = softness
        while True:
            try:
                solved = self.balanced_once(impedance, open_volts, guess, False, enough)
            except NoSolution as failure:
                if ratio < 1.05 or self.softness == _SOFTEST or budget.spent():
                    raise NoSolution(
                        f"{self.title}: the rectifier {self.rectifying[0].name} found no steady state over "
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
        less = REFERENCE - self.leak
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
        key = (self.softness, self.leak, self.behind.tobytes(), *(part.device for part in self.rectifying))
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
