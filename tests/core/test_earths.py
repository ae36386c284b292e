"""Signal earth as a network, its schools and faults, and protective earth."""

from dataclasses import replace
from functools import cache

import networkx
import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core import simulator
from tests.core.layouts import amplifier, first, laid, moved
from thermionic import examples
from thermionic.amplifier import solve
from thermionic.chassis.arranging import SCHOOLS, arranged
from thermionic.chassis.bodies import bodies
from thermionic.chassis.causes import hums
from thermionic.chassis.document import Earthing, Layout, LayoutRefused, changed_layout
from thermionic.chassis.earthing import EarthNetwork, Link
from thermionic.chassis.editing import screened_at, shielded
from thermionic.chassis.geometry import in_room
from thermionic.chassis.laid import lay
from thermionic.design import changed
from thermionic.earths.faults import faults, tried
from thermionic.earths.protective import Verdict, points
from thermionic.earths.returns import _loops, returns
from thermionic.earths.schools import compared, with_school
from thermionic.errors import Unbalanced


@simulator.needed
def test_an_earth_network_has_the_voltages_of_the_other_simulator(tmp_path):
    now = laid("saltpan", first("saltpan").model_copy(update={"earthing": Earthing(school="chassis")}))
    known = now.humming
    network, hertz = now.earth, known.hertz[:6:5]
    into = known.returned[:, :6:5]
    rng = np.random.default_rng(3)
    emf = 1e-4 * (rng.normal(size=(len(network.links), 2)) + 1j * rng.normal(size=(len(network.links), 2)))
    result = network.volts(hertz, into, emf)
    names = {node: f"n{place}" for place, node in enumerate(network.nodes)} | {network.reference: "0"}
    for column, frequency in enumerate(hertz):
        lines = ["earth"]
        for row, link in enumerate(network.links):
            a, b = (names[end] for end in link.ends)
            size, turn = abs(emf[row, column]), np.degrees(np.angle(emf[row, column]))
            lines.append(f"V{row} m{row} {a} DC 0 AC {size:.12g} {turn:.12g}")
            lines.append(f"R{row} m{row} k{row} {link.ohm:.12g}")
            lines.append(f"L{row} k{row} {b} {max(link.henry, 1e-15):.12g}")
        for place, node in enumerate(network.nodes):
            size, turn = abs(into[place, column]), np.degrees(np.angle(into[place, column]))
            if names[node] != "0" and size > 0:
                lines.append(f"I{place} 0 {names[node]} DC 0 AC {size:.12g} {turn:.12g}")
        lines += [f".ac lin 1 {frequency} {frequency}", ".end"]
        _, variables, data = simulator.run("\n".join(lines), tmp_path)[-1]
        theirs = dict(zip(variables, data[0], strict=True))
        ours = {names[node]: result[place, column] for place, node in enumerate(network.nodes) if names[node] != "0"}
        most = max(abs(value) for value in ours.values())
        for node, value in ours.items():
            assert abs(theirs[f"v({node})"] - value) < 1e-3 * abs(value) + 1e-6 * most


def test_an_earths_adjoint_is_its_own_solution_the_other_way_round():
    network = laid("lantern").earth
    rng = np.random.default_rng(1)
    weights = rng.normal(size=(len(network.nodes), 1)) + 0j
    into = rng.normal(size=(len(network.nodes), 1)) + 0j
    emf = rng.normal(size=(len(network.links), 1)) + 0j
    hertz = np.array([100.0])
    by_ampere, by_emf = network.adjoint(hertz, weights)
    direct = (weights * network.volts(hertz, into, emf)).sum()
    place = network.nodes.index(network.reference)
    direct -= weights[place, 0] * network.volts(hertz, into, emf)[place, 0]
    assert (by_ampere * into).sum() + (by_emf * emf).sum() == pytest.approx(direct)


