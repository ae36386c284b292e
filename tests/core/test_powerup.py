"""Power-up: expected values, judged readings, and faults found from them."""

from dataclasses import replace

import numpy as np
import pytest

from thermionic import devices, examples
from thermionic.amplifier import solve
from thermionic.design import changed, fit_part
from thermionic.devices.scatter import limits
from thermionic.errors import NoSolution
from thermionic.powerup import Step, Verdict, discharge_seconds, judge, plan, reasons, signatures
from thermionic.powerup.devices import failures
from thermionic.powerup.faults import faults, wrong_value
from thermionic.powerup.reasons import NONE

LANTERN = examples.example("lantern")


@pytest.fixture(scope="module")
def tubes_in():
    return plan(LANTERN, Step.ALL_TUBES, 232.0)


@pytest.fixture(scope="module")
def known(tubes_in):
    return signatures(tubes_in)


def readings(the_plan, values, scatter=0.0, seed=3):
    noise = 1 + np.random.default_rng(seed).normal(0, scatter, len(values))
    return {p.key: float(v * n) for p, v, n in zip(the_plan.points, values, noise, strict=True)}


def test_expected_values_are_the_solved_amplifiers():
    amplifier = solve(LANTERN)
    tubes_in = plan(LANTERN, Step.ALL_TUBES, 232.0, meter_ohm=1e12)
    by_key = {point.key: point for point in tubes_in.points}
    for node in ("reservoir", "ht2", "driver_anode", "output_cathode"):
        assert by_key[node].expected == pytest.approx(amplifier.voltage(node), rel=2e-3)
        assert by_key[node].low < amplifier.voltage(node) < by_key[node].high
    loud = solve(changed(LANTERN, "blocks/volume/travel", "1"))
    assert by_key["speaker_ac"].expected == pytest.approx(loud.gain(loud.load.node) * tubes_in.test_volt, rel=1e-2)
    assert 0.4 < by_key["speaker_ac"].expected < 2.5


def test_without_tubes_every_rail_stands_at_the_peak():
    points = {point.key: point for point in plan(LANTERN, Step.NO_TUBES, 232.0).points}
    assert points["output_anode"].expected == pytest.approx(points["reservoir"].expected, rel=1e-3)
    assert points["output_cathode"].expected == pytest.approx(0, abs=1e-3)
    assert "speaker_ac" not in points


def test_each_point_is_named_as_what_its_volts_are_across():
    """Saltpan's bias by hand: 54.2 V behind the rectifier, 1 kΩ, then a filter capacitor across the trimmers and the
    foot, whose wipers stand lower."""
    the_plan = plan(examples.example("saltpan"), Step.NO_TUBES, 230.0)
    points = {point.place: point for point in the_plan.points}
    state, netlist = the_plan.state.at, the_plan.netlist
    across = [place for place in points if place.startswith("across")]
    assert {"across C10", "across C11"} <= set(across)
    for place in across:
        a, b = (0.0 if node == "0" else state.voltage(node) for node in netlist[place.removeprefix("across ")].nodes)
        assert abs(points[place].expected) == pytest.approx(abs(a - b), rel=1e-2), place
    wiper = points["wiper of RV2 to earth"]
    assert wiper.node == netlist["RV2"].nodes[1]
    assert abs(points["across C11"].expected) > abs(wiper.expected) + 5


def test_every_capacitor_stands_beside_its_own_highest_volts():
    the_plan = plan(examples.example("saltpan"), Step.NO_TUBES, 230.0)
    held = {capacitor.designator: capacitor for capacitor in the_plan.capacitors}
    points = {point.place: point for point in the_plan.points}
    for name in ("C6", "C10", "C11"):
        ripple = the_plan.state.mains.ripple_peak_to_peak(the_plan.probes[0].node)
        assert held[name].volt == pytest.approx(abs(points[f"across {name}"].expected), abs=1.0 + ripple)
    assert held["C6"].rating_volt == 550.0
    # A coupling capacitor has the anode's whole rail across it while no tube draws current.
    coupling = the_plan.compiled.designator("blocks/output/coupling")
    assert held[coupling].volt > 400.0


