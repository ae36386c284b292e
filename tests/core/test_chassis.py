"""Layouts: what a design puts on its chassis, how it is wired, what that hums, and what builders learn of it."""

from collections import Counter
from dataclasses import replace
from functools import cache

import numpy as np
import pytest

from tests.core import simulator
from thermionic import examples
from thermionic.amplifier import solve
from thermionic.chassis.arranging import SCHOOLS, arranged, completed, order_of
from thermionic.chassis.bodies import Attached, bodies
from thermionic.chassis.document import Earthing, Layout, LayoutRefused, Placed, Stray, changed_layout, read_layout
from thermionic.chassis.earthing import EarthNetwork, Link
from thermionic.chassis.editing import (
    bent,
    boxed,
    lined_up,
    measured,
    placed_at,
    shielded,
    with_fitting,
    without_fitting,
)
from thermionic.chassis.fitting_in import misfits
from thermionic.chassis.humming import Humming, lay
from thermionic.chassis.nets import EARTH, Nets, block_of
from thermionic.chassis.offers import changes, made
from thermionic.chassis.proposing import cost, longest_grid, proposed
from thermionic.chassis.stability import fed_back
from thermionic.chassis.transfer import transfers
from thermionic.chassis.warmth import ROOM, wanted_vents, warmth
from thermionic.chassis.weighing import symmetry, weight
from thermionic.chassis.wirelist import runs, screened, totals
from thermionic.circuit.netlist import GROUND
from thermionic.devices import Feed, MainsSource
from thermionic.devices.linear import IdealTransformer
from thermionic.earths.faults import faults, tried
from thermionic.earths.protective import Verdict, points
from thermionic.earths.returns import returns
from thermionic.earths.schools import compared

NAMES = sorted(examples.names())
FIRST = "iron at the rear"


@cache
def amplifier(name):
    return solve(examples.example(name))


@cache
def first(name, school=FIRST):
    found = bodies(amplifier(name), Layout())
    return arranged(found, amplifier(name).design, Layout(), school)


def laid(name, layout=None):
    return lay(amplifier(name), layout or first(name))


def body_of(name, key, layout=None):
    return next(body for body in bodies(amplifier(name), layout or first(name)) if body.key.startswith(key))


def moved(name, layout, key, **changes):
    return placed_at(layout, body_of(name, key, layout), **changes)[0]


def way(now, source, how="magnetic", path="the wires"):
    """What one source leaves at the load by one way, V rms."""
    found = [one for one in now.hum.causes if source in one.source and one.way == how and path in one.path]
    return sum(cause.volt**2 for cause in found) ** 0.5


def rms(phasors):
    return float(np.sqrt(np.sum(np.abs(phasors) ** 2) / 2))


# What is on the chassis.


@pytest.mark.parametrize("name", NAMES)
def test_every_terminal_of_every_part_is_soldered_at_one_place(name):
    of = amplifier(name)
    nets = Nets(of.compiled)
    met = Counter(one for body in bodies(of, Layout()) for pin in body.pins for one in pin.attached)
    assert not [one for one, times in met.items() if times > 1]
    for part in of.netlist.parts:
        wound = (
            isinstance(part.device, (Feed, MainsSource, IdealTransformer)) or "winding" in type(part.device).__name__
        )
        windings = {
            block.id for block in of.design.blocks if block.kind in ("winding", "mains-inlet", "mains-transformer")
        }
        heaters = {block.id for block in of.design.blocks if block.kind == "heater-string"}
        sources = {source.block for source in of.compiled.sources}  # what is outside the box
        if wound or block_of(part) in windings | heaters | sources or not (part.path or part.side):
            continue
        for channel in nets.copies(block_of(part)):
            for terminal, _node in enumerate(part.nodes):
                assert met[Attached(part.name, terminal, channel)] == 1, (part.name, terminal, channel)


