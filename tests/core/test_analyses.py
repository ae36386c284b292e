"""The analyses, held to the laws of circuits for circuits that hypothesis draws, and to one another."""

import time
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

from tests.core.draws import drawn
from thermionic import budget, tubes
from thermionic import devices as d
from thermionic.circuit import spice, variants
from thermionic.circuit.elimination import pattern
from thermionic.circuit.large_signal import clipping_level, distortion, drive
from thermionic.circuit.netlist import Netlist, Part
from thermionic.circuit.noise import noise, weight
from thermionic.circuit.operating_point import operating_point
from thermionic.circuit.small_signal import SmallSignal
from thermionic.circuit.startup import start_up
from thermionic.circuit.supply import solve_circuit
from thermionic.circuit.system import System
from thermionic.circuit.transient import transient
from thermionic.circuit.variants import one_of, operating_points
from thermionic.devices.base import THERMAL_VOLT
from thermionic.errors import BudgetSpent, NetlistRefused, NoSolution
from thermionic.tubes import Point, fit_points


def make(*rows):
    return Netlist("analysed", tuple(Part(name, device, tuple(nodes.split())) for name, device, nodes in rows))


# Circuits of any devices on a handful of nodes: each drawn part goes between two of them, the tubes among three or four.
NODES = ("a", "b", "c", "e", "0")
TWO_ENDED = st.one_of(
    st.floats(100, 1e6).map(d.Resistor),
    st.sampled_from([d.Diode(), d.LED(), d.Zener(12.0), d.SeleniumRectifier(), d.Thermistor(), d.Lamp(60.0, 230.0)]),
)
THREE_ENDED = st.sampled_from(
    [tubes.get("ECC82").triode(), tubes.get("GZ34").rectifier(), d.BipolarTransistor(early_volt=80.0),
     d.BipolarTransistor(polarity=-1, early_volt=80.0), d.Mosfet(), tubes.get("EL84").pentode(),
     tubes.get("2A3").filament_triode()]
)  # fmt: skip


@st.composite
def circuits(draw):
    rows = [
        ("VB", d.VoltageSource(draw(st.floats(1, 300))), ("supply", "0")),
        ("R0", d.Resistor(1e3), ("supply", "a")),
    ]
    for k in range(draw(st.integers(2, 5))):
        ends = draw(st.lists(st.sampled_from(NODES), min_size=2, max_size=2, unique=True))
        rows.append((f"P{k}", draw(TWO_ENDED), tuple(ends)))
    for k in range(draw(st.integers(1, 3))):
        device = draw(THREE_ENDED)
        ends = [draw(st.sampled_from(NODES)) for _ in device.terminals]
        assume(len(set(ends)) > 1)
        rows.append((f"X{k}", device, tuple(ends)))
    # No node is left hanging: what is drawn need not hold together.
    rows += [(f"RL{node}", d.Resistor(draw(st.floats(1e3, 1e6))), (node, "0")) for node in NODES[:-1]]
    return Netlist("drawn", tuple(Part(name, device, nodes) for name, device, nodes in rows))


@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.filter_too_much])
@given(circuits())
def test_kirchhoff_and_energy_at_every_operating_point(netlist):
    point = operating_point(System(netlist))
    total = dict.fromkeys(netlist.nodes, 0.0)
    for part in netlist.parts:
        for node, ampere in zip(part.nodes, point.terminal_currents[part.name], strict=True):
            if node in total:
                total[node] += ampere
    scale = max(abs(terminal_current).max() for terminal_current in point.terminal_currents.values())
    assert max(map(abs, total.values())) < 1e-8 + 1e-7 * scale
    delivered = -point.parts["VB"].dissipation
    heat = sum(state.dissipation for name, state in point.parts.items() if name != "VB")
    assert heat == pytest.approx(delivered, rel=1e-5, abs=1e-6)
    # A passive circuit takes what it turns into heat from its source, and nothing in it makes power.
    # (but for the microwatts of electrons that leave a hot cathode of themselves)
    assert delivered >= -2e-3
    assert all(state.dissipation >= -2e-3 for name, state in point.parts.items() if name != "VB")


@settings(max_examples=25, deadline=None)
@given(circuits(), st.integers(0, 1000))
def test_variants_solved_together_are_each_what_it_is_alone(netlist, seed):
    built = drawn(netlist, 19, seed)
    system = System(built)
    filled = pattern(system.conducting)
    np.testing.assert_array_equal(system.entries(filled.place), system.G[:, filled.rows, filled.columns].T)
    together = operating_points(system)
    assert not together.failed.any()
    for variant in (0, 9, 18):
        alone = operating_point(System(one_of(built, variant)))
        for node in netlist.nodes:
            assert together.voltage(node)[variant] == pytest.approx(alone.voltage(node), rel=1e-4, abs=1e-4)