@pytest.mark.parametrize("meter", [10e6, 1e6])
def test_the_meter_is_in_the_circuit(meter):
    """A grid with its leak of 470 kΩ on -30 V, and the same with the leak open, by Ohm's law."""
    the_plan = plan(examples.example("saltpan"), Step.NO_TUBES, 230.0, meter)
    row = next(place for place, probe in enumerate(the_plan.probes) if probe.key == "output_grid_a")
    bias = next(place for place, probe in enumerate(the_plan.probes) if probe.key == "bias")
    netlist = the_plan.netlist
    leak = netlist[the_plan.compiled.designators("blocks/output/grid_leak")[0]]
    ohm = float(leak.device.ohm)
    values = the_plan.values(the_plan.state)
    behind = the_plan.state.at.voltage(next(node for node in leak.nodes if "grid" not in node))
    trimmer = abs(values[bias] - behind) / abs(behind) * meter  # the wiper's own resistance, a few kilohms
    assert values[row] == pytest.approx(behind * meter / (meter + ohm + trimmer), rel=5e-3)
    opened = next(fault for fault in faults(the_plan) if fault.key == f"{leak.name}:open")
    assert abs(the_plan.solve(opened.netlist)[row]) < 0.02 * abs(values[row])


def test_a_rectifier_tube_stays_in_when_the_tubes_are_pulled():
    """A choke-smoothed 340-0-340 V behind its tube: with nothing drawn the rails float up towards the peak."""
    the_plan = plan(examples.example("weir"), Step.NO_TUBES, 230.0)
    assert the_plan.step.title_for(the_plan.design) == "No tubes but the rectifier"
    rails = [point.expected for point in the_plan.points if "HT" in point.title]
    assert min(rails) > 0.85 * 340 * 2**0.5
    assert max(rails) < 340 * 2**0.5


def test_readings_are_judged_by_their_band(tubes_in):
    cathode = next(point for point in tubes_in.points if point.key == "output_cathode")
    assert judge(cathode, cathode.expected).verdict is Verdict.AS_EXPECTED
    assert judge(cathode, cathode.high * 1.01).verdict is Verdict.HIGH
    assert judge(cathode, cathode.low * 0.99).verdict is Verdict.LOW
    assert judge(cathode, 2 * cathode.expected).verdict.stop
    assert judge(cathode, 0.0).verdict is Verdict.STOP_LOW
    grid = next(point for point in tubes_in.points if point.key == "output_grid")
    assert judge(grid, 0.0).deviation is None


@pytest.mark.parametrize(
    ("reading", "words", "stop"),
    [
        (-42.0, "as expected", False), (-0.2, "the bias is missing", True), (3.0, "the bias is missing", True),
        (-20.0, "far too little bias", True), (-39.0, "too little bias", False), (-45.0, "too much bias", False),
        (-70.0, "far too much bias", True),
    ],
)  # fmt: skip
def test_a_negative_reading_is_too_little_or_too_much_bias(tubes_in, reading, words, stop):
    at = replace(tubes_in.points[0], ac=False, what="bias", expected=-42.0, low=-44.0, high=-40.0)
    judged = judge(at, reading)
    assert (judged.words, judged.verdict.stop) == (words, stop)