@pytest.mark.parametrize("name", NAMES)
def test_pins_of_one_net_are_joined_by_a_tree_of_wires(name):
    now = laid(name)
    for net in {wire.net for wire in now.wiring.wires}:
        wires = [wire for wire in now.wiring.wires if wire.net == net]
        ends = {end.key for wire in wires for end in wire.ends}
        pins = {f"{body.key}.{pin.name}" for body in now.bodies for pin in body.pins if pin.net == net}
        assert ends == pins
        assert len(wires) == len(pins) - 1
    for wire in now.wiring.wires:
        assert np.allclose(wire.points[0], wire.ends[0].at)
        assert np.allclose(wire.points[-1], wire.ends[1].at)


@pytest.mark.parametrize("name", NAMES)
def test_what_flows_into_signal_earth_flows_out_of_it(name):
    now = laid(name)
    into = Humming(now).returned
    most = max(rms(row) for row in into)
    # A converter's own return has no terminal: three thousandths of its input's ripple are missing there.
    assert rms(into.sum(axis=0)) <= 3e-3 * most + 1e-9


@pytest.mark.parametrize("school", SCHOOLS)
@pytest.mark.parametrize("name", ["lantern", "saltpan", "plover", "mill", "sedge", "hurdle"])
def test_a_first_arrangement_can_be_built(name, school):
    layout = first(name, school)
    found = bodies(amplifier(name), layout)
    assert {one.body for one in layout.placed} == {body.key for body in found}
    assert not [one.words for one in misfits(found, layout) if one.impossible]


def test_a_tube_is_on_the_pins_that_its_base_has():
    # 6SL7GT: 1 grid 2, 2 anode 2, 3 cathode 2, 4 grid 1, 5 anode 1, 6 cathode 1. The first section is the left's.
    socket = body_of("lantern", "tube:v1")
    assert {pin.name: pin.net.name for pin in socket.pins if pin.net and pin.name.isdigit()} == {
        "1": "driver grid (right)", "2": "driver anode (right)", "3": "driver cathode (right)",
        "4": "driver grid (left)", "5": "driver anode (left)", "6": "driver cathode (left)",
    }  # fmt: skip
    assert socket.heaters == ("7", "8")
    # Seen from below they run clockwise from the key at the front: pin 1 is to the right of it seen from above.
    one, two = socket.pin("1").at, socket.pin("2").at
    assert one[1] < 0 < one[0]
    assert two[0] > one[0]


def test_what_the_design_gains_is_given_a_place_and_the_rest_stays():
    layout = first("lantern")
    lost = layout.model_copy(update={"placed": tuple(one for one in layout.placed if not one.body.startswith("pot"))})
    again = completed(bodies(amplifier("lantern"), lost), amplifier("lantern").design, lost)
    assert {one.body for one in again.placed} == {one.body for one in layout.placed}
    assert all(again.of(one.body) == one for one in lost.placed)


# Transfers to the load.


@pytest.mark.parametrize("name", ["lantern", "hurdle", "plover"])
def test_a_voltage_at_all_terminals_of_a_node_does_nothing(name):
    of = amplifier(name)
    known = transfers(of)
    skipped = {part.name for part in of.netlist.parts if known.local(part.name) is None}
    nodes = [use.grid for use in of.compiled.tubes] + [use.anode for use in of.compiled.tubes]
    for node in nodes:
        meeting = [(part.name, place) for part in of.netlist.parts for place, at in enumerate(part.nodes)
                   if of.compiled.node(at) == of.compiled.node(node)]  # fmt: skip
        assert not skipped & {part for part, _ in meeting}
        each = [known.of_terminal(Attached(part, place, 0)) for part, place in meeting]
        assert rms(sum(each)) < 1e-6 * max(rms(one) for one in each)