def stage(*more):
    return make(
        ("VIN", d.VoltageSource(0.0, 0.2), "in 0"), ("RS", d.Resistor(10e3), "in g"),
        ("VB", d.VoltageSource(300.0), "b 0"), ("RA", d.Resistor(100e3), "b a"),
        ("V1", tubes.get("ECC83").triode(), "a g k"), ("RK", d.Resistor(1500.0), "k 0"),
        ("CK", d.Capacitor(100e-6), "k 0"), *more,
    )  # fmt: skip


def test_whom_newton_leaves_is_solved_alone_and_nobody_else(monkeypatch):
    built = drawn(stage(), 40, seed=4)
    nominal, alone = operating_point(System(stage())).x, []

    def watched(system, near=None):
        alone.append(system)
        return operating_point(system, near)

    monkeypatch.setattr(variants, "operating_point", watched)
    together = operating_points(System(built), nominal)
    assert not alone
    monkeypatch.setattr(variants, "_ITERATIONS", 1)
    each = operating_points(System(built), nominal)
    assert len(alone) == 40
    np.testing.assert_allclose(each.x, together.x, rtol=1e-6, atol=1e-9)


def test_a_batch_of_an_amplifier_in_every_analysis():
    nominal = stage()
    built = drawn(nominal, 40, seed=4)
    points = operating_points(System(built))
    driven = drive(points, 1000.0, np.array(1.0))
    small = SmallSignal(points)
    gains = np.abs(small.tone(np.array([1e3]))[:, 0, points.system.node("a")])
    for variant in (0, 17, 39):
        alone = operating_point(System(one_of(built, variant)))
        assert gains[variant] == pytest.approx(
            abs(SmallSignal(alone).tone(np.array([1e3]))[0, alone.system.node("a")]), rel=1e-6
        )
        single = drive(alone, 1000.0, np.array([1.0])).phasors("a")[0]
        np.testing.assert_allclose(driven.phasors("a")[variant], single, rtol=1e-4, atol=1e-5)


def test_loop_gain_is_what_feedback_does_to_gain():
    """Closed-loop gain with an ideal amplifier: A / (1 + A beta), and T = A beta, loaded or not."""
    amplifier = make(
        ("VIN", d.VoltageSource(0.0, 1.0), "in 0"),
        ("E1", d.VoltageControlled(1000.0), "x 0 in f"),
        ("RO", d.Resistor(600.0), "x o"), ("CO", d.Capacitor(100e-9), "o 0"), ("RL", d.Resistor(1e3), "o 0"),
        ("RF", d.Resistor(9e3), "o f"), ("RG", d.Resistor(1e3), "f 0"),
    )  # fmt: skip
    system = System(amplifier)
    small = SmallSignal(operating_point(system))
    hertz = np.array([10.0, 1e4, 1e6])
    load = 1 / (1 / 1e3 + 1 / 10e3 + 2j * np.pi * hertz * 100e-9)
    forward = 1000.0 * load / (load + 600.0)
    np.testing.assert_allclose(small.loop_gain("RF", hertz), forward * 0.1, rtol=1e-6)
    np.testing.assert_allclose(small.tone(hertz)[:, system.node("o")], forward / (1 + forward * 0.1), rtol=1e-6)
    with pytest.raises(NetlistRefused, match="cannot be broken"):
        small.loop_gain("E1", hertz)


def test_a_resistor_has_its_thermal_noise_and_weighting_curves_their_anchors():
    netlist = make(
        ("VIN", d.VoltageSource(0.0, 1.0), "in 0"), ("R1", d.Resistor(47e3), "in o"), ("C1", d.Capacitor(1e-9), "o 0")
    )
    result = noise(operating_point(System(netlist)), "o", "VIN", np.geomspace(0.01, 1e9, 800))
    # kT/C, whatever the resistor.
    assert result.output_volt(low=0.02, high=0.9e9) == pytest.approx(np.sqrt(1.380649e-23 * 300.15 / 1e-9), rel=0.01)
    assert np.sqrt(result.input_density[0]) == pytest.approx(np.sqrt(4 * 1.380649e-23 * 300.15 * 47e3), rel=1e-6)
    assert 20 * np.log10(weight("A", np.array([1000.0]))[0]) == pytest.approx(0, abs=0.02)
    assert 20 * np.log10(weight("A", np.array([100.0]))[0]) == pytest.approx(-19.1, abs=0.1)
    assert 20 * np.log10(weight("468", np.array([1000.0]))[0]) == pytest.approx(0, abs=0.05)
    assert 20 * np.log10(weight("468", np.array([6300.0]))[0]) == pytest.approx(12.2, abs=0.1)
    with pytest.raises(NetlistRefused, match="flat, A and 468"):
        result.output_volt("B")