@pytest.mark.parametrize(
    ("expected", "half", "far"),
    # Three half widths, a quarter of what is expected, or two volts: whichever is most.
    [(100.0, 20.0, 60.0), (100.0, 1.0, 25.0), (4.0, 0.5, 2.0)],
)
def test_going_on_is_stopped_where_a_reading_is_far_out(tubes_in, expected, half, far):
    at = replace(tubes_in.points[0], ac=False, expected=expected, low=expected - half, high=expected + half)
    assert judge(at, expected + 1.001 * half).verdict is Verdict.HIGH
    assert judge(at, expected + 0.99 * far).verdict is Verdict.HIGH
    assert judge(at, expected + 1.01 * far).verdict is Verdict.STOP_HIGH
    assert judge(at, expected - 0.99 * far).verdict is Verdict.LOW
    assert judge(at, expected - 1.01 * far).verdict is Verdict.STOP_LOW
    assert judge(replace(at, ac=True), expected + 1.01 * far).verdict is Verdict.HIGH


def test_a_healthy_build_has_no_reasons(tubes_in, known):
    healthy = np.array([point.expected for point in tubes_in.points])
    assert reasons(tubes_in, readings(tubes_in, healthy, scatter=0.01), known) == []
    assert reasons(tubes_in, {}, known) == []


def test_every_fault_that_shows_is_found_among_the_first_three(tubes_in, known):
    """Each fault solved, read with 1 % of scatter; those that leave the bands must be named."""
    sigma = np.array([point.sigma for point in tubes_in.points])
    healthy = np.array([point.expected for point in tubes_in.points])
    missed, shown = [], 0
    for fault in faults(tubes_in):
        try:
            values = tubes_in.solve(fault.netlist)
        except NoSolution:
            continue
        if np.sum(np.minimum(np.abs(values - healthy) / sigma, 10) ** 2) < 30:
            continue
        shown += 1
        result = reasons(tubes_in, readings(tubes_in, values, scatter=0.01), known)
        part = fault.key.split(":")[0]
        if not any(reason.key.split(":")[0] == part for reason in result):
            missed.append(fault.title)
    assert shown > 60
    assert len(missed) <= 0.05 * shown, missed


def test_a_wrong_resistor_is_named_with_its_value(tubes_in, known):
    values = tubes_in.solve(wrong_value(tubes_in, "R4", 680.0).netlist)
    best = reasons(tubes_in, readings(tubes_in, values, scatter=0.005), known)[0]
    assert "R4" in best.title
    assert "should be 1k5" in best.title
    assert best.explained == best.judged
    open_bypass = next(fault for fault in faults(tubes_in) if fault.key == "C3:open")
    result = reasons(tubes_in, readings(tubes_in, tubes_in.solve(open_bypass.netlist), scatter=0.005), known)
    assert result[0].key == "C3:open"


def test_a_fault_in_one_channel_leaves_the_other_alone(tubes_in):
    """With the output tube dead in one channel, the rail rises by that channel's share, not by both."""
    dead = next(fault for fault in faults(tubes_in) if fault.key == "V2:dead")
    at = dict(zip([p.key for p in tubes_in.points], tubes_in.solve(dead.netlist), strict=True))
    whole = next(p for p in tubes_in.points if p.key == "reservoir").expected
    none = plan(LANTERN, Step.NO_TUBES, 232.0).points[0].expected
    assert whole < at["reservoir"] < (whole + 2 * none) / 3


def test_what_is_expected_is_for_the_mains_that_was_measured():
    """With the tubes out nothing but the bleeder draws current: the HT is as the mains, but for its diodes' drop."""
    low, high = (plan(LANTERN, Step.NO_TUBES, mains).points[0].expected for mains in (210.0, 240.0))
    assert high / low == pytest.approx(240 / 210, rel=5e-3)


def test_the_supply_discharges_through_its_bleeder_or_not_at_all():
    """At the worst: every capacitor 20 % large, the bleeder 5 % high, from the mains that was measured."""
    farads, ohms = 1.2 * (47e-6 + 220e-6 + 220e-6 + 47e-6), 1.05 * 220e3
    for mains in (232.0, 250.0):
        empty = plan(LANTERN, Step.NO_TUBES, mains)
        start = next(point for point in empty.points if point.key == "reservoir").expected
        # The resistors between the capacitors hold it up by some per cent more than one capacitor would be.
        assert 1.0 < discharge_seconds(empty) / (farads * ohms * np.log(start / 50)) < 1.05
    without = fit_part(LANTERN, "blocks/reservoir/bleeder", False)
    assert discharge_seconds(plan(without, Step.ALL_TUBES, 232.0)) is None