def test_a_voltage_in_a_grids_lead_is_amplified_like_one_at_the_grid():
    of = amplifier("lantern")
    known = transfers(of).at(np.array([1000.0]))
    use = next(use for use in of.compiled.tubes if use.block == "output")
    place = of.netlist[use.part].device.terminals.index("grid")
    # The output stage's gain from its grid to the load, with the stage before it still.
    expected = of.gain(of.load.node, use.grid)
    assert abs(known.of_terminal(Attached(use.part, place, 1))[0]) == pytest.approx(expected, rel=0.02)


def test_a_current_into_the_loads_own_node_meets_the_output_impedance_beside_the_load():
    of = amplifier("lantern")
    known = transfers(of).at(np.array([1000.0]))
    load = of.load.ohm
    expected = load * of.output_impedance / (load + of.output_impedance)
    assert abs(known.of_current(of.load.node)[0]) == pytest.approx(expected, rel=0.02)


# Earth.


@simulator.needed
def test_an_earth_network_has_the_voltages_of_the_other_simulator(tmp_path):
    now = laid("saltpan", first("saltpan").model_copy(update={"earthing": Earthing(school="chassis")}))
    known = Humming(now)
    network, hertz = now.earth, known.hertz[:6:5]
    into = known.returned[:, :6:5]
    rng = np.random.default_rng(3)
    emf = 1e-4 * (rng.normal(size=(len(network.links), 2)) + 1j * rng.normal(size=(len(network.links), 2)))
    found = network.volts(hertz, into, emf)
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
        ours = {names[node]: found[place, column] for place, node in enumerate(network.nodes) if names[node] != "0"}
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
    places = {one.key: one.at[0] for one in now.wiring.earths}
    for row, node in enumerate(network.nodes):
        if node in places:
            # Bolts are on the sheet to the centimetre.
            assert volts[row, 0].real == pytest.approx(places[node] - places[network.reference], abs=0.02)


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


# The lessons that builders learn.


def test_heaters_beside_the_volume_control_hum_more_than_along_the_edge():
    layout = changed_layout(first("weir"), heater_pitch=0.0)
    now = laid("weir", layout)
    pair = next(pair for pair in now.wiring.pairs if pair.ends[1] == "tube:v1:2")
    wire = next(one for one in now.wiring.wires if "pot" in one.key and "tube:v1:2" in one.key)
    beside = laid(
        "weir", bent(layout, pair.key, [(x + 0.004, y + 0.004) for x, y in wire.points[1:-1, :2].tolist()])[0]
    )
    assert way(beside, "Heater wires") > 5 * way(now, "Heater wires")


def test_untwisted_heaters_hum_more_than_twisted_ones():
    layout = first("lantern")
    plain = changed_layout(layout, heater_pitch=0.0)
    assert way(laid("lantern", plain), "Heater wires") > 2 * way(laid("lantern"), "Heater wires")


def test_inputs_beside_the_mains_pick_up_more_than_beside_the_first_tube():
    layout = first("saltpan")
    pot = next(one for one in layout.placed if one.body.startswith("pot"))
    near, beside = layout, layout
    for number, key in enumerate(one.body for one in layout.placed if one.body.startswith("jack:input")):
        near = moved("saltpan", near, key, face="front", u=pot.u - 0.03 - 0.02 * number, v=pot.v)
        beside = moved("saltpan", beside, key, u=0.10 + 0.02 * number)
    assert way(laid("saltpan", beside), "") > 3 * way(laid("saltpan", near), "")
    # With a wire of its own to one point for each, the loops are as large as the box.
    stars = [laid("saltpan", changed_layout(one, earthing={"school": "star"})) for one in (near, beside)]
    assert way(stars[1], "") > 10 * way(stars[0], "")


@pytest.mark.parametrize("name", ["lantern", "saltpan", "mill"])
def test_a_mains_switch_at_the_front_brings_the_mains_to_the_volume_control(name):
    layout = first(name)
    pot = next(one for one in layout.placed if one.body.startswith("pot"))
    front = moved(name, layout, "mains side:switch", face="front", u=pot.u + 0.03, v=pot.v)
    assert way(laid(name, front), "Mains wires", "capacitive") > 10 * way(laid(name), "Mains wires", "capacitive")


