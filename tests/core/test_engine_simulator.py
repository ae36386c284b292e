"""Every device and every analysis against an independent circuit simulator, on the same netlist.

DC within 0.1 %, AC within 0.05 dB and 0.5°, harmonics within 2 % of themselves above -80 dB, supplies' DC within
0.5 % and ripple within 3 %.
"""

from dataclasses import replace

import numpy as np
import pytest

from tests.core import simulator
from tests.core.draws import drawn
from thermionic import devices as d
from thermionic import tubes
from thermionic.circuit import spice
from thermionic.circuit.large_signal import drive, two_tones
from thermionic.circuit.netlist import Netlist, Part
from thermionic.circuit.noise import noise
from thermionic.circuit.operating_point import operating_point
from thermionic.circuit.small_signal import SmallSignal
from thermionic.circuit.spice import expressions, laws
from thermionic.circuit.startup import start_up
from thermionic.circuit.supply import solve_circuit
from thermionic.circuit.system import System
from thermionic.circuit.transient import transient
from thermionic.circuit.variants import one_of, operating_points
from thermionic.devices import programs

pytestmark = simulator.needed
DC, AC_DB, AC_DEGREES, HARMONIC, SUPPLY, RIPPLE = 1e-3, 0.05, 0.5, 0.02, 5e-3, 0.03
TIGHT = ".options reltol=1e-5 abstol=1e-11 vntol=1e-8 itl1=500 itl4=100\n"


def make(*rows):
    parts = tuple(Part(name, device, tuple(nodes.split())) for name, device, nodes in rows)
    return Netlist("compared", parts)


def R(ohm):
    return d.Resistor(ohm)


def C(farad):
    return d.Capacitor(farad)


def V(volt=0.0, tone=0.0, wave=None):
    return d.VoltageSource(volt, tone, wave)


ECC83, ECC88 = tubes.get("ECC83").triode(), tubes.get("ECC88").triode()
EF86, EL84, EL34 = (tubes.get(name).pentode() for name in ("EF86", "EL84", "EL34"))
PRIMARY = d.Core(30.0, knee_weber=2.0, loss_ohm=100e3)
OUTPUT = d.Transformer(
    (d.Winding(1.0, 150.0, 8e-3), d.Winding(1 / 25, 0.4, 5e-6)), PRIMARY, ((0, 1, 300e-12), (0, 2, 100e-12))
)
TAPPED = d.Transformer(
    (d.Winding(0.57, 90, 4e-3), d.Winding(0.43, 70, 3e-3), d.Winding(0.43, 70, 3e-3), d.Winding(0.57, 90, 4e-3),
     d.Winding(1 / 14, 0.3, 5e-6)),
    d.Core(20.0, knee_weber=1.2, power=3),
)  # fmt: skip
NPN, PNP = d.BipolarTransistor(early_volt=80.0, knee_ampere=0.1), d.BipolarTransistor(polarity=-1, early_volt=60.0)