def test_a_triode_stage_is_as_noisy_as_its_equivalent_resistance_and_its_source():
    result = noise(operating_point(System(stage())), "a", "VIN", np.geomspace(20, 100e3, 60))
    gm = tubes.characteristics(tubes.get("ECC83").triode(), 165, -1.3)["gm_s"]
    floor = np.sqrt(4 * 1.380649e-23 * 300.15 * (10e3 + 2.2 / gm) * 80e3)
    assert result.input_volt(low=20e3, high=100e3) == pytest.approx(floor, rel=0.15)
    parts = result.by_part()
    assert next(iter(parts)) in ("V1", "RS")
    assert sum(value**2 for value in parts.values()) == pytest.approx(result.output_volt() ** 2, rel=1e-6)


def test_a_transient_settles_to_what_harmonic_balance_says():
    netlist = stage().with_device("VIN", d.VoltageSource(0.0, 0.5, d.Sine(0.0, 0.5, 1000.0)))
    netlist = netlist.with_device("CK", d.Capacitor(1e-9))
    balanced = drive(operating_point(System(netlist)), 1000.0, np.array([1.0])).phasors("a")[0]
    moved = transient(System(netlist), 10e-3, longest=5e-6)
    times = 9e-3 + 1e-3 * np.arange(200) / 200
    wave = np.interp(times, moved.seconds, moved.voltage("a"))
    result = np.fft.rfft(wave)[:4] / 100
    assert abs(result[1]) == pytest.approx(abs(balanced[1]), rel=1e-3)
    assert abs(result[2]) == pytest.approx(abs(balanced[2]), rel=0.02)


@settings(max_examples=10, deadline=None)
@given(st.floats(10, 1e4), st.floats(1e-8, 1e-5), st.floats(1e-4, 1.0), st.floats(1, 100))
def test_energy_in_a_transient_goes_from_the_capacitor_into_the_resistor(ohm, farad, henry, volt):
    """A charged capacitor into a coil and a resistor: what is stored falls by just what is turned into heat."""
    netlist = make(
        ("C1", d.Capacitor(farad, start_volt=volt), "a 0"), ("L1", d.Inductor(henry), "a b"),
        ("R1", d.Resistor(ohm), "b 0"),
    )  # fmt: skip
    until = min(3 * max(henry / ohm, ohm * farad), 30 * np.sqrt(henry * farad))
    moved = transient(System(netlist), until, at_rest=True)
    current = moved.x[:, moved.system.branch("L1")]
    stored = 0.5 * farad * moved.voltage("a") ** 2 + 0.5 * henry * current**2
    assert stored[0] == pytest.approx(0.5 * farad * volt**2, rel=1e-3)
    heat = np.concatenate(
        [[0.0], np.cumsum(np.diff(moved.seconds) * ohm * 0.5 * (current[1:] ** 2 + current[:-1] ** 2))]
    )
    np.testing.assert_allclose(stored + heat, stored[0], rtol=0.01)


def test_a_gas_regulator_strikes_as_its_supply_comes_up():
    netlist = make(
        ("VB", d.VoltageSource(0.0, 0.0, d.Piecewise((0.0, 1.0, 2.0), (0.0, 250.0, 100.0))), "b 0"),
        ("R1", d.Resistor(4700.0), "b o"), ("V1", tubes.get("0A2").regulator(), "o 0"), ("RL", d.Resistor(33e3), "o 0"),
    )  # fmt: skip
    moved = transient(System(netlist), 2.0, longest=5e-3)
    volts = moved.voltage("o")
    # It rises past the running voltage to the striking one, falls back, holds, and goes out when starved.
    assert volts.max() == pytest.approx(155, abs=3.0)
    assert np.interp(1.0, moved.seconds, volts) == pytest.approx(150, abs=1.0)
    assert volts[-1] == pytest.approx(100 * 33 / 37.7, rel=1e-3)
    steady = netlist.with_device("VB", d.VoltageSource(250.0))
    assert operating_point(System(steady)).voltage("o") == pytest.approx(150, abs=1.0)


