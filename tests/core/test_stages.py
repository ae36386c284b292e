"""What is drawn and said of a stage: load lines, both halves of a pair as one tube, classes, balance."""

import numpy as np
import pytest

from thermionic import examples
from thermionic.amplifier import (
    WorkingClass,
    anode_diagram,
    compile_design,
    composite_diagram,
    driven,
    needs,
    pair_balance,
    solve,
    working_class,
)
from thermionic.blocks.facets import Bias
from thermionic.design import changed, dump, field, validate
from thermionic.findings import examine
from thermionic.supplies.trimming import reaches


def value(design, path):
    return field(design, path).value


def parallel(*ohms):
    return 1 / sum(1 / ohm for ohm in ohms)


def test_a_driver_works_into_its_load_and_the_next_grid_leak():
    design = examples.example("lantern")
    design = changed(changed(design, "blocks/volume/travel", "0.05"), "channels", "1")
    amplifier = solve(design)
    diagram = anode_diagram(amplifier, "driver")
    (v1, i1), (v2, i2) = diagram.ac_line
    load = parallel(value(design, "blocks/driver/anode_load/ohm"), value(design, "blocks/output/grid_leak/ohm"))
    assert (v1 - v2) / (i2 - i1) == pytest.approx(load, rel=0.01)
    (v1, i1), (v2, i2) = diagram.dc_line
    whole = sum(
        value(design, f"blocks/{part}/ohm")
        for part in ("driver/anode_load", "driver/cathode_resistor", "ht1/resistor", "ht2/resistor", "ht3/resistor")
    )
    assert (v1 - v2) / (i2 - i1) == pytest.approx(whole, rel=0.005)  # and the supply's own 200 ohms or so
    volt, ampere = diagram.operating_point
    # Both go through the operating point.
    assert v1 - volt == pytest.approx(whole * ampere, rel=0.005)
    assert diagram.ac_line[0][0] - volt == pytest.approx(load * ampere, rel=0.01)
    off = diagram.swing[:, 1] - (ampere - (diagram.swing[:, 0] - volt) / load)
    assert np.abs(off).max() < 0.03 * np.ptp(diagram.swing[:, 1])


def test_a_pair_is_one_odd_tube_that_works_into_a_quarter_of_anode_to_anode():
    amplifier = solve(examples.example("hurdle"))
    diagram = composite_diagram(amplifier, "output")
    by_swing = dict(diagram.curves)
    middle = len(diagram.volts) // 2
    assert by_swing[0.0][middle] == pytest.approx(0.0, abs=1e-9)
    for swing, current in diagram.curves:
        np.testing.assert_allclose(by_swing[-swing], -current[::-1], atol=2e-5)
    # A grid that goes up draws more current through its own side.
    assert by_swing[max(by_swing)][middle] > 0
    # The work that the composite current does in a quarter of the load is what comes out, less the losses in copper
    # and iron: some 8 % here.
    fundamental = 2 * np.abs(np.fft.rfft(diagram.swing[:, 1]))[1] / len(diagram.swing)
    delivered = fundamental**2 * diagram.load_ohm / 2
    assert delivered == pytest.approx(diagram.swing_output / 0.92, rel=0.06)
    np.testing.assert_allclose(diagram.half_a[:, 1] + diagram.half_b[:, 1], diagram.swing[:, 1], atol=1e-12)
    assert composite_diagram(amplifier, "first") is None


def test_a_pair_with_one_weak_tube_has_an_idle_current_left_over():
    design = changed(examples.example("hurdle"), "blocks/output/mismatch", "0.1")
    amplifier = solve(design)
    parts = [amplifier.parts[use.part].current for use in amplifier.compiled.tubes_of("output")]
    assert composite_diagram(amplifier, "output").idle_ampere == pytest.approx(parts[0] - parts[1])
    assert parts[0] > 1.02 * parts[1]


def test_the_class_follows_from_how_long_the_tubes_conduct():
    """Colder, a pair leaves class A sooner and is cut off for longer; hotter, it does not leave it."""
    design = examples.example("saltpan")
    result = {}
    for travel in ("0.3", "0.5", "0.8"):
        at = changed(design, "blocks/bias/trim/travel", travel)
        at = changed(at, "blocks/bias/trim_b/travel", travel)
        amplifier = solve(at)
        idle = amplifier.parts[amplifier.compiled.tubes_of("output")[0].part].current
        result[idle] = working_class(amplifier, "output")
    cold, middle, hot = (result[idle] for idle in sorted(result))
    assert cold.conducts < middle.conducts < hot.conducts
    assert cold.leaves_a / cold.full < middle.leaves_a / middle.full
    assert hot.leaves_a is None or hot.leaves_a / hot.full > middle.leaves_a / middle.full
    assert middle.letters == "AB1"


@pytest.mark.parametrize(
    ("conducts", "leaves_a", "grid_from", "letters"),
    [
        (1.0, None, None, "A1"),
        (1.0, None, 9.0, "A1"),
        (1.0, None, 7.0, "A2"),
        (0.7, 4.0, None, "AB1"),
        (0.52, 4.0, None, "AB1"),
        (0.7, 4.0, 5.0, "AB2"),
        (0.51, 0.1, None, "B1"),
        (0.51, 0.1, 1.0, "B2"),
    ],
)
def test_the_letters_of_a_class(conducts, leaves_a, grid_from, letters):
    assert WorkingClass(conducts, leaves_a, grid_from, full=10.0).letters == letters


