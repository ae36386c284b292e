"""The analyses, held to the laws of circuits."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from thermionic import devices, examples, tubes
from thermionic.amplifier import compile_design
from thermionic.circuit.large_signal import distortion, drive
from thermionic.circuit.netlist import Netlist, Part
from thermionic.circuit.operating_point import operating_point
from thermionic.circuit.small_signal import Response, SmallSignal
from thermionic.circuit.spectrum import waveform
from thermionic.circuit.supply import solve_circuit
from thermionic.circuit.system import LARGE, System
from thermionic.design import changed
from thermionic.devices import AffinePorts
from thermionic.errors import NetlistRefused, NoSolution


def make(*rows):
    return Netlist("test circuit", tuple(Part(name, device, tuple(nodes.split())) for name, device, nodes in rows))


designs = st.builds(
    lambda tube, rk, load, volts, channels: (tube, rk, load, volts, channels),
    st.sampled_from(["ECC83", "ECC82", "6SN7GT", "6SL7GT", "ECC88"]),
    st.floats(100, 10e3),
    st.floats(10e3, 330e3),
    st.floats(60, 400),
    st.sampled_from([1, 2]),
)


@settings(max_examples=25, deadline=None)
@given(designs)
def test_kirchhoff_and_energy_hold_in_any_amplifier(choice):
    tube, cathode, load, winding, channels = choice
    design = examples.example("lantern")
    for path, value in {
        "envelopes/v1/type": tube,
        "blocks/driver/cathode_resistor/ohm": cathode,
        "blocks/driver/anode_load/ohm": load,
        "blocks/winding/winding_volt": winding,
    }.items():
        design = changed(design, path, value)
    design = design.model_copy(update={"channels": channels})
    state = solve_circuit(compile_design(design).netlist)
    point = state.at
    total = dict.fromkeys(point.system.nodes, 0.0)
    for part in point.system.netlist.parts:
        for node, current in zip(part.nodes, point.terminal_currents[part.name], strict=True):
            if node in total:
                total[node] += current
    assert max(map(abs, total.values())) < 1e-8
    # What the sources deliver is what all parts dissipate: the sum over everything is nothing.
    assert sum(part.dissipation for part in point.parts.values()) == pytest.approx(0, abs=1e-5)
    assert point.voltage("reservoir") < 2**0.5 * winding * design.brief.mains_volt / 230.0
    drawn = point.terminal_currents["D1"][0]
    assert state.rectifier.mean_ampere == pytest.approx(drawn, rel=1e-4, abs=1e-7)


def test_a_feed_stands_for_a_second_channel_exactly():
    """The same amplifier with its second channel written out, part by part, on the shared rails."""
    compiled = compile_design(examples.example("lantern"))
    two = compiled.netlist

    def supplies(part):
        return bool(part.path) and compiled.design.block(part.path.split("/")[1]).scope == "shared"

    own = [part for part in two.parts if not supplies(part)]
    shared = {node for part in two.parts if supplies(part) for node in part.nodes} | {"0"}
    channel = [replace(p, device=devices.Feed(1)) if isinstance(p.device, devices.Feed) else p for p in own]
    copy = [
        replace(p, name=f"{p.name}b", nodes=tuple(n if n in shared else f"{n}_b" for n in p.nodes)) for p in channel
    ]
    supply = [part for part in two.parts if supplies(part)]
    written_out = solve_circuit(Netlist("both channels", (*channel, *copy, *supply)))
    folded = solve_circuit(two)
    for node in two.nodes:
        assert folded.at.voltage(node) == pytest.approx(written_out.at.voltage(node), rel=1e-5, abs=1e-6)
    assert folded.rectifier.mean_ampere == pytest.approx(written_out.rectifier.mean_ampere, rel=1e-5)


def test_a_filter_has_its_textbook_corners():
    circuit = make(
        ("VIN", devices.VoltageSource(0.0, 1.0), "in 0"),
        ("C1", devices.Capacitor(100e-9), "in out"),
        ("R1", devices.Resistor(10e3), "out 0"),
        ("L1", devices.Inductor(5.0), "in x"),
        ("R2", devices.Resistor(10e3), "x 0"),
    )
    system = System(circuit)
    hertz = np.logspace(0, 6, 400)
    small = SmallSignal(operating_point(system))
    tone = small.tone(hertz)
    high_pass, low_pass = (Response(hertz, tone[:, system.node(node)]) for node in ("out", "x"))
    assert high_pass.corner(100e3, upwards=False) == pytest.approx(1 / (2 * np.pi * 1e-3), rel=2e-3)
    assert low_pass.corner(1.5, upwards=True) == pytest.approx(10e3 / (2 * np.pi * 5), rel=2e-3)
    assert small.impedance("x", 1e3) == pytest.approx(1 / (1 / 10e3 + 1 / (2j * np.pi * 5e3)), rel=1e-6)


def test_an_output_transformer_reflects_its_load():
    device = devices.OutputTransformer(20.0, 1e4, 1e-9, 100.0, 0.5)
    circuit = make(
        ("I1", devices.CurrentSource(0.0, 1.0), "0 p"),
        ("T1", device, "p 0 s 0"),
        ("R1", devices.Resistor(8.0), "s 0"),
    )
    system = System(circuit)
    small = SmallSignal(operating_point(system))
    assert small.impedance("p", 1e3).real == pytest.approx(100 + 400 * 8.5, rel=1e-4)


def triode_stage(drive_volt):
    return System(
        make(
            ("VG", devices.VoltageSource(-2.0, drive_volt), "g 0"),
            ("VB", devices.VoltageSource(300.0), "b 0"),
            ("V1", tubes.get("6SN7GT").triode(), "a g 0"),
            ("R1", devices.Resistor(47e3), "b a"),
        )
    )


def test_a_small_drive_gives_the_small_signal_gain_and_distortion_that_grows_with_it():
    system = triode_stage(1.0)
    point = operating_point(system)
    driven = drive(point, 1000.0, np.array([0.001, 0.5, 1.0]))
    gain = abs(SmallSignal(point).tone(np.array([1000.0]))[0, system.node("a")])
    phasors = driven.phasors("a")
    assert abs(phasors[0, 1]) / 0.001 == pytest.approx(gain, rel=1e-5)
    total = distortion(phasors)
    assert total[2] / total[1] == pytest.approx(2.0, rel=0.1)
    assert total[2] > total[1] > 100 * total[0]


def test_the_periodic_solution_satisfies_the_circuit_in_time():
    """Ohm's law through the anode load at every sample, with the tube's own equation."""
    system = triode_stage(4.0)
    driven = drive(operating_point(system), 1000.0, np.array([1.0]))
    grid, anode = (waveform(driven.phasors(node)[0], 64) for node in ("g", "a"))
    current = tubes.get("6SN7GT").triode().currents(np.stack([grid, anode], axis=-1))[0][:, 1]
    np.testing.assert_allclose((300.0 - anode) / 47e3, current, rtol=2e-3)


@settings(max_examples=25, deadline=None)
@given(st.sampled_from(["ECC82", "6SN7GT", "12BH7A", "6AS7G"]), st.floats(-12.0, -1.0), st.floats(0.5, 8.0))
def test_a_symmetric_pair_makes_no_even_harmonics(name, bias, volt):
    tube = tubes.get(name).triode()
    circuit = make(
        ("V1", devices.VoltageSource(bias, volt), "g1 0"),
        ("V2", devices.VoltageSource(bias, -volt), "g2 0"),
        ("VB", devices.VoltageSource(250.0), "b 0"),
        ("VA", tube, "a1 g1 0"),
        ("VC", tube, "a2 g2 0"),
        ("R1", devices.Resistor(22e3), "b a1"),
        ("R2", devices.Resistor(22e3), "b a2"),
        ("RL", devices.Resistor(47e3), "a1 a2"),
    )
    driven = drive(operating_point(System(circuit)), 1000.0, np.array([1.0]))
    between = driven.phasors("a1")[0] - driven.phasors("a2")[0]
    assert np.all(np.abs(between[2::2]) < 1e-9 * abs(between[1]))
    assert abs(between[3]) > 1e-7 * abs(between[1])


def test_an_unloaded_supply_charges_to_the_peak():
    winding = devices.MainsSource(300 * 2**0.5, 50.0, folded=True)
    circuit = make(
        ("T1", winding, "e 0"), ("RW", devices.Resistor(50.0), "e a"), ("D1", devices.Diode(), "a b"),
        ("C1", devices.Capacitor(47e-6), "b 0"), ("R1", devices.Resistor(1e7), "b 0"),
    )  # fmt: skip
    state = solve_circuit(circuit)
    assert winding.peak_volt - 1.5 < state.at.voltage("b") < winding.peak_volt
    assert state.rectifier.ripple_peak_to_peak("b") < 0.02


def test_supply_accuracy_does_not_hang_on_the_number_of_harmonics(monkeypatch):
    from thermionic.circuit import supply

    circuit = compile_design(examples.example("lantern")).netlist
    usual = solve_circuit(circuit).rectifier
    monkeypatch.setattr(supply, "HARMONICS", 160)
    monkeypatch.setattr(supply, "SAMPLES", 640)
    fine = solve_circuit(circuit).rectifier
    assert usual.mean_volt == pytest.approx(fine.mean_volt, rel=2e-4)
    assert usual.peak_ampere == pytest.approx(fine.peak_ampere, rel=0.02)


def test_a_circuit_without_a_solution_says_which_node():
    loop = make(
        ("V1", devices.VoltageSource(10.0), "a 0"),
        ("V2", devices.VoltageSource(12.0), "a 0"),
        ("R1", devices.Resistor(10.0), "a 0"),
    )
    with pytest.raises(NoSolution, match="nothing determines the current in V") as refusal:
        operating_point(System(loop))
    assert refusal.value.where


def test_malformed_netlists_are_refused():
    resistor = devices.Resistor(1.0)
    with pytest.raises(NetlistRefused, match="Two parts are called R1"):
        make(("R1", resistor, "a 0"), ("R1", resistor, "a 0"))
    with pytest.raises(NetlistRefused, match="2 terminals"):
        make(("R1", resistor, "a b 0"))
    with pytest.raises(NetlistRefused, match="earth"):
        make(("R1", resistor, "a b"))
    with pytest.raises(NetlistRefused, match="will not do as a name"):
        make(("R 1", resistor, "a 0"))


def test_newton_that_fails_falls_back(monkeypatch):
    from thermionic.circuit import operating_point as module

    circuit = compile_design(examples.example("lantern")).netlist
    good = solve_circuit(circuit)
    line = good.mains.stand_in
    system = System(circuit.with_device("D1", AffinePorts(((0, 1),), line.siemens, line.ampere)))
    monkeypatch.setattr(module, "_cold", lambda system: np.full(system.size, 1e5))
    assert operating_point(system).voltage("output_anode") == pytest.approx(good.at.voltage("output_anode"), rel=1e-6)


def test_a_large_circuit_that_is_changed_is_solved_by_its_own_matrix():
    """The pattern of a large matrix goes with a copy of the system; its values must not."""
    tube = tubes.get("ECC83").triode()
    parts = [("VB", devices.VoltageSource(300.0), "b 0")]
    for k in range(140):
        parts += [
            (f"V{k}", tube, f"a{k} {'0' if k == 0 else f'g{k}'} k{k}"), (f"RA{k}", devices.Resistor(1e5), f"b a{k}"),
            (f"RK{k}", devices.Resistor(1500.0), f"k{k} 0"),
        ]  # fmt: skip
        if k:
            parts += [
                (f"RG{k}", devices.Resistor(1e6), f"g{k} 0"),
                (f"RC{k}", devices.Resistor(1e8), f"a{k - 1} g{k}"),
            ]
    netlist = make(*parts)
    system = System(netlist)
    assert system.size > LARGE
    before = operating_point(system)
    for ohm in (300.0, 6.8e4):
        other = system.with_device("RK5", devices.Resistor(ohm))
        slopes = before.port_slopes
        rhs = np.arange(system.size, dtype=float)
        fresh = System(netlist.with_device("RK5", devices.Resistor(ohm)))
        np.testing.assert_allclose(other.factored(slopes)(rhs), fresh.factored(slopes)(rhs), rtol=1e-6)
