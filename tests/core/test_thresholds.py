"""Where each rule begins to speak: the knob is turned until it does, and there the quantity, worked out here from
node voltages by Ohm's law, must be the limit, as the data sheet or the rule of thumb has it."""

from math import log10

import numpy as np
import pytest

from tests.core.test_findings import edited
from thermionic import examples
from thermionic.amplifier import driven, solve
from thermionic.blocks.facets import Rectified
from thermionic.circuit.large_signal import distortion
from thermionic.design import changed, full_up
from thermionic.findings import RULES, Severity
from thermionic.supplies.starting import shorted_ampere
from thermionic.values import Quantity, parse

BY_NAME = {rule.name: rule for rule in RULES}


def edge(rule, design, path, quiet, fires, severity=None):
    """The solved amplifiers just before and just after the rule speaks (with that severity), by halving the knob."""

    def speaks(value):
        amplifier = solve(changed(design, path, value))
        result = list(rule.examine(amplifier))
        return amplifier, any(severity is None or one.severity >= severity for one in result)

    assert not speaks(quiet)[1]
    assert speaks(fires)[1]
    for _ in range(40):
        if abs(fires - quiet) <= 2e-4 * abs(quiet):
            break
        middle = (quiet + fires) / 2
        quiet, fires = (quiet, middle) if speaks(middle)[1] else (middle, fires)
    return speaks(quiet)[0], quiet


def at(amplifier, *nodes):
    return [amplifier.voltage(node) for node in nodes]


def heat_of_output(amplifier, value):
    anode, cathode = at(amplifier, "output_anode", "output_cathode")
    return (anode - cathode) * cathode / value


def screen_heat(amplifier, value):
    tap, screen, cathode = at(amplifier, "transformer_ul", "output_screen", "output_cathode")
    return (tap - screen) / 100.0 * (screen - cathode)


def balance_db(amplifier, value):
    return 20 * log10(amplifier.gain("splitter_cathode") / amplifier.gain("splitter_anode"))


def drive_over_need(amplifier, value):
    """The source's level over what full output takes with the control full up, solved as a design of its own."""
    return value / solve(full_up(amplifier.design)).full_output.source_volt


def cold_current(amplifier, value):
    """The HT that the cold anode's resistor hangs on, through that resistor."""
    return amplifier.without_tubes.at.voltage("first_feed_wire") / value


def hum_db(amplifier, value):
    mains = amplifier.state.mains
    ripple = mains.node_waveform(amplifier.load.node)
    return 20 * log10(((ripple - ripple.mean()) ** 2).mean() ** 0.5 / amplifier.full_output.output_volt)