def test_a_transformer_that_lies_across_another_leaves_less_in_its_core():
    layout = first("lantern")
    mains, output = layout.of("mains:transformer:0"), layout.of("iron:transformer:2")
    # Both lying, one beside the other: their coils along the same direction, and then at right angles.
    along = moved("lantern", layout, "iron:transformer:2", mount="lying", turn=0.0, u=mains.u - 0.13, v=mains.v)
    along = moved("lantern", along, "mains:transformer:0", mount="lying", turn=0.0)
    across = moved("lantern", along, "iron:transformer:2", turn=90.0)

    def in_core(layout):
        return sum(c.volt**2 for c in laid("lantern", layout).hum.causes if "right, in its core" in c.path) ** 0.5

    assert in_core(along) > 5 * in_core(across)
    assert output is not None


def test_charging_pulses_belong_in_no_wire_of_a_signal():
    layout = first("weir")
    volts = {
        school: returns(laid("weir", changed_layout(layout, earthing={"school": school}))).load_volt
        for school in ("star", "bus", "local stars", "daisy chain")
    }
    assert max(volts["star"], volts["bus"], volts["local stars"]) < 0.2 * volts["daisy chain"]


def test_a_tube_sunk_below_the_sheet_is_farther_from_the_transformer_beside_it():
    layout = changed_layout(
        first("lantern"), box=first("lantern").box.model_dump() | {"material": "steel", "height": 0.2}
    )
    mains = layout.of("mains:transformer:0")
    above = moved("lantern", layout, "tube:v1", u=mains.u - 0.06, v=mains.v)
    sunk = moved("lantern", above, "tube:v1", raised=-0.09)

    def inside(layout):
        return (
            sum(
                c.volt**2
                for c in laid("lantern", layout).hum.causes
                if c.path.startswith("V1") and "inside" in c.path
            )
            ** 0.5
        )

    assert inside(above) > 1.5 * inside(sunk)


def test_a_jack_on_the_panel_closes_a_loop():
    layout = first("saltpan")
    plain = laid("saltpan", layout)
    bare = laid("saltpan", changed_layout(layout, earthing=layout.earthing.model_dump() | {"jacks_insulated": False}))
    assert not returns(plain).loops
    loops = returns(bare).loops
    assert loops
    assert any("jack" in name or "Input" in name for name in (loop.name for loop in loops))
    assert bare.hum.laid_volt != pytest.approx(plain.hum.laid_volt, rel=0.01)


def test_what_is_measured_of_a_stray_field_narrows_its_band_and_scales_it():
    layout = first("saltpan")
    key = "mains:mains_transformer:0" if layout.of("mains:mains_transformer:0") else layout.placed[0].body
    key = next(one.body for one in layout.placed if one.body.startswith("mains:"))
    by = {}
    for tesla in (10.0, 20.0):
        now = laid(
            "saltpan", layout.model_copy(update={"strays": (Stray(body=key, microtesla=tesla, distance=0.1),)})
        )
        by[tesla] = next(cause for cause in now.hum.causes if cause.key == key and cause.path.startswith("the wires"))
    assert by[20.0].volt == pytest.approx(2 * by[10.0].volt, rel=1e-6)
    unknown = next(c for c in laid("saltpan").hum.causes if c.key == key and c.path.startswith("the wires"))
    assert by[10.0].unsure < 0.5 * unknown.unsure


def test_what_is_read_at_the_loudspeaker_is_the_most_that_any_cause_can_be():
    layout = first("saltpan")
    plain = laid("saltpan", layout).hum
    low, high = plain.band()
    assert low < plain.volt < high
    read = 0.5 * plain.volt
    narrowed = laid("saltpan", changed_layout(layout, measured_volt=read)).hum
    assert narrowed.band()[1] == pytest.approx(1.1 * read)
    assert all(narrowed.reach(cause)[1] <= 1.1 * read + 1e-15 for cause in narrowed.causes)
    assert narrowed.reach(plain.causes[-1]) == plain.reach(plain.causes[-1])
    loudest = plain.causes[0]
    assert plain.reach(loudest) == pytest.approx((loudest.volt / loudest.unsure, loudest.volt * loudest.unsure))