@pytest.mark.parametrize("school", ["star", "bus", "local stars", "daisy chain", "chassis"])
def test_a_field_without_curl_lifts_the_earth_and_drives_nothing_around(school):
    layout = changed_layout(first("lantern"), earthing={"school": school, "jacks_insulated": False})
    now = laid("lantern", layout)
    network = now.earth
    # An EMF of a volt a metre along x, in wires and along the sheet alike.
    ways = np.array([[way[-1][0] - way[0][0]] for way in network.ways]) + 0j
    assert len(ways) > 3
    volts = network.volts(np.array([50.0]), np.zeros((len(network.nodes), 1), dtype=complex), network.carried @ ways)
    places = {earth.key: earth.at[0] for earth in now.wiring.earths}
    for row, node in enumerate(network.nodes):
        if node in places:
            # Bolts are on the sheet to the centimetre.
            assert volts[row, 0].real == pytest.approx(places[node] - places[network.reference], abs=0.02)
    emf = network.carried @ ways
    around = _loops(now, network, emf, emf)
    assert all(loop.emf < 0.03 for loop in around)
    # As many as there are links beyond those of a tree, the sheet being one piece (Kirchhoff).
    pieces = {node: "sheet" if node in network.sheet else node for node in network.nodes}
    wires = [(pieces[a], pieces[b]) for a, b in (link.ends for link in network.links) if pieces[a] != pieces[b]]
    graph = networkx.Graph(wires)
    assert len(around) == len(wires) - len(graph) + networkx.number_connected_components(graph)
    assert around or school != "bus"


def test_three_resistances_make_the_voltages_of_kirchhoff():
    network = EarthNetwork(("a", "b", "c"), (Link("1", ("a", "b"), 1.0), Link("2", ("b", "c"), 2.0),
                                             Link("3", ("a", "c"), 3.0)), "c")  # fmt: skip
    hertz = np.array([50.0])
    volts = network.volts(hertz, np.array([[1.0], [0.0], [-1.0]], dtype=complex))[:, 0]
    # 3 Ω beside 3 Ω: 1.5 V at a, two thirds of it at b.
    assert volts == pytest.approx([1.5, 1.0, 0.0])
    # A volt around the loop of 6 Ω drives a sixth of an ampere through all of it.
    emf = np.array([[1.0], [0.0], [0.0]], dtype=complex)
    still = network.volts(hertz, np.zeros((3, 1), dtype=complex), emf)
    assert np.abs(network.through(hertz, still, emf)[:, 0]) == pytest.approx([1 / 6] * 3)


def test_the_schools_of_earth_are_compared_in_this_layout():
    result = {one.school: one for one in compared(laid("lantern"))}
    assert [one.now for one in result.values()].count(True) == 1
    assert result["star"].wire > result["bus"].wire > result["chassis"].wire
    assert result["star"].crosstalk < result["bus"].crosstalk < result["daisy chain"].crosstalk + 60


def test_aged_bolts_stand_between_a_terminal_and_the_reference():
    now = laid("lantern", with_school(first("lantern"), "chassis"))
    hertz, one = np.array([1e-3]), next(key for key in now.earth.nodes if key.startswith("jack"))
    ampere = np.zeros((len(now.earth.nodes), 1), dtype=complex)
    ampere[now.earth.nodes.index(one)] = 1.0
    row = now.earth.nodes.index(one)
    fresh, aged = (network.volts(hertz, ampere)[row, 0].real for network in (now.earth, now.earth.aged()))
    # Its own bolt and that of the reference: each from 1 mΩ to 50 mΩ. The sheet and what is soldered stay.
    assert aged - fresh == pytest.approx(2 * 49e-3, rel=1e-6)
    bus, star = (laid("lantern", with_school(first("lantern"), school)).earth for school in ("bus", "star"))
    wires = [[link for link in network.links if link.wire and link.wire.kind == "earth"] for network in (bus, star)]
    # A bus is soldered from end to end and bolted once; of a star every wire ends at the bolt.
    assert [link.bolted for link in wires[0]].count(True) == 1 < len(wires[0])
    assert all(link.bolted == (star.reference in link.ends) for link in wires[1])


def test_a_second_earth_lets_the_charging_pulses_through_the_sheet():
    now = laid("lantern")
    second = next(fault for fault in faults(now) if fault.key.startswith("second:can:blocks/reservoir"))
    _, _, back = tried(now, second.key)
    assert back.load_volt > 20 * returns(now).load_volt
    assert back.loops
    assert second.reads < second.should


