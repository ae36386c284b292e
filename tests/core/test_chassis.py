"""What a design puts on its chassis, how it is wired, and whether it fits, warms and weighs."""

import json
from collections import Counter
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from tests.core.layouts import NAMES, amplifier, body_of, first, laid, moved, rms
from thermionic.amplifier import solve
from thermionic.chassis.arranging import SCHOOLS, completed, order_of
from thermionic.chassis.bodies import bodies
from thermionic.chassis.body import Attached
from thermionic.chassis.document import Layout, LayoutRefused, changed_layout, read_layout
from thermionic.chassis.editing import (
    bent,
    boxed,
    coloured,
    lined_up,
    measured,
    shielded,
)
from thermionic.chassis.fitting_in import misfits
from thermionic.chassis.laid import lay
from thermionic.chassis.nets import EARTH, block_of, nets_of
from thermionic.chassis.pins import section_pins
from thermionic.chassis.proposing import longest_grid
from thermionic.chassis.stability import fed_back
from thermionic.chassis.warmth import warmth
from thermionic.chassis.wirelist import runs, totals
from thermionic.circuit.netlist import GROUND
from thermionic.design import changed
from thermionic.devices import Feed, MainsSource
from thermionic.devices.linear import IdealTransformer
from thermionic.examples import example
from thermionic.tubes import get


@pytest.mark.parametrize("name", NAMES)
def test_every_terminal_of_every_part_is_soldered_at_one_place(name):
    of = amplifier(name)
    nets = nets_of(of.compiled)
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
    into = now.humming.returned
    assert rms(into.sum(axis=0)) <= 2e-6 * max(rms(row) for row in into)


@pytest.mark.parametrize("name", NAMES)
def test_all_of_signal_earth_a_volt_higher_is_nothing_at_the_load(name):
    now = laid(name)
    channel = min(amplifier(name).design.channels - 1, 1)
    each = [now.transfers.of_terminal(one) for terminal in now.wiring.earths for one in terminal.pin.attached
            if one.channel in (0, channel)]  # fmt: skip
    assert rms(sum(each)) < 1e-6 * max(rms(one) for one in each)


@pytest.mark.parametrize("school", SCHOOLS)
@pytest.mark.parametrize("name", ["lantern", "saltpan", "plover", "mill", "sedge", "hurdle", "beacon"])
def test_a_first_arrangement_can_be_built(name, school):
    layout = first(name, school)
    result = bodies(amplifier(name), layout)
    assert {placed_body.body for placed_body in layout.placed} == {body.key for body in result}
    assert not [misfit.words for misfit in misfits(result, layout) if misfit.impossible]


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


@pytest.mark.parametrize(
    ("type_", "section", "pins"),
    [
        # From the bases as the data sheets draw them.
        ("ECL82", "a", {"anode": "9", "grid": "1", "cathode": "8"}),
        ("ECL82", "b", {"anode": "6", "grid": "3", "cathode": "2", "screen": "7"}),
        ("ECC83", "a", {"anode": "6", "grid": "7", "cathode": "8"}),
        ("ECC83", "b", {"anode": "1", "grid": "2", "cathode": "3"}),
        ("2A3", "a", {"anode": "2", "grid": "3", "cathode": "1"}),
        ("GZ34", "a", {"anode1": "4", "anode2": "6", "cathode": "8"}),
    ],
)  # fmt: skip
def test_each_section_is_on_its_own_pins(type_, section, pins):
    result = section_pins(get(type_), section)
    if type_ == "ECC83" and result["anode"] != pins["anode"]:  # either section may be called the first
        pins = {"anode": {"6": "1", "1": "6"}[pins["anode"]], "grid": {"7": "2", "2": "7"}[pins["grid"]],
                "cathode": {"8": "3", "3": "8"}[pins["cathode"]]}  # fmt: skip
    assert {electrode: result[electrode] for electrode in pins} == pins


def test_a_part_without_room_is_hard_to_pull_and_a_hole_over_the_edge_cannot_be():
    layout = first("lantern")
    tube = body_of("lantern", "tube:v2:1")
    at = layout.of(tube.key)
    hemmed = layout
    for key, side in (("can:blocks/ht1", 1), ("can:blocks/ht2", -1)):
        other = body_of("lantern", key)
        gap = (tube.sizes.across + other.sizes.across) / 2 + 0.004
        hemmed = moved("lantern", hemmed, key, u=at.u + side * gap, v=at.v, turn=0.0)
    words = [misfit.words for misfit in misfits(bodies(amplifier("lantern"), hemmed), hemmed)]
    assert any("hard to pull" in word and "V2 2A3 left" in word for word in words)
    mains = moved("lantern", layout, "mains:transformer", u=0.379, turn=90.0)
    words = [misfit.words for misfit in misfits(bodies(amplifier("lantern"), mains), mains)]
    assert any("over the edge of the top" in word and "hole of Mains" in word for word in words)