CASES = [
    # rule, edits first, example, path, a quiet value, one that fires, the quantity, its limit, tolerance
    ("anode-dissipation", {}, "lantern", "blocks/output/cathode_resistor/ohm", 1000.0, 560.0, heat_of_output, 15.0,
     2e-3),
    ("anode-voltage", {}, "lantern", "blocks/winding/winding_volt", 230.0, 330.0,
     lambda a, _: at(a, "output_anode")[0] - at(a, "output_cathode")[0], 300.0, 1e-3),
    ("resistor-dissipation", {}, "lantern", "blocks/output/cathode_resistor/rating_watt", 15.0, 2.0,
     lambda a, watt: at(a, "output_cathode")[0] ** 2 / 910.0 / watt, 0.7, 2e-3),
    ("capacitor-voltage", {}, "lantern", "blocks/reservoir/capacitor/rating_volt", 600.0, 300.0,
     lambda a, rating: rating / (262 * 232 / 230 * 2**0.5), 1.1, 0.01),
    ("grid-leak", {}, "lantern", "blocks/output/grid_leak/ohm", 300e3, 900e3, lambda a, ohm: ohm + 1000.0,
     1.05 * 500e3, 1e-3),
    # The limit with fixed bias is 500k, and a twentieth; the stopper's 2k2 and some 8k of trimmer, twice for two
    # channels, are in it.
    ("grid-leak", {}, "saltpan", "blocks/output/grid_leak/ohm", 300e3, 900e3, lambda a, ohm: ohm, 505e3, 0.02),
    ("output-load", {}, "lantern", "blocks/speaker/ohm", 8.0, 16.0, lambda a, ohm: ohm / 8.0, 1.5, 1e-3),
    ("output-load", {}, "lantern", "blocks/speaker/ohm", 8.0, 4.0, lambda a, ohm: ohm / 8.0, 0.75, 1e-3),
    ("screen-dissipation", {"blocks/winding/winding_volt": "235 V"}, "wicket", "blocks/output/cathode_resistor/ohm",
     180.0, 27.0, screen_heat, 2.0, 2e-3),
    ("screen-voltage", {}, "hurdle", "blocks/winding/winding_volt", 200.0, 265.0,
     lambda a, _: at(a, "output_screen_a")[0] - at(a, "output_common")[0], 300.0, 1e-3),
    ("heater-cathode", {"blocks/winding/winding_volt": "400 V"}, "sluice", "blocks/heaters/lower/ohm", 82e3, 820.0,
     lambda a, _: at(a, "follower_cathode")[0] - at(a, "heaters_held")[0], 180.0, 1e-3),
    ("splitter-balance", {}, "hurdle", "blocks/splitter/cathode_load/ohm", 100e3, 140e3, balance_db, 1.0, 0.01),
    ("total-gain", {}, "lantern", "blocks/input/source_volt", 3.0, 0.3, drive_over_need, 1.0, 0.01),
    ("total-gain", {}, "lantern", "blocks/input/source_volt", 3.0, 60.0,
     lambda a, volt: 20 * log10(drive_over_need(a, volt)), 26.0, 5e-3),
    ("cold-coupling", {}, "hurdle", "blocks/first/anode_load/ohm", 100e3, 15e3, cold_current, 10e-3, 0.03),
    ("cathode-current", {"envelopes/v2/type": "45"}, "lantern", "blocks/output/cathode_resistor/ohm", 1000.0, 150.0,
     lambda a, ohm: at(a, "output_cathode")[0] / ohm, 0.06, 2e-3),
    ("hum", {"blocks/ht2/capacitor/farad": "470n"}, "sluice", "blocks/ht1/capacitor/farad", 100e-6, 10e-6, hum_db,
     -85.0, 5e-3),
    ("hum", {"blocks/driver/feed": "ht2.out"}, "lantern", "blocks/ht2/capacitor/farad", 470e-6, 5e-6, hum_db,
     -70.0, 5e-3),
]  # fmt: skip


@pytest.mark.parametrize("case", CASES, ids=lambda case: f"{case[0]} {case[3].split('/')[-1]}")
def test_a_rule_begins_to_speak_just_at_its_limit(case):
    name, edits, example, path, quiet, fires, quantity, limit, tolerance = case
    amplifier, value = edge(BY_NAME[name], edited(edits, example), path, quiet, fires)
    assert quantity(amplifier, value) == pytest.approx(limit, rel=tolerance)


def test_a_resistor_is_hot_then_over_then_burns():
    rule = BY_NAME["resistor-dissipation"]
    path = "blocks/output/cathode_resistor/rating_watt"
    for severity, share in ((Severity.OVER, 1.0), (Severity.DANGER, 2.0)):
        amplifier, watt = edge(rule, edited({}), path, 15.0, 0.5, severity)
        assert at(amplifier, "output_cathode")[0] ** 2 / 910.0 / watt == pytest.approx(share, rel=2e-3)