# Circuits by name: solved at DC and swept, and, where a node is named, driven into harmonics at that node.
CIRCUITS = {
    "triode stage with grid current": (
        make(("VIN", V(0, 1.5), "in 0"), ("RS", R(100e3), "in g"), ("VB", V(300), "b 0"), ("RA", R(100e3), "b a"),
             ("V1", ECC83, "a g k"), ("RK", R(1500), "k 0"), ("CO", C(1e-9), "a o"), ("RO", R(1e6), "o 0")), "a"),
    "cathode follower": (
        make(("VIN", V(90, 40), "g 0"), ("VB", V(250), "b 0"), ("V1", ECC88, "b g k"), ("RK", R(22e3), "k 0")), "k"),
    "cathodyne": (
        make(("VIN", V(70, 25), "g 0"), ("VB", V(300), "b 0"), ("RA", R(47e3), "b a"), ("V1", ECC83, "a g k"),
             ("RK", R(47e3), "k 0")), "a"),
    "shunt-regulated push-pull": (
        make(("VIN", V(0, 1), "g 0"), ("VB", V(250), "b 0"), ("V1", ECC88, "a g k"), ("RK", R(680), "k 0"),
             ("V2", ECC88, "b a m"), ("RM", R(680), "m a"), ("RL", R(47e3), "m 0")), "m"),
    "long-tailed pair": (
        make(("VIN", V(0, 1), "g1 0"), ("VB", V(300), "b 0"), ("VN", V(-100), "n 0"), ("V1", ECC83, "a1 g1 k"),
             ("V2", ECC83, "a2 0 k"), ("R1", R(100e3), "b a1"), ("R2", R(110e3), "b a2"), ("RT", R(68e3), "k n")), "a2"),
    "small pentode": (
        make(("VIN", V(0, 0.4), "g 0"), ("VB", V(250), "b 0"), ("RA", R(100e3), "b a"), ("RG2", R(390e3), "b s"),
             ("V1", EF86, "a s g k"), ("RK", R(1000), "k 0")), "a"),
    "power pentode and transformer": (
        make(("VIN", V(-7.3, 6), "g 0"), ("VB", V(260), "b 0"), ("V1", EL84, "a b g 0"), ("T1", OUTPUT, "a b 0 s"),
             ("RL", R(8), "s 0")), "s"),
    "ultra-linear push-pull": (
        make(("V1", V(-30, 20), "g1 0"), ("V2", V(-30, -20), "g2 0"), ("VB", V(400), "b 0"),
             ("VA", EL34, "a1 s1 g1 0"), ("VC", replace(EL34, scale=0.9), "a2 s2 g2 0"),
             ("T1", TAPPED, "a1 s1 s1 b b s2 s2 a2 o 0"), ("RL", R(8), "o 0")), "o"),
    "triode-strapped pentode": (
        make(("VIN", V(-12, 10), "g 0"), ("VB", V(300), "b 0"), ("RL", R(3500), "b a"),
             ("V1", EL84, "a a g 0")), "a"),
    "filament across its supply": (
        make(("VIN", V(0, 30), "g 0"), ("VB", V(300), "b 0"), ("RL", R(3000), "b a"),
             ("V1", tubes.get("2A3").filament_triode(), "a g f h"), ("VF", V(2.5), "h f"), ("R1", R(25), "f m"),
             ("R2", R(40), "m h"), ("RK", R(900), "m 0")), "a"),
    "diode clipper": (
        make(("VIN", V(0.2, 2), "in 0"), ("R1", R(1e3), "in o"), ("D1", d.Diode(), "o 0"), ("D2", d.LED(), "0 o"),
             ("C1", C(1e-9), "o 0")), "o"),
    "zener shunt": (
        make(("VIN", V(30, 3), "in 0"), ("R1", R(1e3), "in o"), ("Z1", d.Zener(12.0), "0 o"), ("RL", R(4e3), "o 0")), ""),
    "transistor current sink": (
        make(("VB", V(20), "b 0"), ("VIN", V(0, 0.1), "in 0"), ("R1", R(10e3), "b q"), ("RI", R(10e3), "in q"),
             ("D1", d.LED(), "q 0"), ("Q1", NPN, "c q e"), ("RE", R(200), "e 0"), ("RC", R(1500), "b c")), "c"),
    "complementary follower": (
        make(("VIN", V(0, 3), "in 0"), ("VP", V(10), "p 0"), ("VN", V(-10), "n 0"), ("Q1", NPN, "p b1 o"),
             ("Q2", PNP, "n b2 o"), ("V3", V(0.6), "b1 in"), ("V4", V(0.6), "in b2"), ("RL", R(100), "o 0")), "o"),
    "mosfet follower": (
        make(("VB", V(320, 1), "b 0"), ("R1", R(220e3), "b g"), ("R2", R(1e6), "g 0"), ("CG", C(10e-9), "g 0"),
             ("M1", d.Mosfet(3.5, 0.8, 0.01, gs_farad=1e-9), "b g s"), ("RL", R(10e3), "s 0")), ""),
    "p-channel switch": (
        make(("VIN", V(2, 1), "g 0"), ("VB", V(12), "b 0"), ("M1", d.Mosfet(2.0, 0.05, 0.02, polarity=-1), "o g b"),
             ("RL", R(1e3), "o 0")), "o"),
    "gas regulator alight": (
        make(("VB", V(250, 5), "b 0"), ("R1", R(4700), "b o"), ("V1", tubes.get("0A2").regulator(lit=True), "o 0"),
             ("RL", R(20e3), "o 0")), "o"),
    "thermistor, lamp and fuse": (
        make(("V1", V(40), "a 0"), ("TH1", d.Thermistor(), "a b"), ("LA1", d.Lamp(60.0, 230.0), "b c"),
             ("F1", d.Fuse(1.0, 2.0), "c e"), ("RL", R(30), "e 0")), ""),
    "interstage transformer": (
        make(("VIN", V(0, 10), "in 0"), ("RS", R(5e3), "in p"),
             ("T1", d.Transformer((d.Winding(1, 300, 20e-3), d.Winding(2, 900, 80e-3)), d.Core(40.0),
                                  ((0, 1, 80e-12), (2, 3, 150e-12), (0, 2, 60e-12))), "p 0 s 0"),
             ("RL", R(100e3), "s 0")), ""),
    "loudspeaker driver": (
        make(("VIN", V(0, 1), "in 0"), ("RS", R(2), "in o"), ("LS1", d.Driver(6.2, 0.4e-3, 42.0, 3.5, 0.4), "o 0")), ""),
    "saturating core at low frequency": (
        make(("VIN", V(0, 450), "in 0"), ("RS", R(2e3), "in p"),
             ("T1", d.Transformer((d.Winding(1, 100, 1e-3), d.Winding(0.05, 0.5, 1e-6)), d.Core(20.0, 0.9, 4)), "p 0 s 0"),
             ("RL", R(16), "s 0")), "s"),
}  # fmt: skip
LOW = {"saturating core at low frequency": 50.0}