def test_a_screen_takes_the_capacitance_away_and_costs_treble():
    layout = first("saltpan")
    now = laid("saltpan")
    wires = [wire for wire in now.wiring.wires if wire.net.node == "volume" and wire.kind == "signal"]
    covered = layout
    for wire in wires:
        covered = shielded(covered, wire.key, True)[0]
    after = laid("saltpan", covered)
    assert way(after, "Heater wires", "capacitive") < way(now, "Heater wires", "capacitive")
    lost = screened(after)
    assert len(lost) == len(wires)
    for one in lost:
        # 100 pF a metre across the impedance there.
        assert one.farad == pytest.approx(100e-12 * (one.run.metres - 0.04), rel=0.01)
        assert one.hertz == pytest.approx(1 / (2 * np.pi * one.ohm * one.farad))


# Offers and proposals.


def test_an_offer_does_what_it_says():
    layout = changed_layout(first("lantern", "symmetric"), heater_pitch=0.0)
    now = laid("lantern", layout)
    found = changes(now)
    assert found
    assert [one.volt for one in found] == sorted(one.volt for one in found)
    best = found[0]
    after, words = made(now.bodies, layout, best.what)
    assert words
    assert lay(now.amplifier, after).hum.volt == pytest.approx(best.volt)
    assert best.gain(now.hum) > 0.3 or best.laid_volt < now.hum.laid_volt
    with pytest.raises(LayoutRefused):
        made(now.bodies, layout, {"kind": "wish"})


def test_a_proposal_is_no_worse_than_any_school_and_leaves_what_is_pinned():
    of = amplifier("lantern")
    pinned = first("lantern").of("tube:v1:0").model_copy(update={"pinned": True, "u": 0.2, "v": 0.15})
    layout = first("lantern").with_placed(pinned)
    found = proposed(of, layout, seconds=2.0)
    assert found.layout.of("tube:v1:0") == pinned
    for school in SCHOOLS:
        assert cost(found.laid) <= cost(lay(of, arranged(bodies(of, layout), of.design, layout, school))) + 1e-9
    assert found.tried > len(SCHOOLS)


# Fit, warmth, weight, wires.


def test_what_is_in_the_same_place_is_said_and_what_is_just_beside_it_not():
    layout = first("lantern")
    can, other = (body_of("lantern", f"can:blocks/ht{n}") for n in (1, 2))
    at = layout.of(can.key)
    touching = (can.sizes.across + other.sizes.across) / 2
    for shift, meets in ((touching - 0.002, True), (touching + 0.0006, False)):
        trial = moved("lantern", layout, other.key, u=at.u + shift, v=at.v, turn=0.0)
        trial = moved("lantern", trial, can.key, turn=0.0)
        pairs = [
            set(one.bodies)
            for one in misfits(bodies(amplifier("lantern"), trial), trial)
            if "same place" in one.words
        ]
        assert ({can.key, other.key} in pairs) is meets


def test_depth_edges_lids_and_holes_are_checked():
    layout = first("lantern")

    def words(layout):
        return " ".join(one.words for one in misfits(bodies(amplifier("lantern"), layout), layout))

    flat = changed_layout(layout, box=layout.box.model_dump() | {"height": 0.027})
    assert "deep, and the box has" in words(flat)
    assert "too high for the lid" in words(changed_layout(layout, box=layout.box.model_dump() | {"lid": 0.05}))
    edge = moved("lantern", layout, "can:blocks/ht1", u=0.01)
    assert "over the edge of the top" in words(edge)
    tube, bolt = layout.of("tube:v1:0"), "earth:signal"
    assert "of sheet between them" in words(moved("lantern", layout, bolt, u=tube.u + 0.019 + 0.005, v=tube.v))