def test_electrodes_over_a_cycle_go_round_their_idle():
    amplifier = solve(examples.example("lantern"))
    use = amplifier.compiled.tubes_of("driver")[0]
    play = driven(amplifier, use.part)
    low = 0  # the smallest drive
    bias = amplifier.voltage(use.grid) - amplifier.voltage(use.cathode)
    assert play.volts["grid"][low].mean() == pytest.approx(bias, abs=0.01)
    assert play.amperes["anode"][low].mean() == pytest.approx(amplifier.parts[use.part].current, rel=1e-3)
    # The anode falls where the grid rises.
    assert np.corrcoef(play.volts["grid"][low], play.volts["anode"][low])[0, 1] < -0.99


@pytest.mark.parametrize("anode_load", ["82k", "100k"])
def test_a_cathodyne_is_as_unequal_as_its_two_loads(anode_load):
    """One current goes through both: the signals are as the loads are, with the grid leaks beside them."""
    design = changed(examples.example("hurdle"), "blocks/splitter/anode_load/ohm", anode_load)
    balance = pair_balance(solve(design), "splitter")
    leak = value(design, "blocks/output/grid_leak/ohm")
    anode, cathode = (value(design, f"blocks/splitter/{name}/ohm") for name in ("anode_load", "cathode_load"))
    level, phase = balance.at(1000.0)
    assert level == pytest.approx(20 * np.log10(parallel(anode, leak) / parallel(cathode, leak)), abs=0.06)
    assert abs(phase) < 1.0
    assert pair_balance(solve(design), "first") is None


def _grids_on_a_choke():
    raw = dump(examples.example("saltpan"))
    output = next(block for block in raw["blocks"] if block["id"] == "output")
    output["grid_choke"] = {"henry": 500.0, "copper_ohm": 5000.0, "rating_ampere": 5e-3}
    del output["grid_leak"]
    return validate(raw)


def _grid_on_an_interstage_secondary():
    """Mill's 45 without cathode bias, its grid's winding returned to a bias supply of -49 V, about."""
    raw = dump(examples.example("mill"))
    blocks = {block["id"]: block for block in raw["blocks"]}
    for name in ("cathode_resistor", "cathode_bypass"):
        del blocks["output"][name]
    blocks["interstage"]["bias"] = "bias.out"
    del blocks["interstage"]["damping"]  # which would be a way for the bias, too
    raw["blocks"] += [
        {"id": "bias_winding", "kind": "winding", "scope": "shared", "primary_volt": 230.0, "winding_volt": 60.0,
         "winding_ohm": 40.0},
        next(block for block in dump(examples.example("saltpan"))["blocks"] if block["id"] == "bias")
        | {"winding": "bias_winding.out", "trim_b": None, "capacitor": {"farad": 1e-4, "rating_volt": 160.0},
           "reservoir": {"farad": 1e-4, "rating_volt": 160.0}},
    ]  # fmt: skip
    return validate(raw)


@pytest.mark.parametrize(
    "design", [_grids_on_a_choke(), _grid_on_an_interstage_secondary()], ids=["choke", "winding"]
)
def test_bias_that_comes_through_a_winding_is_fixed_bias(design):
    """By a grid choke, or by an interstage transformer's secondary: its trimmer is known and reaches, and no leak is
    asked for."""
    amplifier = solve(design)
    uses = [use for use in amplifier.compiled.tubes if use.block == "output"]
    assert {use.bias for use in uses} == {Bias.FIXED}
    assert uses[0].knob == "blocks/bias/trim/travel"
    for use in uses:  # what the rail has is what the grid has: no current in the winding
        rail = next(rail for rail in amplifier.compiled.rails if rail.bias)
        assert amplifier.voltage(use.grid) == pytest.approx(amplifier.voltage(rail.node), rel=0.01)
    result = reaches(amplifier)
    assert {one.path for one in result} >= {"blocks/bias/trim"}
    assert all(need.amperes[1] < one.ampere < need.amperes[0] for one in result for need in one.needs[:1])
    assert not {"grid-leak", "grid-path"} & {one.rule for one in examine(amplifier)}
    # Turned for more bias, the tube draws less.
    more = solve(changed(design, "blocks/bias/trim/travel", 0.9))
    assert more.state.at.terminal_currents[uses[0].part][0] < amplifier.state.at.terminal_currents[uses[0].part][0]


def test_a_cathode_biased_stage_beside_a_bias_supply_stays_that():
    amplifier = solve(examples.example("saltpan"))
    others = {use.bias for use in amplifier.compiled.tubes if use.block != "output"}
    assert Bias.FIXED not in others


def test_a_line_output_needs_what_follows_and_headphones_what_the_ear_gets():
    """2 V for the next box from 5 mV is a gain of 400; 94 dB at the ear from headphones of 98 dB for 1 mW is 0.4 mW,
    whatever the distance; and 32 V at 5 % is 24 dB above 2 V."""
    phono = changed(changed(examples.example("plover"), "blocks/line/level_volt", "2 V"), "brief/listening_db", "94")
    needed = needs(compile_design(phono))
    assert (needed.output_volt, needed.power_watt, needed.level_at_one_watt_db) == (2.0, None, None)
    assert needed.gain == pytest.approx(400.0)
    otter = changed(changed(examples.example("otter"), "brief/listening_db", "94"), "brief/listening_metre", "9 m")
    assert needs(compile_design(otter)).power_watt == pytest.approx(1e-3 * 10**-0.4)
    assert needs(compile_design(otter)).output_volt == pytest.approx((1e-3 * 10**-0.4 * 300.0) ** 0.5)


def test_a_preamplifier_that_falls_short_of_what_follows_is_told_so():
    """Plover's gain is some 356: its 5 mV make 1.8 V."""

    def rules(volt):
        return {
            one.rule for one in examine(solve(changed(examples.example("plover"), "blocks/line/level_volt", volt)))
        }

    assert "total-gain" not in rules("1.7 V")
    assert "total-gain" in rules("1.9 V")