def mains_supply(warm):
    rectifier = tubes.get("GZ34").rectifier(warming=warm)
    tube = tubes.get("6SN7GT").triode(warming=warm)
    core = d.Transformer((d.Winding(1, 10), d.Winding(1.2, 60), d.Winding(1.2, 60)), d.Core(8.0))
    return make(
        ("VM", d.MainsSource(325.0, 50.0), "m 0"), ("F1", d.Fuse(1.0, 3.0), "m q"), ("TH1", d.Thermistor(20.0), "q p"),
        ("T1", core, "p 0 a1 0 0 a2"), ("V1", rectifier, "a1 a2 r"), ("C1", d.Capacitor(47e-6), "r 0"),
        ("R1", d.Resistor(1e3), "r h"), ("C2", d.Capacitor(47e-6), "h 0"), ("RB", d.Resistor(220e3), "h 0"),
        ("RA", d.Resistor(8e3), "h a"), ("V2", tube, "a 0 k"), ("RK", d.Resistor(470.0), "k 0"),
        ("CK", d.Capacitor(100e-6), "k 0"),
    )  # fmt: skip


def test_switching_on_ends_in_the_steady_state_and_switching_off_in_none():
    run = start_up(mains_supply(warm=True), 150.0, off_at=110.0)
    steady = solve_circuit(mains_supply(warm=False))
    before = np.searchsorted(run.seconds, 109.0)
    for node in ("r", "h", "a", "k"):
        assert run.voltage(node)[before] == pytest.approx(steady.at.voltage(node), rel=5e-3), node
    # Both cathodes warm alike here, so the rail overshoots while the signal tube still sleeps half.
    assert run.peak("h")[0] > steady.at.voltage("h")
    assert run.voltage("h")[-1] < 0.3 * steady.at.voltage("h")
    assert np.all(np.diff(run.ohms["TH1"][run.seconds < 110]) <= 1e-6)
    assert not run.blown


def test_a_fuse_blows_when_the_reservoir_is_shorted():
    shorted = mains_supply(warm=True).with_device("R1", d.Resistor(0.5)).with_device("RB", d.Resistor(20.0))
    run = start_up(shorted, 30.0)
    assert 1.0 < run.blown["F1"] < 30.0
    assert run.voltage("r")[-1] < 1.0


def test_a_hot_thermistor_and_a_bright_lamp_are_what_their_own_heat_makes_them():
    netlist = make(
        ("VM", d.MainsSource(325.0, 50.0), "m 0"), ("LA1", d.Lamp(100.0, 230.0), "m p"),
        ("D1", d.Diode(ohm=0.1), "p k"), ("C1", d.Capacitor(47e-6), "k 0"), ("RL", d.Resistor(1500.0), "k 0"),
    )  # fmt: skip
    state = solve_circuit(netlist)
    lamp = netlist["LA1"].device
    across = state.mains.node_waveform("m") - state.mains.node_waveform("p")
    current = state.mains.branch_waveform("VM", samples=512)
    ohm = np.sqrt(np.mean(across**2) / np.mean(current**2))
    assert lamp.ohm_at(lamp.steady_rise(float(np.mean(across**2) / ohm))) == pytest.approx(ohm, rel=0.01)
    assert 1.5 * lamp.ohm_at(0.0) < ohm < 230**2 / 100


def test_a_single_ended_core_moves_with_its_standing_current():
    """The bass of a transformer with steady current in it is worse than without, and a gap restores it."""

    def bass(ampere, knee):
        core = d.Core(20.0, knee_weber=knee, power=4)
        netlist = make(
            ("VIN", d.VoltageSource(0.0, 150.0), "in 0"), ("RS", d.Resistor(800.0), "in p"),
            ("T1", d.Transformer((d.Winding(1, 100), d.Winding(0.05, 0.3)), core), "p q s 0"),
            ("IQ", d.CurrentSource(ampere), "q 0"), ("RQ", d.Resistor(1e6), "q 0"), ("CQ", d.Capacitor(1.0), "q 0"),
            ("RL", d.Resistor(8.0), "s 0"),
        )  # fmt: skip
        return float(distortion(drive(operating_point(System(netlist)), 30.0, np.array([1.0])).phasors("s"))[0])

    assert bass(0.0, 1.4) < 0.01
    assert bass(0.06, 1.4) > 5 * bass(0.0, 1.4)
    assert bass(0.06, 3.0) < 0.5 * bass(0.06, 1.4)