def test_a_capacitor_is_warmer_nearer_to_a_hot_tube_and_lives_shorter():
    layout = first("lantern")
    tube = layout.of("tube:v2:1")
    key = body_of("lantern", "can:blocks/ht1").key
    by_gap = []
    for away in (0.06, 0.12, 0.24):
        now = laid("lantern", moved("lantern", layout, key, u=min(tube.u + away, 0.41), v=tube.v))
        by_gap.append(next(one.celsius for one in warmth(now).capacitors if one.body.key == key))
    assert by_gap[0] > by_gap[1] > by_gap[2] > ROOM
    # 20 W of which seven tenths are radiated, spread over a sphere of 6 cm and taken up on the breadth of a cylinder.
    watt = body_of("lantern", "tube:v2:1").watt
    alone = 0.7 * watt / (4 * np.pi * 0.06**2) / (np.pi * 11.0)
    assert by_gap[0] - ROOM > 0.6 * alone


def test_the_vents_that_are_wanted_keep_the_air_to_what_they_are_for():
    layout = first("weir")
    heat = warmth(laid("weir"))
    assert heat.wanted_vents > 0
    vented = layout
    for number in range(40):
        vented, _ = with_fitting(vented, "vent")
        vented = vented.with_placed(Placed(body=f"fitting:vent:{number + 1}", u=0.1, v=0.1))
        after = warmth(laid("weir", vented))
        if after.vents >= heat.wanted_vents:
            break
    assert after.inside_celsius == pytest.approx(ROOM + 15.0, abs=1.5)
    assert wanted_vents(1.0, layout) == 0.0
    assert without_fitting(vented, "fitting:vent:1")[0].of("fitting:vent:1") is None


def test_it_balances_where_its_moments_do():
    now = laid("lantern")
    load = weight(now)
    width = now.layout.box.width
    placed = [one.model_copy(update={"u": width - one.u}) if one.face == "top" else one for one in now.layout.placed]
    mirrored = now.layout.model_copy(update={"placed": tuple(placed)})
    other = weight(laid("lantern", mirrored))
    assert other.kg == pytest.approx(load.kg)
    # Of the top; what is on the walls is light.
    assert load.balance[0] + other.balance[0] == pytest.approx(now.layout.box.width, abs=0.02)
    assert 0.5 < load.kg / sum(body.sizes.kg for body in now.bodies) < 2.0
    assert symmetry(laid("lantern", mirrored)) == pytest.approx(symmetry(now), abs=1e-6)


def test_the_wire_list_has_every_wire_once_and_pairs_twice():
    now = laid("saltpan")
    found = runs(now)
    assert len(found) == len(now.wiring.wires) + len(now.wiring.pairs) + sum(
        link.wire is not None for link in now.earth.links
    )
    bought = {kind: metres for kind, metres, _, _ in totals(found)}
    heaters = [run for run in found if run.kind == "heater"]
    assert bought["heater"] == pytest.approx(2 * sum(run.metres for run in heaters))
    assert all(run.metres > 0.04 for run in found)


# Earths.


def test_the_schools_of_earth_are_compared_in_this_layout():
    found = {one.school: one for one in compared(laid("lantern"))}
    assert [one.now for one in found.values()].count(True) == 1
    assert found["star"].wire > found["bus"].wire > found["chassis"].wire
    assert found["star"].crosstalk < found["bus"].crosstalk < found["daisy chain"].crosstalk + 60


def test_a_second_earth_lets_the_charging_pulses_through_the_sheet():
    now = laid("lantern")
    second = next(fault for fault in faults(now) if fault.key.startswith("second:can:blocks/reservoir"))
    _, _, back = tried(now, second.key)
    assert back.load_volt > 20 * returns(now).load_volt
    assert back.loops
    assert second.reads < second.should