def run(netlist, lines, folder, hertz=1000.0):
    return simulator.run(spice.circuit(netlist, hertz) + TIGHT + lines + "\n.end\n", folder)


def plot(plots, word):
    return next(one for one in plots if word in one[0])


@pytest.mark.parametrize("name", CIRCUITS)
def test_dc_and_ac(name, tmp_path):
    netlist, _ = CIRCUITS[name]
    point = operating_point(System(netlist))
    plots = run(netlist, ".op\n.ac dec 5 10 1meg", tmp_path)
    _, names, data = plot(plots, "Operating")
    theirs = dict(zip(names, data[0], strict=True))
    for node in netlist.nodes:
        assert point.voltage(node) == pytest.approx(theirs[f"v({node})"], rel=DC, abs=2e-5), node
    _, names, data = plot(plots, "AC")
    tone = SmallSignal(point).tone(data[:, 0].real)
    for node in netlist.nodes:
        ours, other = tone[:, point.system.node(node)], data[:, names.index(f"v({node})")]
        loud = np.abs(other) > 1e-6 * np.abs(other).max() + 1e-9
        if loud.any():
            ratio = ours[loud] / other[loud]
            assert np.abs(20 * np.log10(np.abs(ratio))).max() < AC_DB, node
            assert np.abs(np.degrees(np.angle(ratio))).max() < AC_DEGREES, node


@pytest.mark.parametrize("name", [name for name, (_, node) in CIRCUITS.items() if node])
def test_harmonics(name, tmp_path):
    netlist, node = CIRCUITS[name]
    hertz = LOW.get(name, 1000.0)
    driven = drive(operating_point(System(netlist)), hertz, np.array([1.0]), harmonics=24)
    ours = np.abs(driven.phasors(node)[0])
    period = 1 / hertz
    lines = f".tran {period / 400} {30 * period} {28 * period} {period / 400}"
    _, names, data = plot(run(netlist, lines, tmp_path, hertz), "Transient")
    result = simulator.harmonics(data[:, 0], data[:, names.index(f"v({node})")], hertz, 7)
    assert ours[1] == pytest.approx(result[0], rel=2e-3)
    for order in range(2, 8):
        if result[order - 1] > 1e-4 * result[0]:
            assert ours[order] == pytest.approx(result[order - 1], rel=HARMONIC, abs=2e-5 * result[0]), order