def test_what_explains_the_fewest_of_the_wrong_readings_has_no_share(tubes_in, known):
    """Five points read otherwise than any single simple fault would make them: none of these, most likely."""
    wrong = {"reservoir": 250.0, "ht2": 400.0, "driver_anode": 20.0, "output_cathode": 90.0, "driver_cathode": 6.0}
    *result, none = reasons(tubes_in, wrong, known)
    assert none.key == NONE
    assert none.likelihood > 0.9
    assert all(reason.likelihood is None for reason in result if 2 * reason.explained < reason.judged)
    assert all(reason.likelihood is None or reason.likelihood < 0.1 for reason in result)
    # One that explains them all leaves next to nothing for that.
    dead = next(fault for fault in faults(tubes_in) if fault.key == "V2:dead")
    *result, none = reasons(tubes_in, readings(tubes_in, tubes_in.solve(dead.netlist), scatter=0.005), known)
    assert result[0].key == "V2:dead"
    assert result[0].likelihood + sum(one.likelihood or 0.0 for one in result[1:]) > 0.95
    assert none.likelihood < 0.02


def test_of_faults_that_explain_as_much_the_common_one_comes_first(tubes_in, known):
    """No sound, and nothing else measured: what explains that as well as another is as likely as it is common."""
    weights = {fault.key: fault.weight for fault in faults(tubes_in)}
    *result, none = reasons(tubes_in, {"speaker_ac": 0.0}, known, most=40)
    assert none.key == NONE
    assert {weights[reason.key] for reason in result} == {1.0, 0.8, 0.6, 0.4}
    shares = [reason.likelihood / weights[reason.key] for reason in result]
    assert shares == pytest.approx([shares[0]] * len(result), rel=0.03)
    assert weights[result[0].key] == 1.0


def test_the_next_lower_tap_gives_less(tubes_in):
    signal = [probe.key for probe in tubes_in.probes].index("speaker_ac")
    heard = {
        fault.key.partition(":")[2]: tubes_in.solve(fault.netlist)[signal]
        for fault in faults(tubes_in)
        if ":tap" in fault.key and "T1" in fault.key
    }
    assert heard["taplower"] < tubes_in.points[signal].expected < heard["taphigher"]


def test_a_winding_spreads_by_three_per_cent_and_a_wrong_tap_has_its_own_copper():
    (moved,) = limits(devices.MainsSource(380.0, 50.0, folded=True))
    assert moved.peak_volt == pytest.approx(391.4)
    (moved,) = limits(devices.IdealTransformer(1.5))
    assert moved.ratio == pytest.approx(1.545)
    transformer = devices.Transformer((devices.Winding(1, 100), devices.Winding(0.05, 0.4)), devices.Core(20.0))
    taps = {fault.key: fault.device.windings[-1] for fault in failures(transformer, False) if "tap" in fault.key}
    # The next tap is for half or twice the load: turns, and with them the wire's length, go by the root of two.
    for key, factor in (("taplower", 0.70711), ("taphigher", 1.41421)):
        assert (taps[key].turns, taps[key].ohm) == pytest.approx((0.05 * factor, 0.4 * factor), rel=1e-4)


def test_where_no_part_strays_the_band_is_the_meters_own():
    """What a converter holds is the same in every build, so a reading of it is as far off as the meter: 1.5 %."""
    at = next(
        point for point in plan(examples.example("sedge"), Step.ALL_TUBES, 230.0).points if point.node == "converter"
    )
    assert (at.high - at.expected) / at.expected == pytest.approx(0.015, rel=0.01)