def test_a_source_with_an_earth_of_its_own_hums_through_a_chassis_that_is_met_at_the_supply():
    gained = {}
    for bolt in ("inputs", "supply"):
        layout = changed_layout(first("saltpan"), earthing={"school": "bus", "bolt": bolt})
        now = laid("saltpan", layout)
        key = next(fault.key for fault in faults(now) if fault.key.startswith("source:"))
        fault, wrong, back = tried(now, key)
        loop = next(one for one in back.loops if any(link.startswith("source") for link in one.links))
        assert loop.emf > 0
        assert fault.reads < fault.should
        gained[bolt] = wrong.hum.laid_volt / now.hum.laid_volt
    # Met at the inputs, what flows around flows in no wire of the amplifier's.
    assert gained["inputs"] == pytest.approx(1.0, abs=0.05)
    assert gained["supply"] > 1.1


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
    assert not [one for one in points(laid("lantern")) if one.verdict is Verdict.AMISS]
    far = laid("lantern", moved("lantern", layout, "mains side:earth bolt", u=0.05, v=0.05))
    assert [one.about for one in points(far) if one.verdict is Verdict.AMISS] == ["The shortest way from the inlet"]
    thin = laid("lantern", changed_layout(layout, earthing=layout.earthing.model_dump() | {"protective_gauge": 0.5}))
    assert [one.about for one in points(thin) if one.verdict is Verdict.AMISS] == ["Wire size"]
    at = layout.of("mains side:earth bolt")
    shared = laid("lantern", moved("lantern", layout, "earth:signal", u=at.u, v=at.v))
    assert [one.about for one in points(shared) if one.verdict is Verdict.AMISS] == ["Nothing else on its bolt"]


def test_the_grids_earth_voltage_makes_the_hum_at_the_load():
    now = laid("plover", changed_layout(first("plover"), earthing={"school": "chassis"}))
    back = returns(now)
    # The first tube's alone accounts for what comes out.
    first_tube = back.grids[0]
    assert first_tube.at_load == pytest.approx(back.load_volt, rel=0.5)


# The document.


@pytest.mark.parametrize(
    ("wrong", "words"),
    [
        ({"box": {"width": 0.003}}, "box/width"),
        ({"box": {"lip": 0.03, "width": 0.06, "depth": 0.06}}, "lips would meet"),
        ({"format": "something-else"}, "no layout"),
        ({"placed": [{"body": "tube:v1:0", "u": 0, "v": 0}] * 2}, "twice"),
        ({"placed": [{"body": f"b{n}", "u": 0, "v": 0} for n in range(401)]}, "at most 400"),
        ({"placed": [{"body": "x", "u": 9e9, "v": 0}]}, "placed/0/u"),
        ({"holes": [{"face": "top", "u": 0, "v": 0}]}, "diameter"),
        ({"unknown": 1}, "unknown"),
        ([], "the layout"),
    ],
)  # fmt: skip
def test_a_layout_that_cannot_be_is_refused_with_its_place(wrong, words):
    with pytest.raises(LayoutRefused, match=words):
        read_layout(wrong)


def test_a_part_cannot_be_put_off_the_box():
    layout = first("lantern")
    with pytest.raises(LayoutRefused, match="would be off the top"):
        moved("lantern", layout, "tube:v1", u=0.9)
    with pytest.raises(LayoutRefused, match="no face of a box"):
        moved("lantern", layout, "tube:v1", face="inside")
    with pytest.raises(LayoutRefused, match="outside the box"):
        bent(layout, "a > b", [(2.0, 0.0)])
    smaller, _ = boxed(layout, width=0.3)
    assert all(one.u <= 0.3 for one in smaller.placed)


def test_a_layout_is_read_as_it_was_written():
    layout = shielded(first("lantern"), "a > b", True)[0]
    assert read_layout(layout.model_dump(mode="json")) == layout