def test_clipping_is_found_where_distortion_crosses():
    point = operating_point(System(stage()))
    level = clipping_level(point, 1000.0, "a", 0.03)
    assert distortion(drive(point, 1000.0, np.array([level])).phasors("a"))[0] == pytest.approx(0.03, rel=0.01)


def test_a_measured_loudspeaker_loads_as_its_table_says():
    table = d.MeasuredLoudspeaker((20.0, 45.0, 200.0, 20e3), (7.0, 30.0, 6.5, 25.0), (0.6, 0.0, -0.2, 0.9))
    netlist = make(("VIN", d.VoltageSource(0.0, 1.0), "in 0"), ("RS", d.Resistor(4.0), "in o"), ("LS1", table, "o 0"))
    system = System(netlist)
    point = operating_point(system)
    hertz = np.array([20.0, 45.0, 110.0, 5e3, 20e3, 30e3, 40e3])
    z = table.impedance(hertz)
    np.testing.assert_allclose(SmallSignal(point).tone(hertz)[:, system.node("o")], z / (z + 4.0), rtol=1e-9)
    with pytest.raises(NetlistRefused, match="no response in time"):
        transient(system, 1e-3)
    with pytest.raises(NetlistRefused, match="no part for"):
        spice.circuit(netlist)


def test_a_step_begins_small_again_after_every_corner_of_a_wave():
    """The last corner too: what comes after it is as new as what came after the first."""
    wave = d.Piecewise((0.0, 1e-3, 2e-3), (0.0, 10.0, 5.0))
    driven = make(("V1", d.VoltageSource(0.0, 0.0, wave), "a 0"), ("R1", d.Resistor(1e3), "a b"),
                  ("C1", d.Capacitor(1e-9), "b 0"))  # fmt: skip
    seconds = transient(System(driven), 3e-3, longest=1e-4).seconds
    for corner in (1e-3, 2e-3):
        at = int(np.flatnonzero(seconds == corner)[0])
        assert seconds[at + 1] - corner <= 1e-4 / 64 * (1 + 1e-9)


def test_nothing_hangs():
    slow = stage(("CX", d.Capacitor(1e-12), "a 0"))
    slow = slow.with_device("VIN", d.VoltageSource(0.0, 0.5, d.Sine(0.0, 0.5, 1e6)))
    for analysis in (
        lambda: transient(System(slow), 1000.0, longest=1e-6),
        lambda: transient(System(slow), 1000.0, longest=1e-6, keep_from=999.0),
        lambda: start_up(mains_supply(warm=True), 1e5),
        lambda: fit_points(
            "triode", [Point(a, g, 1e-3 * (1 + a)) for a in range(1, 400) for g in (-1.0, -2.0, -3.0)]
        ),
        lambda: [drive(operating_point(System(slow)), 1e3, np.linspace(1, 100, 500)) for _ in range(10_000)],
    ):
        began = time.monotonic()
        with budget.limit(0.3), pytest.raises(BudgetSpent, match=r"Stopped after 0.3 s while"):
            analysis()
        assert time.monotonic() - began < 30  # not a speed: only that it comes back at all