@pytest.mark.parametrize(("name", "windings"), [("lantern", 2), ("saltpan", 3)])
def test_what_a_transformer_leaks_flows_through_earth_to_the_inlet(name, windings):
    now = laid(name)
    known = now.humming
    nodes = now.earth.nodes
    # By hand: 400 pF to the core and 200 pF to each earthed winding, from half of the mains.
    each = 2 * np.pi * 50.0 * amplifier(name).design.brief.mains_volt / np.sqrt(2)
    frame = known.returned[nodes.index("mains:transformer:0.frame"), 0]
    inlet = known.returned[nodes.index("mains side:inlet.earth"), 0]
    assert frame == pytest.approx(1j * each * 400e-12)
    assert inlet == pytest.approx(-1j * each * (400e-12 + windings * 200e-12))
    reference = next(earth.key for earth in now.wiring.earths if earth.pin.name.endswith("reference"))
    assert known.returned[nodes.index(reference), 0] == pytest.approx(1j * each * 200e-12)
    # By the bolt of signal earth into the sheet and along it to protective earth.
    through = now.earth.through(known.hertz, now.earth.volts(known.hertz, known.returned))
    row = next(k for k, link in enumerate(now.earth.links) if link.wire and link.wire.kind == "protective earth")
    wire = now.earth.links[row]
    # Copper of 1.5 mm², two joints of 0.5 mΩ and a bolt of 1 mΩ.
    assert wire.ohm == pytest.approx(1.72e-8 * wire.wire.length / 1.5e-6 + 2 * 0.5e-3 + 1e-3)
    assert abs(through[row, 0]) == pytest.approx(abs(inlet), rel=1e-3)


def test_a_source_with_an_earth_of_its_own_hums_through_a_chassis_that_is_met_at_the_supply():
    gained = {}
    for bolt in ("inputs", "supply"):
        layout = changed_layout(first("saltpan"), earthing={"school": "bus", "bolt": bolt})
        now = laid("saltpan", layout)
        key = next(fault.key for fault in faults(now) if fault.key.startswith("source:"))
        fault, wrong, back = tried(now, key)
        loop = next(loop for loop in back.loops if any(link.startswith("source") for link in loop.links))
        assert loop.emf > 0
        assert fault.reads < fault.should
        gained[bolt] = wrong.hum.laid_volt / now.hum.laid_volt
    # Met at the inputs, what flows around flows in no wire of the amplifier's.
    assert gained["inputs"] == pytest.approx(1.0, abs=0.05)
    assert gained["supply"] > 1.1


def test_a_screen_that_is_earthed_at_both_ends_closes_a_loop():
    layout = changed_layout(first("saltpan"), earthing={"school": "star"})
    wire = next(
        wire for wire in laid("saltpan", layout).wiring.wires if wire.net.node == "input" and wire.length > 0.1
    )
    one_end = shielded(layout, wire.key, True)[0]
    both = screened_at(one_end, wire.key, "both ends")[0]
    assert not returns(laid("saltpan", one_end)).loops
    now = laid("saltpan", both)
    assert any("screen" in link for loop in returns(now).loops for link in loop.links)
    both = [[hum.laid_volt for hum in hums(of.humming)] for of in (now, laid("saltpan", one_end))]
    assert both[0] != pytest.approx(both[1], rel=1e-3)
    with pytest.raises(LayoutRefused):
        screened_at(layout, wire.key, "nowhere")


def test_a_corroded_joint_is_an_ohm_on_the_meter_and_a_missing_one_is_open():
    now = laid("lantern")
    by_kind = {
        kind: [fault for fault in faults(now) if fault.key.startswith(kind)] for kind in ("corroded", "missing")
    }
    for fault in by_kind["corroded"]:
        assert 0.9 < fault.reads - fault.should < 1.1
    assert all(fault.reads > 1e5 for fault in by_kind["missing"])
    assert tried(now, "nonsense") is None


