"""How warm a layout gets, what it weighs and where it balances."""

import numpy as np
import pytest

from tests.core.layouts import amplifier, body_of, first, laid, moved
from thermionic.blocks.facets import PassUse
from thermionic.chassis.document import Placed
from thermionic.chassis.editing import (
    with_fitting,
    without_fitting,
)
from thermionic.chassis.warmth import ROOM, wanted_vents, warmth
from thermionic.chassis.weighing import symmetry, weight
from thermionic.design import find


def test_a_capacitor_is_warmer_nearer_to_a_hot_tube_and_lives_shorter():
    layout = first("lantern")
    tube = layout.of("tube:v2:1")
    key = body_of("lantern", "can:blocks/ht1").key
    by_gap = []
    for away in (0.06, 0.12, 0.24):
        now = laid("lantern", moved("lantern", layout, key, u=min(tube.u + away, 0.41), v=tube.v))
        by_gap.append(next(capacitor.celsius for capacitor in warmth(now).capacitors if capacitor.body.key == key))
    assert by_gap[0] > by_gap[1] > by_gap[2] > ROOM
    # 20 W of which seven tenths are radiated, spread over a sphere of 6 cm and taken up on the breadth of a cylinder.
    watt = body_of("lantern", "tube:v2:1").watt
    alone = 0.7 * watt / (4 * np.pi * 0.06**2) / (np.pi * 11.0)
    assert 0.6 * alone < by_gap[0] - by_gap[2] < 1.6 * alone


def test_a_heat_sink_takes_the_heat_of_the_strip_beside_it():
    strip = first("mill").of("strip:supply:0")
    layout, _ = with_fitting(first("mill"), "heat-sink")
    key = "fitting:heat-sink:1"
    far, near = (layout.with_placed(Placed(body=key, u=strip.u + away, v=strip.v)) for away in (0.3, 0.05))
    now = {name: warmth(laid("mill", one)) for name, one in (("none", first("mill")), ("far", far), ("near", near))}
    heat = {name: next(other for other in w.others if other.body.key == "strip:supply:0") for name, w in now.items()}
    watt = heat["none"].body.watt
    # 60 by 40 by 30 mm at 500 cm³K/W beside the strip's own 12 K/W.
    sink = 500.0 / (6 * 4 * 3)
    assert heat["near"].celsius - now["near"].inside_celsius == pytest.approx(watt / (1 / 12 + 1 / sink))
    assert heat["none"].celsius - now["none"].inside_celsius == pytest.approx(12 * watt)
    # Beside another strip it is for that one.
    other = min(
        (
            placed_body
            for placed_body in far.placed
            if placed_body.body.startswith("strip") and placed_body.body != "strip:supply:0"
        ),
        key=lambda placed_body: abs(placed_body.u - strip.u),
    )
    elsewhere = layout.with_placed(Placed(body=key, u=other.u, v=other.v))
    after = next(other for other in warmth(laid("mill", elsewhere)).others if other.body.key == "strip:supply:0")
    assert after.celsius == pytest.approx(heat["none"].celsius, abs=2.0)


def test_a_transistors_heat_sink_has_the_kelvin_per_watt_of_its_design():
    now = laid("reedbed")
    result = next(other for other in warmth(now).others if other.body.family == "heat-sink")
    rated = find(amplifier("reedbed").design, amplifier("reedbed").compiled.said(PassUse)[0].path).value
    expected = rated.sink_kelvin_per_watt * result.body.watt
    assert result.celsius - warmth(now).inside_celsius == pytest.approx(expected, rel=0.01)


def test_hot_tubes_nearer_than_one_and_a_half_diameters_are_said():
    layout = first("lantern")
    one, other = layout.of("tube:v2:1"), body_of("lantern", "tube:v2:2")
    for gap, said in ((1.4, True), (1.6, False)):
        apart = other.sizes.across * (1 + gap)
        trial = moved("lantern", layout, other.key, u=one.u + apart, v=one.v)
        gaps = warmth(laid("lantern", trial)).gaps
        assert bool(gaps) is said
        if said:
            assert gaps[0].wanted == pytest.approx(1.5 * other.sizes.across)
            assert gaps[0].gap == pytest.approx(1.4 * other.sizes.across, rel=0.02)


def test_the_vents_that_are_wanted_keep_the_air_to_what_they_are_for():
    layout = first("weir")
    heat = warmth(laid("weir"))
    assert heat.wanted_vents > 0
    vented = layout
    for number in range(40):
        vented, _ = with_fitting(vented, "vent")
        vented = vented.with_placed(Placed(body=f"fitting:vent:{number + 1}", u=0.1, v=0.1))
        after = warmth(laid("weir", vented))
        # Four holes of 8 mm each; air goes in by half of them and out by the others.
        assert after.vents == pytest.approx((number + 1) * 4 * np.pi * 0.004**2 / 2)
        if after.vents >= heat.wanted_vents:
            break
    assert after.inside_celsius == pytest.approx(ROOM + 15.0, abs=1.5)
    assert wanted_vents(1.0, layout) == 0.0
    assert without_fitting(vented, "fitting:vent:1")[0].of("fitting:vent:1") is None


def test_it_balances_where_its_moments_do():
    now = laid("lantern")
    load = weight(now)
    width = now.layout.box.width
    placed = [
        placed_body.model_copy(update={"u": width - placed_body.u}) if placed_body.face == "top" else placed_body
        for placed_body in now.layout.placed
    ]
    mirrored = now.layout.model_copy(update={"placed": tuple(placed)})
    other = weight(laid("lantern", mirrored))
    assert other.kg == pytest.approx(load.kg)
    # Of the top; what is on the walls is light.
    assert load.balance[0] + other.balance[0] == pytest.approx(now.layout.box.width, abs=0.02)
    heavy = body_of("lantern", "mains:transformer")
    at = now.layout.of(heavy.key)
    pushed = weight(laid("lantern", moved("lantern", now.layout, heavy.key, u=at.u - 0.05)))
    assert load.balance[0] - pushed.balance[0] == pytest.approx(0.05 * heavy.sizes.kg / load.kg)
    assert pushed.balance[1] == pytest.approx(load.balance[1])
    assert not load.wants_handles
    assert weight(laid("saltpan")).wants_handles  # 17 kg
    assert 0.5 < load.kg / sum(body.sizes.kg for body in now.bodies) < 2.0
    assert symmetry(laid("lantern", mirrored)) == pytest.approx(symmetry(now), abs=1e-6)