def test_a_capacitor_is_short_of_margin_then_in_danger():
    rule = BY_NAME["capacitor-voltage"]
    _, volt = edge(rule, edited({}), "blocks/reservoir/capacitor/rating_volt", 600.0, 300.0, Severity.DANGER)
    # The winding's peak on the house's mains, less two diodes and the bleeder's ripple.
    assert volt == pytest.approx(262 * 232 / 230 * 2**0.5, rel=0.01)


def test_grid_current_is_early_where_it_begins_below_four_fifths_of_full_output():
    """The grid's own current, read in the other direction: at the drive of the onset it is 20 µA at the crest."""
    rule = BY_NAME["grid-current"]
    amplifier, _ = edge(rule, edited({}), "blocks/driver/cathode_resistor/ohm", 1800.0, 220.0)
    onset, full = rule.levels(amplifier, "V1")
    assert onset / full == pytest.approx(0.8, rel=0.01)


def test_feedback_is_judged_by_its_sign():
    rule = BY_NAME["feedback-polarity"]
    assert not list(rule.examine(solve(edited({}, "hurdle"))))
    (result,) = rule.examine(solve(edited({"blocks/transformer/secondary_reversed": "yes"}, "hurdle")))
    assert result.severity is Severity.DANGER
    # The loop's gain, from the closed-loop gain with and without it: A / (1 + T).
    with_loop = solve(edited({}, "hurdle"))
    without = solve(edited({"blocks/feedback/resistor/ohm": "100M"}, "hurdle"))
    loop = without.gain(without.load.node) / with_loop.gain(with_loop.load.node) - 1
    assert result.value == pytest.approx(loop, rel=0.15)


def test_feedback_is_positive_from_a_twentieth_of_the_signal_on():
    """The loop's gain at the edge, from the gain with the loop and without: A / (1 - 0.05)."""
    rule = BY_NAME["feedback-polarity"]
    turned = edited({"blocks/transformer/secondary_reversed": "yes"}, "hurdle")
    amplifier, _ = edge(rule, turned, "blocks/feedback/resistor/ohm", 5e6, 100e3)
    without = solve(changed(turned, "blocks/feedback/resistor/ohm", "1G"))
    share = 1 - without.gain(without.load.node) / amplifier.gain(amplifier.load.node)
    assert share == pytest.approx(0.05, rel=0.05)


def test_tubes_on_one_bias_are_judged_by_the_strongest_of_an_unmatched_set():
    """15 % more current at the same bias is some 15 % more heat, less what the supply sags."""
    rule = BY_NAME["sharing"]
    one_knob = edited({"blocks/output/bias_b": ""}, "saltpan")
    amplifier, _ = edge(rule, one_knob, "blocks/bias/trim/travel", 0.6, 0.33)
    use = next(use for use in amplifier.compiled.tubes if use.block == "output")
    assert 1.07 < 25.0 / amplifier.parts[use.part].dissipation < 1.17


def test_a_driven_anode_is_judged_by_what_it_turns_into_heat():
    """What the supply gives to a pair at full output, less what reaches the load and the screens and copper."""
    rule = BY_NAME["driven-heat"]
    design = edited({"blocks/bias/trim/travel": "0.38", "blocks/bias/trim_b/travel": "0.38"}, "saltpan")
    amplifier, _ = edge(rule, design, "blocks/transformer/primary_ohm", 8000.0, 1200.0)
    (result,) = rule.examine(solve(changed(design, "blocks/transformer/primary_ohm", 1200.0)))
    assert 25.0 < result.value < 40.0
    assert result.limit == 25.0
    assert amplifier.parts["V3"].dissipation < 25.0


def grid_limits(amplifier):
    """Between which powers the last grid first reaches its cathode, and the distortion of what it is given at full
    output: read off the sweep."""
    conducts = np.flatnonzero(driven(amplifier, "V2").amperes["grid"].max(axis=1) >= 20e-6)
    watts = [point.power_watt for point in amplifier.sweep]
    row = int(conducts[0]) if len(conducts) else len(watts) - 1
    levels = [point.source_volt for point in amplifier.sweep]
    bent = np.interp(amplifier.full_output.source_volt, levels, distortion(amplifier.drive.phasors("output_grid")))
    return watts[max(row - 1, 0)], watts[row] * 1.001, float(bent)