def test_protective_earth_is_looked_at_point_by_point():
    layout = first("lantern")
    assert not [point for point in points(laid("lantern")) if point.verdict is Verdict.AMISS]
    far = laid("lantern", moved("lantern", layout, "mains side:earth bolt", u=0.05, v=0.05))
    assert [point.about for point in points(far) if point.verdict is Verdict.AMISS] == [
        "The shortest way from the inlet"
    ]
    thin = laid("lantern", changed_layout(layout, earthing=layout.earthing.model_dump() | {"protective_gauge": 0.5}))
    assert [point.about for point in points(thin) if point.verdict is Verdict.AMISS] == ["Wire size"]
    at = layout.of("mains side:earth bolt")
    shared = laid("lantern", moved("lantern", layout, "earth:signal", u=at.u, v=at.v))
    assert [point.about for point in points(shared) if point.verdict is Verdict.AMISS] == ["Nothing else on its bolt"]


def test_the_way_to_the_protective_bolt_is_short_up_to_250_mm():
    layout = first("lantern")
    inlet, bolt = (in_room(layout.box, layout.of(f"mains side:{name}"), (0.0, 0.0, 0.0))
                   for name in ("inlet", "earth bolt"))  # fmt: skip
    beside = float(np.abs(inlet - bolt)[1:].sum())  # what the two are apart besides across
    for away, verdict in ((0.245, Verdict.SEEN), (0.255, Verdict.AMISS)):
        u = float(inlet[0]) - (away - beside)
        now = laid("lantern", moved("lantern", layout, "mains side:earth bolt", u=u))
        (point,) = (point for point in points(now) if point.about == "The shortest way from the inlet")
        assert point.verdict is verdict
        assert point.words.startswith(f"{away * 1e3:.0f} mm ")


def test_the_grids_earth_voltage_makes_the_hum_at_the_load():
    now = laid("plover", changed_layout(first("plover"), earthing={"school": "chassis"}))
    back = returns(now)
    # The first tube's alone accounts for what comes out.
    first_tube = back.grids[0]
    assert first_tube.at_load == pytest.approx(back.load_volt, rel=0.5)


REFERENCES = ("centre tap", "balance resistors", "balance pot", "one end", "none")
SUPPLIED = (("heater_winding", "heaters"), ("filament_winding", "filament"))


@settings(max_examples=12)
@given(st.sampled_from(SUPPLIED), st.sampled_from(REFERENCES), st.booleans(), st.sampled_from(sorted(SCHOOLS)))
def test_what_comes_back_by_earth_adds_up_however_the_heaters_are_held(supplied, reference, tapped, school):
    """Kirchhoff: no current goes into the earth wiring that does not leave it. A winding ticked as centre-tapped that
    feeds heaters from its own ends sends none of their amperes down its tap."""
    winding, string = supplied
    design = changed(examples.example("mill"), f"blocks/{string}/reference", reference)
    if tapped:  # the same volts over both halves
        whole = design.block(winding)
        design = changed(design, f"blocks/{winding}/centre_tapped", "yes")
        design = changed(design, f"blocks/{winding}/winding_volt", f"{whole.winding_volt / 2}")
        design = changed(design, f"blocks/{winding}/winding_ohm", f"{whole.winding_ohm / 2}")
    amplifier = solve(design)
    now = lay(amplifier, arranged(bodies(amplifier, Layout()), design, Layout(), school))
    into = now.humming.returned
    assert np.abs(into.sum(axis=0)).max() < 1e-5 * np.abs(into).max()
    assert returns(now).load_volt == pytest.approx(untapped(string, reference, school), rel=0.05)


@cache
def untapped(string, reference, school):
    design = changed(examples.example("mill"), f"blocks/{string}/reference", reference)
    amplifier = solve(design)
    return returns(lay(amplifier, arranged(bodies(amplifier, Layout()), design, Layout(), school))).load_volt


def test_no_hum_is_shown_where_the_returns_do_not_add_up():
    now = laid("lantern")
    lost = now.humming.returned.copy()
    row = int(np.argmax(np.abs(lost).max(axis=1)))
    for share, refused in ((2e-3, True), (5e-4, False)):
        wrong = replace(now)
        returned = lost.copy()
        returned[row] *= 1 - share
        vars(wrong.humming)["returned"] = returned
        if refused:
            with pytest.raises(Unbalanced, match="do not add up"):
                _ = wrong.hum
            with pytest.raises(Unbalanced, match="do not add up"):
                returns(wrong)
        else:
            assert wrong.hum.volt > 0