def test_an_unplaced_amplifier_hums_nothing_of_its_own_and_nothing_breaks():
    bare = lay(amplifier("lantern"), Layout())
    assert bare.hum.laid_volt == 0.0
    assert bare.hum.volt > 0
    assert not bare.wiring.wires
    assert warmth(bare).capacitors == ()
    assert longest_grid(bare) == 0.0
    assert EARTH.node == GROUND
    assert replace(bare.hum, causes=()).volt == 0.0
    assert order_of(bare.bodies, amplifier("lantern").design)


# Lining up, measured sizes, output to input.


def test_parts_are_lined_up_by_the_first_spread_and_mirrored():
    layout = first("lantern")
    keys = ["tube:v2:2", "tube:v2:1", "can:blocks/ht1/capacitor:C5:0"]
    row, words = lined_up(layout, keys, "in a row")
    assert {row.of(key).v for key in keys} == {layout.of("tube:v2:2").v}
    assert words == "3 parts in a row"
    column, _ = lined_up(layout, keys, "in a column")
    assert {column.of(key).u for key in keys} == {layout.of("tube:v2:2").u}
    even, _ = lined_up(layout, keys, "evenly across")
    places = sorted(even.of(key).u for key in keys)
    assert places[1] - places[0] == pytest.approx(places[2] - places[1])
    assert (places[0], places[2]) == (min(layout.of(k).u for k in keys), max(layout.of(k).u for k in keys))
    mirrored, _ = lined_up(layout, keys[:2], "mirrored")
    assert mirrored.of(keys[1]).u + mirrored.of(keys[0]).u == pytest.approx(layout.box.width)
    for wrong, how in ((keys[:1], "in a row"), (keys, "in a heap"), (["tube:v1:0", "pot:volume:RV1"], "in a row")):
        with pytest.raises(LayoutRefused):
            lined_up(layout, wrong, how)


def test_a_measured_size_takes_the_usual_ones_place_and_moves_its_holes():
    layout = first("lantern")
    body = body_of("lantern", "mains:transformer")
    mine, _ = measured(layout, body, [0.12, 0.08, 0.1, 0.006])
    again = body_of("lantern", "mains:transformer", mine)
    assert (again.sizes.across, again.sizes.above, again.sizes.source) == (0.12, 0.1, "measured by you")
    assert not again.sizes.unsure
    scale = 0.12 / body.sizes.across
    assert again.sizes.openings[0].at[0] == pytest.approx(scale * body.sizes.openings[0].at[0])
    assert body_of("lantern", "mains:transformer", measured(mine, body, None)[0]).sizes == body.sizes
    with pytest.raises(LayoutRefused, match="sizes"):
        measured(layout, body, [9.0, 0.1, 0.1, 0.0])


def test_an_output_led_along_the_input_comes_back_in_phase():
    # Two stages turn the signal over twice: the second anode beside the volume control is what oscillates.
    layout = first("lantern")
    now = laid("lantern")
    anode = next(wire for wire in now.wiring.wires if wire.net.node == "output_anode" and wire.net.channel == 1)
    grid = next(wire for wire in now.wiring.wires if wire.net.node == "volume" and "pot" in wire.key
                and wire.net.channel == 1)  # fmt: skip
    plan = [(x + 0.003, y + 0.003) for x, y in grid.points[1:-1, :2].tolist()]
    beside = laid("lantern", bent(layout, anode.key, plan)[0])

    def worst(of):
        return next(one for one in fed_back(of) if one.out == "output anode (left)" and one.into == "volume (left)")

    assert worst(beside).farad > 2 * worst(now).farad
    # Twice the capacitance is twice the loop.
    assert worst(beside).gain_db - worst(now).gain_db == pytest.approx(
        20 * np.log10(worst(beside).farad / worst(now).farad), abs=0.1
    )
    assert worst(beside).too_near is (worst(beside).gain_db > -10)
