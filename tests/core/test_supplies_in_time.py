"""Supplies of every kind, their values drawn at random: the steady state found over the mains cycle is one, for a
cycle later in time everything is where it was. The run in time shares nothing with it but the devices."""

import numpy as np
import pytest

from thermionic import devices as d
from thermionic import tubes
from thermionic.circuit.netlist import Netlist, Part
from thermionic.circuit.rectified import RectifierPorts
from thermionic.circuit.spectrum import waveform
from thermionic.circuit.supply import solve_circuit
from thermionic.circuit.system import System
from thermionic.circuit.transient import transient

PERIOD = 1 / 50
BRIDGE = ("u k", "w k", "0 u", "0 w")


class Drawn:
    """Parts whose values are drawn."""

    def __init__(self, seed, across=10e-9):
        self.across = across
        self.random = np.random.default_rng(seed)
        self.ratio, self.copper = self.between(0.2, 1.5), self.between(5, 150)

    def between(self, low, high):
        return float(np.exp(self.random.uniform(np.log(low), np.log(high))))

    def transformer(self, nodes, *windings):
        """One on mains, its windings (ratio, ohms) or the drawn one."""
        windings = windings or ((self.ratio, self.copper),)
        wound = (d.Winding(1, 12), *(d.Winding(*winding) for winding in windings))
        iron = d.Transformer(wound, d.Core(self.between(3, 30)))
        return [("VM", d.MainsSource(325.0, 50.0), "m 0"), ("T1", iron, f"m 0 {nodes}")]

    def centre_tapped(self):
        return self.transformer("a1 0 0 a2", *[(self.ratio, self.copper)] * 2)

    def tube(self, nodes):
        tube = tubes.get(str(self.random.choice(["GZ34", "5U4GB", "5Y3GT", "EZ81"])))
        return [("V1", tube.rectifier(), nodes)]

    def diodes(self, *nodes, first=1):
        """With a capacitor across each, as they are built: or nothing would say where what is between them is."""
        result = []
        for number, across in enumerate(nodes, first):
            result += [(f"D{number}", d.Diode(), across), (f"CD{number}", d.Capacitor(self.across), across)]
        return result

    def bridge(self):
        return self.diodes(*BRIDGE)

    def filter(self):
        return [
            ("C1", d.Capacitor(self.between(4e-6, 300e-6)), "k 0"), ("RH", d.Resistor(self.between(50, 2000)), "k b"),
            ("C2", d.Capacitor(self.between(10e-6, 300e-6)), "b 0"), *self.load("b"),
        ]  # fmt: skip

    def load(self, node):
        return [("RL", d.Resistor(self.between(300, 50e3)), f"{node} 0")]

    def bias(self, node):
        """A bias supply through a capacitor."""
        return [
            ("CB", d.Capacitor(self.between(50e-9, 2e-6)), f"{node} p"), *self.diodes("p 0", "n p", first=5),
            ("C3", d.Capacitor(47e-6), "n 0"), ("RB", d.Resistor(self.between(10e3, 200e3)), "n 0"),
        ]  # fmt: skip

    def ladder(self, *nodes):
        return [(f"C{k}", d.Capacitor(self.between(10e-6, 300e-6)), across) for k, across in enumerate(nodes, 1)]