def test_what_the_design_gains_is_given_a_place_and_the_rest_stays():
    layout = first("lantern")
    lost = layout.model_copy(
        update={
            "placed": tuple(placed_body for placed_body in layout.placed if not placed_body.body.startswith("pot"))
        }
    )
    again = completed(bodies(amplifier("lantern"), lost), amplifier("lantern").design, lost)
    assert {placed_body.body for placed_body in again.placed} == {placed_body.body for placed_body in layout.placed}
    assert all(again.of(placed_body.body) == placed_body for placed_body in lost.placed)


def test_what_is_in_the_same_place_is_said_and_what_is_just_beside_it_not():
    layout = first("lantern")
    can, other = (body_of("lantern", f"can:blocks/ht{n}") for n in (1, 2))
    at = layout.of(can.key)
    touching = (can.sizes.across + other.sizes.across) / 2
    for shift, meets in ((touching - 0.002, True), (touching + 0.0006, False)):
        trial = moved("lantern", layout, other.key, u=at.u + shift, v=at.v, turn=0.0)
        trial = moved("lantern", trial, can.key, turn=0.0)
        pairs = [
            set(misfit.bodies)
            for misfit in misfits(bodies(amplifier("lantern"), trial), trial)
            if "same place" in misfit.words
        ]
        assert ({can.key, other.key} in pairs) is meets


def test_depth_edges_lids_and_holes_are_checked():
    layout = first("lantern")

    def words(layout):
        return " ".join(misfit.words for misfit in misfits(bodies(amplifier("lantern"), layout), layout))

    flat = changed_layout(layout, box=layout.box.model_dump() | {"height": 0.027})
    assert "deep, and the box has" in words(flat)
    assert "too high for the lid" in words(changed_layout(layout, box=layout.box.model_dump() | {"lid": 0.05}))
    edge = moved("lantern", layout, "can:blocks/ht1", u=0.01)
    assert "over the edge of the top" in words(edge)
    tube, bolt = layout.of("tube:v1:0"), "earth:signal"
    assert "of sheet between them" in words(moved("lantern", layout, bolt, u=tube.u + 0.019 + 0.005, v=tube.v))


def test_a_strip_is_made_as_it_was_chosen_and_earthed_at_the_lug_that_was():
    layout = first("lantern")
    key = "strip:v1:1"
    plain = body_of("lantern", key, layout)
    board = body_of("lantern", key, moved("lantern", layout, key, strip="turret board"))
    assert {pin.at[1] for pin in plain.pins} == {0.0}
    rows = sorted({pin.at[1] for pin in board.pins})
    assert rows[1] - rows[0] == pytest.approx(0.0508)
    assert board.pin("2").at[0] - board.pin("1").at[0] == pytest.approx(0.0127)
    before = next(pin.name for pin in plain.pins if pin.net == EARTH)
    last = plain.pins[-1].name
    assert before != last
    changed = body_of("lantern", key, moved("lantern", layout, key, earth_lug=len(plain.pins)))
    assert changed.pin(last).net == EARTH
    assert changed.pin(before).net == plain.pin(last).net
    assert Counter(changed.pin(pin.name).net for pin in plain.pins) == Counter(pin.net for pin in plain.pins)


def test_a_socket_on_a_board_lets_the_glass_through_and_an_axial_can_lies():
    layout = first("lantern")
    plain, key = body_of("lantern", "tube:v2:1"), "can:blocks/ht1"
    board = body_of("lantern", "tube:v2:1", moved("lantern", layout, "tube:v2:1", mount="board"))
    glass = get("2A3").envelope.diameter_m
    assert (
        max(opening.diameter for opening in plain.sizes.openings)
        < glass
        < max(opening.diameter for opening in board.sizes.openings)
    )
    for pin in plain.pins:
        assert board.pin(pin.name).at == pytest.approx((*pin.at[:2], pin.at[2] - 0.012))
    assert board.sizes.above == pytest.approx(plain.sizes.above - 0.012)
    can, lying = body_of("lantern", key), body_of("lantern", key, moved("lantern", layout, key, mount="lying"))
    assert (lying.sizes.across, lying.sizes.above) == pytest.approx((can.sizes.above, can.sizes.along))
    assert lying.pin("plus").at[0] - lying.pin("minus").at[0] > lying.sizes.across
    odd = body_of("lantern", key, moved("lantern", layout, key, mount="toroid"))
    assert odd.sizes == can.sizes