MAINS = d.MainsSource(325.0, 50.0)
WINDINGS = d.Transformer((d.Winding(1, 12), d.Winding(1.25, 60), d.Winding(1.25, 60)), d.Core(8.0))
LOW_VOLTS = d.Transformer((d.Winding(1, 12), d.Winding(0.15, 1.5)), d.Core(8.0))
ONE_WINDING = d.Transformer((d.Winding(1, 12), d.Winding(0.9, 60)), d.Core(8.0))
BRIDGE = [(f"D{k}", d.Diode(ohm=0.05), nodes) for k, nodes in enumerate(("p k", "q k", "0 p", "0 q"), start=1)]
SUPPLIES = {
    "vacuum rectifier, capacitor input": (
        make(("VM", MAINS, "m 0"), ("T1", WINDINGS, "m 0 a1 0 0 a2"), ("V1", tubes.get("5Y3GT").rectifier(), "a1 a2 k"),
             ("C1", C(16e-6), "k 0"), ("R1", R(1e3), "k b"), ("C2", C(16e-6), "b 0"), ("RL", R(5e3), "b 0")), "k", 1.2),
    "vacuum rectifier, swinging choke": (
        make(("VM", MAINS, "m 0"), ("T1", WINDINGS, "m 0 a1 0 0 a2"), ("V1", tubes.get("5Y3GT").rectifier(), "a1 a2 k"),
             ("L1", d.choke(12.0, 200.0, 0.1, 0.4), "k b"), ("C2", C(16e-6), "b 0"), ("RL", R(4e3), "b 0")), "b", 2.0),
    "silicon bridge": (
        make(("VM", MAINS, "m 0"), ("T1", LOW_VOLTS, "m 0 p q"), ("D1", d.Diode(ohm=0.05), "p k"),
             ("D2", d.Diode(ohm=0.05), "q k"), ("D3", d.Diode(ohm=0.05), "0 p"), ("D4", d.Diode(ohm=0.05), "0 q"),
             ("RP", R(1e6), "p 0"), ("RQ", R(1e6), "q 0"), ("C1", C(470e-6), "k 0"), ("RL", R(330), "k 0")), "k", 1.6),
    "half-wave silicon": (
        make(("VM", d.MainsSource(80.0, 50.0), "m 0"), ("RW", R(100), "m a"), ("D1", d.Diode(), "k a"),
             ("C1", C(22e-6), "k 0"), ("RL", R(10e3), "k 0")), "k", 1.6),
    "selenium bridge": (
        make(("VM", d.MainsSource(40.0, 50.0), "p q"), ("RW", R(4), "p pp"),
             *[(f"SE{k}", d.SeleniumRectifier(plates=2), nodes)
               for k, nodes in enumerate(("pp k", "q k", "0 pp", "0 q"), start=1)],
             ("C1", C(220e-6), "k 0"), ("RL", R(470), "k 0")), "k", 1.2),
    "bridge with bias through a capacitor": (
        make(("VM", MAINS, "m 0"), ("T1", ONE_WINDING, "m 0 p q"), *BRIDGE, ("C1", C(47e-6), "k 0"), ("RL", R(3e3), "k 0"),
             ("CB", C(220e-9), "p t"), ("D5", d.Diode(ohm=5.0), "t 0"), ("D6", d.Diode(ohm=5.0), "n t"),
             ("C3", C(4.7e-6), "n 0"), ("RB", R(47e3), "n 0"), ("RP", R(1e6), "p 0"), ("RQ", R(1e6), "q 0")), "n", 3.0),
    "hybrid bridge": (
        make(("VM", MAINS, "m 0"), ("T1", ONE_WINDING, "m 0 p q"), ("V1", tubes.get("GZ34").rectifier(), "p q k"),
             *BRIDGE[2:], ("C1", C(47e-6), "k 0"), ("RL", R(3e3), "k 0")), "k", 1.2),
    "doubler": (
        make(("VM", MAINS, "m 0"), ("T1", ONE_WINDING, "m 0 p q"), ("D1", d.Diode(), "p k"), ("D2", d.Diode(), "0 p"),
             ("C1", C(100e-6), "k q"), ("C2", C(100e-6), "q 0"), ("RL", R(5e3), "k 0")), "k", 2.0),
    "choke input": (
        make(("VM", MAINS, "m 0"), ("T1", WINDINGS, "m 0 a1 0 0 a2"), ("V1", tubes.get("GZ34").rectifier(), "a1 a2 k"),
             ("L1", d.choke(8.0, 150.0, 0.15, 0.6), "k b"), ("C2", C(47e-6), "b 0"), ("RL", R(2e3), "b 0")), "b", 1.6),
}  # fmt: skip


@pytest.mark.parametrize("name", SUPPLIES)
def test_supplies_over_the_mains_cycle(name, tmp_path):
    netlist, node, until = SUPPLIES[name]
    state = solve_circuit(netlist)
    _, names, data = plot(run(netlist, f".tran 50u {until} {until - 0.04} 50u", tmp_path), "Transient")
    time, wave = data[:, 0], data[:, names.index(f"v({node})")]
    assert state.at.voltage(node) == pytest.approx(np.trapezoid(wave, time) / np.ptp(time), rel=SUPPLY)
    assert state.mains.ripple_peak_to_peak(node) == pytest.approx(np.ptp(wave), rel=RIPPLE)