KINDS = {
    "two anodes": lambda s: [*s.centre_tapped(), *s.tube("a1 a2 k"), *s.filter()],
    "choke input": lambda s: [
        *s.centre_tapped(), *s.tube("a1 a2 k"), ("CK", d.Capacitor(0.1e-6), "k 0"),
        ("L1", d.choke(s.between(2, 15), s.between(40, 300), 0.15, 0.6), "k b"), ("C2", d.Capacitor(47e-6), "b 0"),
        *s.load("b"),
    ],
    "bridge": lambda s: [*s.transformer("u w"), *s.bridge(), *s.filter()],
    "bridge, bias through a capacitor": lambda s: [*s.transformer("u w"), *s.bridge(), *s.filter(), *s.bias("u")],
    "hybrid bridge": lambda s: [*s.transformer("u w"), *s.tube("u w k"), *s.diodes("0 u", "0 w"), *s.filter()],
    "doubler": lambda s: [*s.transformer("u w"), *s.diodes("u k", "0 u"), *s.ladder("k w", "w 0"), *s.load("k")],
    "quadrupler": lambda s: [
        *s.transformer("u 0"), *s.diodes("0 x", "x y", "y z", "z q"), *s.ladder("u x", "y 0", "x z", "q y"),
        *s.load("q"),
    ],
    "selenium bridge": lambda s: [
        *s.transformer("u w"), *((f"S{k}", d.SeleniumRectifier(20), one) for k, one in enumerate(BRIDGE)),
        *s.filter(),
    ],
    "bias from its own winding": lambda s: [
        *s.transformer("a1 0 0 a2 h 0", *[(s.ratio, s.copper)] * 2, (0.15, 8.0)), *s.tube("a1 a2 k"), *s.filter(),
        *s.diodes("n h"), ("C3", d.Capacitor(100e-6), "n 0"), ("RB", d.Resistor(s.between(5e3, 50e3)), "n 0"),
    ],
    "bias through a resistor": lambda s: [
        *s.centre_tapped(), *s.tube("a1 a2 k"), *s.filter(), ("RA", d.Resistor(s.between(10e3, 100e3)), "a1 p"),
        *s.diodes("n p"), ("C3", d.Capacitor(47e-6), "n 0"), ("RB", d.Resistor(s.between(10e3, 100e3)), "n 0"),
    ],
    "two anodes, bias through a capacitor": lambda s: [
        *s.centre_tapped(), *s.tube("a1 a2 k"), *s.filter(), *s.bias("a1"),
    ],
    "diodes before the tube": lambda s: [
        *s.centre_tapped(), *s.diodes("a1 s", "a2 s"), *s.tube("s s k"), *s.filter(),
    ],
    "two bridges, one on the other's shoulders": lambda s: [
        *s.transformer("u w x y", (s.ratio, s.copper), (0.25, s.between(3, 20))), *s.bridge(), *s.filter(),
        *s.diodes("x k", "y k", "b x", "b y", first=5), ("RS", d.Resistor(s.between(2e3, 20e3)), "k b"),
    ],
}  # fmt: skip


def _at_the_start(cycle, system):
    """The unknowns of ``system`` as its mains begins, from those of the circuit over the mains cycle."""
    values = waveform(cycle.x, 4 * cycle.x.shape[1])[:, 0]
    stood_for = {part.name for part in cycle.parts}
    theirs = {place.part.name: place.unknowns for place in cycle.system.placed if place.part.name not in stood_for}
    x = np.zeros(system.size)
    for place in system.placed:
        for here, there in zip(place.unknowns, theirs.get(place.part.name, ()), strict=False):
            if here >= 0:
                x[here] = values[there]
    return x


@pytest.mark.parametrize("seed", [1, 2])
@pytest.mark.parametrize("kind", KINDS)
def test_a_cycle_later_everything_is_where_it_was(kind, seed):
    hold_for_a_cycle(kind, Drawn(seed))


@pytest.mark.parametrize("seed", [1, 2, 4])
def test_what_hardly_holds_itself_is_found_by_half_the_harmonics_or_harder_knees(seed, monkeypatch):
    """Between diodes and tube there is 1 nF: Newton's method gives up on it at first."""
    tried = []
    for way in ("_half", "_by_harder_knees"):
        own = getattr(RectifierPorts, way)
        monkeypatch.setattr(RectifierPorts, way, lambda *said, own=own, way=way: tried.append(way) or own(*said))
    hold_for_a_cycle("diodes before the tube", Drawn(seed, across=1e-9))
    assert tried


def hold_for_a_cycle(kind, drawn):
    rows = KINDS[kind](drawn)
    netlist = Netlist(kind, tuple(Part(name, device, tuple(nodes.split())) for name, device, nodes in rows))
    system, cycle = System(netlist), solve_circuit(netlist).mains
    run = transient(system, PERIOD, start=_at_the_start(cycle, system), longest=20e-6)
    swing = np.ptp(run.x, axis=0)[: len(system.nodes)]
    moved = np.abs(run.x[-1] - run.x[0])[: len(system.nodes)]
    least = 2e-4 * np.max(np.abs(run.x[:, : len(system.nodes)]))
    for node, swings, by in zip(system.nodes, swing, moved, strict=True):
        assert by < 3e-3 * swings + least, f"{node} moved by {by:.3g} V of {swings:.4g}"