def test_a_driver_is_weak_where_it_bends_before_four_fifths_of_what_the_grid_could_be_given():
    rule, path = BY_NAME["weak-driver"], "blocks/driver/cathode_resistor/ohm"
    amplifier, _ = edge(rule, examples.example("lantern"), path, 1500.0, 4700.0)
    low, high, bent = grid_limits(amplifier)
    assert 0.8 * low <= amplifier.full_output.power_watt <= 0.8 * high
    assert bent > 0.035
    (finding,) = rule.examine(solve(changed(amplifier.design, path, 4700.0)))
    assert finding.cure.path == path


def test_an_output_stage_gives_out_early_with_a_clean_drive():
    rule, path = BY_NAME["load-and-class"], "blocks/output/cathode_resistor/ohm"
    amplifier = solve(changed(examples.example("lantern"), path, 2000.0))
    low, _, bent = grid_limits(amplifier)
    assert amplifier.full_output.power_watt < 0.5 * low
    assert bent < 0.035
    (finding,) = rule.examine(amplifier)
    assert finding.cure.path == path
    warmer = solve(changed(examples.example("lantern"), path, 1200.0))
    low, _, _ = grid_limits(warmer)
    assert warmer.full_output.power_watt > 0.5 * low
    assert not list(rule.examine(warmer))


def test_the_side_of_a_splitter_that_is_said_to_be_louder_is():
    rule = BY_NAME["splitter-balance"]
    amplifier = solve(changed(examples.example("hurdle"), "blocks/splitter/cathode_load/ohm", 130e3))
    (result,) = rule.examine(amplifier)
    gains = {name: abs(amplifier.gain(f"splitter_{name}")) for name in ("anode", "cathode")}
    side = result.evidence.split()[1]
    at = amplifier.compiled.node(amplifier.design.block("splitter").node("out", side))
    assert at == f"splitter_{max(gains, key=gains.get)}"


def test_a_fuse_that_is_offered_is_loaded_to_three_quarters_at_most():
    rule = BY_NAME["fuse-rating"]
    design = changed(examples.example("reedbed"), "blocks/mains/fuse/ampere", 0.5)
    (result,) = rule.examine(solve(design))
    sizes = (0.63, 0.8, 1.0, 1.25, 1.6, 2.0, 2.5, 3.15)  # R10, IEC 60127
    assert parse(result.cure.typed, Quantity.CURRENT) == next(
        size
        for size in sizes
        if 0.75 * size >= result.value and size >= 250 / 230  # and it is a transformer of 250 VA
    )


def test_a_fuse_opens_at_four_times_its_rating():
    rule = BY_NAME["fuse-rating"]
    amplifier, ampere = edge(rule, examples.example("reedbed"), "blocks/mains/fuse/ampere", 1.6, 10.0)
    shorted = min(
        one for use in amplifier.compiled.said(Rectified) if (one := shorted_ampere(amplifier, use.block)) is not None
    )
    assert 4 * ampere == pytest.approx(shorted, rel=1e-3)


def test_diodes_in_series_are_as_many_as_stand_what_is_across_them_and_a_fifth():
    rule, path = BY_NAME["rectifier-reverse"], "blocks/rectifier/diode/reverse_volt"
    (result,) = rule.examine(solve(changed(examples.example("lantern"), path, 100.0)))
    assert result.cure.path == "blocks/rectifier/diode/in_series"
    count = int(result.cure.typed)
    assert 100.0 * (count - 1) <= 1.2 * result.value < 100.0 * count
    cured = changed(changed(examples.example("lantern"), path, 100.0), result.cure.path, count)
    assert not list(rule.examine(solve(cured)))