def test_a_circuit_that_cannot_be_is_refused_in_words():
    oscillating = make(
        ("VB", d.VoltageSource(300.0), "b 0"), ("R1", d.Resistor(1e6), "b o"),
        ("V1", replace(tubes.get("0A2").regulator(), least_ampere=0.005), "o 0"), ("RL", d.Resistor(10e6), "o 0"),
    )  # fmt: skip
    # Starved below its least current it strikes, goes out, and strikes again: a relaxation oscillator.
    with pytest.raises(NoSolution, match="V1 has no steady state"):
        operating_point(System(oscillating))


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("t\nR1 a 0 1k\nZ1 a 0 5\n", "Line 3: “Z1” begins with Z"),
        ("t\nR1 a 0 1k\n.tran\n", "Line 3: .tran wants"),
        ("t\nR1 a 0 1k\n+ 2\n", "Line 2: “2” is not expected after the value of R1"),
        ("t\nV1 a 0 1\nD1 a 0 DX\n", "Line 3: there is no .model DX"),
        ("t\n.model DX D(IS=1e-14 XYZ=3)\nV1 a 0 1\nD1 a 0 DX\n", "Line 2: the parameter XYZ"),
        ("t\nX1 a 0 SUB\n.subckt SUB p q r\nR1 p q 1\n.ends\n", "Line 2: X1 has 2 nodes, but SUB has 3"),
        ("t\nX1 a SUB\n.subckt SUB p\nX2 p SUB\n.ends\n", "nested more than"),
        ("t\n.subckt SUB p\nR1 p 0 1\n", "Line 2: this .subckt has no .ends"),
        ("t\nV1 a 0 {nothing*2}\n", "Line 2: “nothing” is no parameter"),
        ("t\nV1 a 0 1\nB1 b 0 V=v(a)**\n", "Line 3: a value is wanted"),
        ("t\nV1 a 0 1\nB1 b 0 V=__import__(1)\n", "Line 3: __import__"),
        ("t\nR1 a b 1\nV1 a b 1\n", "earth"),
        ("t\nL1 a 0 1\nL2 a 0 1\nK1 L1 L2 1.5\n", "Line 4: K1: a coupling is between 0 and 1"),
        ("t\nF1 a 0 VX 2\nR1 a 0 1\n", "Line 2: the current of VX is wanted"),
        ("t\n.include other.lib\n", "Line 2: nothing can be included here"),
        ("t\nV1 a 0 SIN(0)\n", "Line 2: SIN wants 2 to 6 numbers"),
        ("only a title\n.op\n", "only a title has no parts"),
        ("t\nR1 a 0 2k2\n", "Line 2: “2k2” is a value as parts are marked"),
        ("t\nV1 a 0 1\nD1 a 0 DX 0\n.model DX D(IS=1e-14)\n", "Line 3: the area of D1 is 0"),
        ("t\nV1 a 0 1\nM1 a a 0 0 MX L=0\n.model MX NMOS(VTO=1)\n", "Line 3: the length of M1 is 0"),
        ("t\nV1 a 0 SIN(0 1 1k)\n.tran 1u 1m\n.four 0 v(a)\n", "Line 4: .four wants a frequency above zero"),
        ("t\nV1 a 0 SIN(0 1 1k 0 -1e9)\n", "Line 2: SIN wants a damping of zero or more"),
        ("t\nV1 a 0 AC 1\n.ac dec 2 1 1k\n.ac dec 1 1 10\n", "Line 4: this is a second .ac"),
    ],
)
def test_netlists_that_are_not_understood_are_refused_by_line(text, says):
    with pytest.raises(NetlistRefused, match=says.replace("(", r"\(").replace("{", r"\{").replace("**", r"\*\*")):
        spice.run(spice.read(text))


def test_a_netlist_that_multiplies_is_stopped_while_it_is_read():
    """Each of the subcircuits holds two of the one before: 2^24 of the innermost, which has no parts."""
    lines = ["t", ".subckt S0 p", ".ends"]
    for k in range(1, 25):
        lines += [f".subckt S{k} p", f"X1 p S{k - 1}", f"X2 p S{k - 1}", ".ends"]
    with budget.limit(0.3), pytest.raises((BudgetSpent, NetlistRefused)):
        spice.read("\n".join([*lines, "V1 a 0 1", "X1 a S24", ".op"]))


@pytest.mark.parametrize("stages", [3, 40])
def test_a_long_chain_is_swept_and_solved_like_a_short_one(stages):
    """RC sections with buffers between: each does what the first does. The long one is solved sparse, in an order found
    for it."""
    rows = [("VIN", d.VoltageSource(0.0, 1.0), "n0 0")]
    for k in range(stages):
        rows += [
            (f"R{k}", d.Resistor(1e4), f"n{k} m{k}"), (f"C{k}", d.Capacitor(1e-9), f"m{k} 0"),
            (f"D{k}", d.Diode(), f"m{k} 0"), (f"E{k}", d.VoltageControlled(1.0), f"n{k + 1} 0 m{k} 0"),
        ]  # fmt: skip
    at = operating_point(System(make(*rows)))
    corner = 1 / (2 * np.pi * 1e4 * 1e-9)
    tone = SmallSignal(at).tone(np.geomspace(corner / 100, corner, 9))
    last = np.abs(tone[:, at.system.node(f"n{stages}")])
    diode = d.Diode()
    leak = 1e4 * diode.saturation_ampere / (diode.emission * THERMAL_VOLT)  # of the diode at rest
    ratio = 1 / np.hypot(1 + leak, np.geomspace(0.01, 1.0, 9))
    np.testing.assert_allclose(last, ratio**stages, rtol=1e-3 * stages)