@pytest.mark.parametrize("name", ["lantern", "plover"])
def test_a_nut_wants_room_for_its_wrench(name):
    layout = first(name)
    key, choke = "strip:v1:1", body_of(name, "mains:")
    there = layout.of(choke.key).model_copy(update={"turn": 0.0})
    # Its screws are of 4.2 or 5.2 mm: a socket of 11 or 12 mm round each.
    screw = next(opening for opening in choke.sizes.openings if opening.tool == "drill")
    socket = 0.011 if screw.diameter < 0.0046 else 0.012
    strip = body_of(name, key)
    for gap, said in ((-0.002, True), (0.002, False)):
        u = there.u + screw.at[0] - (socket + strip.sizes.across) / 2 - gap
        trial = moved(name, layout.with_placed(there), key, u=round(u, 4), v=round(there.v + screw.at[1], 4))
        words = [misfit.words for misfit in misfits(bodies(amplifier(name), trial), trial)
                 if {key, choke.key} == set(misfit.bodies) and "wrench" in misfit.words]  # fmt: skip
        assert bool(words) is said, gap


def test_the_wire_list_has_every_wire_once_and_pairs_twice():
    now = laid("saltpan")
    result = runs(now)
    assert len(result) == len(now.wiring.wires) + len(now.wiring.pairs) + sum(
        link.wire is not None for link in now.earth.links
    )
    bought = {kind: metres for kind, metres, _, _ in totals(result)}
    heaters = [run for run in result if run.kind == "heater"]
    assert bought["heater"] == pytest.approx(2 * sum(run.metres for run in heaters))
    assert all(run.metres > 0.04 for run in result)
    thick = changed_layout(now.layout, earthing={"gauge": 0.5, "protective_gauge": 2.5})
    gauges = {run.kind: run.gauge for run in runs(laid("saltpan", thick))}
    assert (gauges["earth"], gauges["protective earth"], gauges["mains"]) == (0.5, 2.5, 0.75)
    own = laid("saltpan", coloured(now.layout, "signal", " pale   blue ")[0])
    assert {run.colour for run in runs(own) if run.kind == "signal"} == {"pale blue"}
    assert runs(laid("saltpan", coloured(own.layout, "signal", "")[0])) == result
    with pytest.raises(LayoutRefused):
        coloured(now.layout, "string", "red")


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
    assert all(placed_body.u <= 0.3 for placed_body in smaller.placed)


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
    whole = first("lantern")
    for gone in ("earth:signal", "mains side:earth bolt", "mains side:inlet", "mains:transformer:0"):
        without = whole.model_copy(
            update={"placed": tuple(placed_body for placed_body in whole.placed if placed_body.body != gone)}
        )
        assert np.isfinite(laid("lantern", without).hum.volt), gone


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
    assert worst(beside).too_near
    assert not worst(now).too_near


def test_a_layout_that_was_stored_by_the_first_version_opens():
    stored = json.loads((Path(__file__).parent / "data" / "layout_v1.json").read_text())
    layout = read_layout(stored)
    tube = next(placed_body for placed_body in stored["placed"] if placed_body["body"] == "tube:v1:0")
    assert layout.of("tube:v1:0").u == tube["u"]
    assert layout.strays[0].microtesla == 9.5
    assert layout.wires[0].bends == ((0.1, 0.05), (0.12, 0.08))
    now = laid("lantern", completed(bodies(amplifier("lantern"), layout), amplifier("lantern").design, layout))
    assert now.hum.volt > 0
    assert now.layout.of("fitting:foot:1")


def test_a_tube_whose_pins_are_not_known_is_wired_to_none():
    """A 6EU7's are not in its file: its wires end in the middle of its socket, by the electrodes' names."""
    design = changed(example("lantern"), "envelopes/v1/type", "6EU7")
    body = next(body for body in bodies(solve(design), Layout()) if body.envelope == "v1")
    wired = {pin.name for pin in body.pins if pin.net is not None}
    assert wired
    assert all(name.endswith("(pin not known)") for name in (*wired, *body.heaters))
    assert not any(name[0].isdigit() for name in wired)
    known = body_of("lantern", "tube:v2:1")
    assert not any("not known" in name for name in (*(pin.name for pin in known.pins), *known.heaters))