@pytest.mark.parametrize("name", ["hybrid bridge", "doubler", "silicon bridge"])
def test_a_supply_sags_as_its_straight_line_says(name):
    """What the rectifiers' stand-in gives for their resistance, against the same supply with a little more load."""
    netlist, node, _ = SUPPLIES[name]
    more = 1e-4
    sagged = solve_circuit(replace(netlist, parts=(*netlist.parts, Part("IX", d.CurrentSource(more), (node, "0")))))
    state = solve_circuit(netlist)
    fall = state.at.voltage(node) - sagged.at.voltage(node)
    assert SmallSignal(state.at).impedance(node, 1e-4).real == pytest.approx(fall / more, rel=0.02)


def test_switching_on_cycle_by_cycle_and_by_its_envelope(tmp_path):
    """The slow run against every mains cycle of the other's, each averaged over its own cycle."""
    netlist, _, _ = SUPPLIES["vacuum rectifier, capacitor input"]
    netlist = netlist.with_device("C2", C(220e-6))
    run_here = start_up(netlist, 2.5)
    _, names, data = plot(run(netlist, ".tran 100u 2.5 0 100u", tmp_path), "Transient")
    time = np.arange(0, 2.5, 1e-4)
    wave = np.interp(time, data[:, 0], data[:, names.index("v(b)")])
    cycles = wave[: len(wave) // 200 * 200].reshape(-1, 200).mean(axis=1)
    middle = (np.arange(len(cycles)) + 0.5) * 0.02
    ours = np.interp(middle, run_here.seconds, run_here.voltage("b"))
    assert np.abs(ours - cycles)[3:].max() < 0.02 * cycles[-1]
    assert ours[-1] == pytest.approx(cycles[-1], rel=SUPPLY)


def test_variants_are_what_the_other_finds_for_each(tmp_path):
    netlist, _ = CIRCUITS["long-tailed pair"]
    built = drawn(netlist, 6, seed=9)
    together = operating_points(System(built))
    for variant in (1, 4):
        _, names, data = plot(run(one_of(built, variant), ".op", tmp_path), "Operating")
        theirs = dict(zip(names, data[0], strict=True))
        for node in netlist.nodes:
            assert together.voltage(node)[variant] == pytest.approx(theirs[f"v({node})"], rel=DC, abs=2e-5)


STAGE_300B = tubes.get("300B").triode()
SINGLE_ENDED = d.Transformer((d.Winding(1, 60, 10e-3), d.Winding((8 / 1000) ** 0.5, 0.4, 80e-6)), d.Core(15.0))
TRANSIENTS = {
    # Circuits that found no step once: parallel tubes on a transformer, junctions in series, a current source.
    "three 300B in parallel": (
        make(("V1", V(0, 0, d.Sine(0, 60, 1000)), "in 0"), ("VB", V(420), "h 0"), ("RD", R(5e3), "in d"),
             ("CC", C(470e-9), "d c"), ("RG", R(100e3), "c 0"), ("T1", SINGLE_ENDED, "h a o 0"), ("RL", R(8), "o 0"),
             *[part for k in "123" for part in (
                 (f"RS{k}", R(470), f"c g{k}"), (f"RA{k}", R(10), f"a a{k}"), (f"X{k}", STAGE_300B, f"a{k} g{k} k{k}"),
                 (f"RK{k}", R(1000), f"k{k} 0"), (f"CK{k}", C(100e-6), f"k{k} 0"))]), "o", 4e-3),
    "pair on a transistor current source": (
        make(("V1", V(0, 0, d.Sine(0, 1, 1000)), "in 0"), ("VB", V(350), "h 0"), ("CI", C(100e-9), "in g1"),
             ("RG1", R(1e6), "g1 0"), ("X1", ECC83, "a1 g1 k"), ("X2", ECC83, "a2 0 k"), ("RA1", R(100e3), "h a1"),
             ("RA2", R(100e3), "h a2"), ("Q1", d.BipolarTransistor(1e-14, 150, 2, 80, 0.1), "k b e"), ("RE", R(2200), "e n"),
             ("VN", V(-20), "n 0"), ("RB", R(6800), "b 0"), ("Z1", d.Zener(5.6), "n b"), ("CL", C(30e-12), "a2 0")), "a2", 4e-3),
    "diodes in series": (
        make(("V1", V(0, 0, d.Sine(0, 5, 500)), "a 0"), ("D1", d.Diode(), "a b"), ("D2", d.Diode(), "b c"),
             ("D3", d.Diode(), "c d"), ("RL", R(1e3), "d 0"), ("CL", C(100e-9), "d 0")), "d", 6e-3),
    "ringing on a pulse": (
        make(("V1", V(0, 0, d.Pulse(0, 10, 1e-3, 1e-5, 1e-5, 2e-3, 8e-3)), "a 0"), ("R1", R(50), "a b"),
             ("L1", d.Inductor(10e-3), "b c"), ("C1", C(1e-6), "c 0")), "c", 6e-3),
    "exponential into a pentode": (
        make(("V1", V(-8, 0, d.Exponential(-8, -2, 1e-4, 2e-4, 2e-3, 5e-4)), "g 0"), ("VB", V(300), "b 0"),
             ("RA", R(2200), "b a"), ("RS", R(4700), "b s"), ("CS", C(1e-7), "s 0"), ("V2", EL84, "a s g 0")), "a", 5e-3),
    "piecewise current through junctions": (
        make(("I1", d.CurrentSource(0, 0, d.Piecewise((0.0, 1e-3, 2e-3, 4e-3), (0.0, 5e-3, -2e-3, 1e-3))), "0 a"),
             ("D1", d.Diode(), "a 0"), ("Z1", d.Zener(5.0), "a b"), ("R1", R(100), "b 0"), ("C1", C(1e-7), "a 0")), "a", 4e-3),
    "coupled windings switched": (
        make(("V1", V(0, 0, d.Pulse(0, 5, 1e-4, 1e-6, 1e-6, 1e-3, 4e-3)), "a 0"), ("R1", R(20), "a p"),
             ("T1", d.CoupledInductors(((20e-3, 36e-3), (36e-3, 80e-3))), "p 0 s 0"), ("RL", R(200), "s 0")), "s", 4e-3),
}  # fmt: skip


@pytest.mark.parametrize(
    "body",
    [
        laws.triode_subcircuit(ECC83.coefficients),
        laws.pentode_subcircuit(EL84.coefficients),
        laws.pentode_subcircuit(tubes.get("EF86").pentode().coefficients),
        laws.filament_subcircuit(tubes.get("300B").triode().coefficients),
    ],
)
def test_what_is_printed_of_a_tube_has_a_value_wherever_a_simulator_tries_it(body):
    random = np.random.default_rng(7)
    for line in body.splitlines():
        if line.startswith("B"):
            law = expressions.parse(line.split("=", 1)[1].replace("{SCALE}", "1"), {})
            for _ in range(200):
                volts = random.choice([-1e200, -1e30, -1e3, -1.0, 0.0, 1.0, 1e3, 1e30, 1e200], len(law.quantities))
                assert np.isfinite(programs.run(np.array(law.program), volts, np.zeros(len(volts)))), (line, volts)


@pytest.mark.parametrize("name", TRANSIENTS)
def test_transients(name, tmp_path):
    netlist, node, until = TRANSIENTS[name]
    moved = transient(System(netlist), until, longest=until / 400)
    _, names, data = plot(run(netlist, f".tran {until / 4000} {until} 0 {until / 4000}", tmp_path), "Transient")
    theirs = data[:, names.index(f"v({node})")]
    ours = np.interp(data[:, 0], moved.seconds, moved.voltage(node))
    assert np.abs(ours - theirs).max() < 0.005 * np.ptp(theirs)


def test_two_tones(tmp_path):
    """Intermodulation of 400 Hz and 7 kHz, four to one, products read off a transform of the other's run."""
    rows = [("VB", V(300), "b 0"), ("RA", R(100e3), "b a"), ("V1", ECC83, "a g 0")]
    ours = two_tones(
        operating_point(System(make(("VIN", V(-2, 1.0), "g 0"), *rows))), 400, 7000, 4.0, np.array([1.0])
    )
    text = spice.circuit(make(("VX", V(0, 0, d.Sine(0, 0.2, 7000)), "g x"),
                              ("VY", V(-2, 0, d.Sine(-2, 0.8, 400)), "x 0"), *rows))  # fmt: skip
    _, names, data = plot(simulator.run(text + TIGHT + ".tran 1u 10m 5m 1u\n.end\n", tmp_path), "Transient")
    result = simulator.harmonics(data[:, 0], data[:, names.index("v(a)")], 200.0, 45)
    for a, b in ((1, 0), (0, 1), (2, 0), (1, 1), (1, -1), (2, 1), (2, -1)):
        place = np.flatnonzero(np.all(ours.spectrum.orders == (a, b), axis=1))
        if not len(place):
            place = np.flatnonzero(np.all(ours.spectrum.orders == (-a, -b), axis=1))
        size = abs(ours.phasors("a")[0, place[0]])
        theirs = result[abs(a * 400 + b * 7000) // 200 - 1]
        assert size == pytest.approx(theirs, rel=HARMONIC, abs=1e-4 * result[1]), (a, b)


def test_noise_of_resistors_and_semiconductors(tmp_path):
    netlist = make(
        ("VIN", V(0, 1), "in 0"), ("RS", R(10e3), "in x"), ("CX", C(1e-6), "x q"), ("VB", V(20), "b 0"),
        ("R1", R(100e3), "b q"), ("R2", R(15e3), "q 0"), ("Q1", NPN, "c q e"), ("RE", R(1e3), "e 0"),
        ("RC", R(4700), "b c"), ("D1", d.Diode(), "c o"), ("RL", R(10e3), "o 0"), ("CL", C(1e-9), "o 0"),
    )  # fmt: skip
    _, names, data = plot(run(netlist, ".noise v(o) VIN dec 5 10 100k 1", tmp_path), "Noise Spectral")
    result = noise(operating_point(System(netlist)), "o", "VIN", data[:, 0])
    np.testing.assert_allclose(np.sqrt(result.density), data[:, names.index("onoise_spectrum")], rtol=2e-3)
    np.testing.assert_allclose(np.sqrt(result.input_density), data[:, names.index("inoise_spectrum")], rtol=2e-3)


HAND_WRITTEN = """A regulator, written by hand
.param vin=40 k={2*10}
VIN in 0 DC {vin} AC 1
.subckt pass c b e params: beta=80
Q1 c b e QP
.model QP NPN(IS=2e-14 BF={beta} VAF=120 IKF=0.5 RB=10 CJE=50p CJC=20p TF=1n)
.ends pass
XP in base out pass beta=60
RB in base 2.2k
DZ 0 base DZEN
.model DZEN D(IS=1e-14 N=1.1 RS=4 BV=12 IBV=5m CJO=80p)
RL out 0 100
CL out 0 10u
E1 amp 0 out 0 {k/4}
R5 amp 0 1k
F1 0 copy VIN 0.5
RF copy 0 10
B1 law 0 V=v(out)^2/10 + 3*tanh(v(base)) + (v(in) > 20 ? 1 : 2)
RB1 law 0 1meg
M1 md law 0 0 MM W=20u L=2u
.model MM NMOS(LEVEL=1 VTO=1 KP=50u LAMBDA=0.02)
RM in md 10k
L1 in p 1m
L2 s 0 4m
K1 L1 L2 0.98
RP p 0 1k
RS s 0 50
.op
.ac dec 5 10 1meg
.tran 20u 2m
.end
"""


def test_a_hand_written_netlist(tmp_path):
    ours = spice.run(spice.read(HAND_WRITTEN))
    plots = simulator.run(HAND_WRITTEN.replace(".tran 20u 2m", TIGHT), tmp_path)
    _, names, data = plot(plots, "Operating")
    theirs = dict(zip(names, data[0], strict=True))
    shown = [node for node in ours["op"] if f"v({node})" in theirs]
    assert len(shown) >= 9
    for node in shown:
        assert ours["op"][node] == pytest.approx(theirs[f"v({node})"], rel=DC, abs=2e-5), node
    _, names, data = plot(plots, "AC")
    for node in ("out", "amp", "law", "md", "s", "copy"):
        pairs = np.array(ours["ac"]["nodes"][node])
        ratio = (pairs[:, 0] + 1j * pairs[:, 1]) / data[:, names.index(f"v({node})")]
        assert np.abs(20 * np.log10(np.abs(ratio))).max() < AC_DB, node
        assert np.abs(np.degrees(np.angle(ratio))).max() < AC_DEGREES, node
    assert ours["tran"]["nodes"]["out"][-1] == pytest.approx(ours["op"]["out"], rel=1e-6)


DIALECT = """A TUBE AS LIBRARIES OF MODELS HAVE THEM
.SUBCKT TRI 1 2 3
+ PARAMS: MU=100 EX=1.4 KG1=1060 KP=600 KVB=300 RGI=2000
+ CCG=2.3P CGP=2.4P CCP=.9P ; a comment
E1 7 0 VALUE={V(1,3)/KP*LOG(1+EXP(KP*(1/MU+V(2,3)/SQRT(KVB+V(1,3)*V(1,3)))))}
RE1 7 0 1G
G1 1 3 VALUE={(PWR(V(7),EX)+PWR(V(7),EX))/KG1}
C1 2 3 {CCG}
C2 2 1 {CGP}
C3 1 3 {CCP}
D3 5 3 DX
R1 2 5 {RGI}
.MODEL DX D(IS=1N RS=1 CJO=10PF TT=1N)
.ENDS TRI
VB 10 0 300V
RA 10 4 100K
X1 4 1 6 TRI
RK 6 0 1.5K
CK 6 0 22UF
VIN 1 0 DC 0 AC 1 SIN(0 1 1K)
CO 4 8 .1U
RO 8 0 1MEG
B9 9 0 V=V(4)^3/1E6 + (-2)^3 + POW(-2,0.5)
R9 9 0 1K
"""


def test_a_netlist_in_the_dialect_of_model_libraries(tmp_path):
    ours = spice.run(spice.read(DIALECT + ".OP\n.AC DEC 2 10 100K\n.TRAN 10U 5M\n.FOUR 1K V(8)\n.END\n"))
    plots = simulator.run(DIALECT + TIGHT + ".op\n.ac dec 2 10 100k\n.tran 2u 5m 0 2u\n.end\n", tmp_path)
    _, names, data = plot(plots, "Operating")
    theirs = dict(zip(names, data[0], strict=True))
    for node in ("4", "6", "9"):
        assert ours["op"][node] == pytest.approx(theirs[f"v({node})"], rel=DC), node
    _, names, data = plot(plots, "AC")
    pairs = np.array(ours["ac"]["nodes"]["8"])
    np.testing.assert_allclose(pairs[:, 0] + 1j * pairs[:, 1], data[:, names.index("v(8)")], rtol=1e-3)
    _, names, data = plot(plots, "Transient")
    last = data[:, 0] >= 4e-3
    result = simulator.harmonics(data[last, 0].real, data[last, names.index("v(8)")].real, 1000.0, 3)
    for order in (1, 2, 3):
        ours_here = ours["fourier"]["8"]["harmonics"][order - 1]["magnitude"]
        assert ours_here == pytest.approx(result[order - 1], rel=HARMONIC), order


@pytest.mark.parametrize(
    "name", ["power pentode and transformer", "ultra-linear push-pull", "filament across its supply"]
)
def test_what_we_write_we_read_back(name):
    netlist, _ = CIRCUITS[name]
    point = operating_point(System(netlist))
    result = spice.run(spice.read(spice.circuit(netlist) + ".op\n.end\n"))["op"]
    for node in netlist.nodes:
        assert result[node] == pytest.approx(point.voltage(node), rel=1e-6, abs=1e-6), node


def test_the_whole_library_as_subcircuits(capsys, tmp_path):
    """Every tube that is printed, in the other simulator, at one of its own published points."""
    from thermionic import cli

    assert cli.main(["library", "--spice"]) == 0
    lines, expected = [capsys.readouterr().out], {}
    for tube in tubes.all_types().values():
        made = tube.devices()
        for kind, device in made.items():
            stem = (f"T{tube.type}" if tube.type[0].isdigit() else tube.type) + (f"_{kind}" if len(made) > 1 else "")
            if kind not in ("triode", "pentode"):
                continue
            point = next(point for point in tube.unit(kind).points if not point.strapped)
            name = stem.lower()
            screen = f"s{name} " if kind == "pentode" else ""
            lines.append(f"VA{name} a{name} 0 {point.anode_v}\nVG{name} g{name} 0 {point.grid_v}")
            if screen:
                lines.append(f"VS{name} s{name} 0 {point.screen_v}")
            lines.append(f"X{name} a{name} {screen}g{name} 0 {stem}")
            result = tubes.characteristics(device, point.anode_v, point.grid_v, point.screen_v)
            expected[f"i(va{name})"] = -result["anode_a"]
            if screen:
                expected[f"i(vs{name})"] = -result["screen_a"]
    _, names, data = plot(simulator.run("* library\n" + "\n".join(lines) + "\n.op\n.end\n", tmp_path), "Operating")
    theirs = dict(zip(names, data[0], strict=True))
    for name, ampere in expected.items():
        assert theirs[name] == pytest.approx(ampere, rel=DC, abs=1e-9), name
    assert len(expected) > 100
