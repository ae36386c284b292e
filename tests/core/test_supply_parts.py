"""Parts of supplies with a rule of their own, and what supplies do while the amplifier plays."""

import numpy as np
import pytest
from scipy.linalg import eigvals

from tests.core import simulator
from tests.core.test_supplies_simulator import BIAS, Real, bridge, design, load, rectifier, reservoir, waves, winding
from thermionic import examples
from thermionic.amplifier import solve
from thermionic.blocks.facets import Copper, Rectified
from thermionic.blocks.fields import Resistor, SmoothingCapacitor
from thermionic.design import changed, dump, fit_part, validate
from thermionic.errors import DesignRefused
from thermionic.findings import RULES, examine
from thermionic.findings.base import Severity
from thermionic.findings.smoothing import filled, settled
from thermionic.report import report
from thermionic.supplies.arriving import arrivals
from thermionic.supplies.discharging import discharge
from thermionic.supplies.filaments import hum_taps, slopes
from thermionic.supplies.motorboating import rail_loops
from thermionic.supplies.ratings import lasting_hours
from thermionic.supplies.rectifying import rectifying
from thermionic.supplies.ripple import hum_volt, written_ripple
from thermionic.supplies.shorting import output_shorts
from thermionic.supplies.starting import shorted_ampere, surge, switch_on
from thermionic.supplies.stress import stresses
from thermionic.supplies.tree import supply_tree
from thermionic.values import Quantity, parse

RULE = {rule.name: rule for rule in RULES}
CAN = SmoothingCapacitor(farad=100e-6, rating_volt=350.0, ripple_ampere=0.5)


def test_two_in_series_share_by_charge_at_first_and_by_leakage_in_the_end():
    """By hand: 600 V on 80 µF and 120 µF, and 214 µA (6 nA a µF and volt, and 4 µA) past a resistor."""
    assert CAN.leaking_ampere == pytest.approx(214e-6)
    assert filled(600.0, CAN, CAN) == pytest.approx(600.0 * 120 / 200)
    even = Resistor(ohm=150e3, tolerance=0.0)
    assert settled(600.0, CAN, even) == pytest.approx(300.0 + 214e-6 * 75e3)
    uneven = Resistor(ohm=150e3, tolerance=0.1)  # 165k over 135k
    assert settled(600.0, CAN, uneven) == pytest.approx(600 * 165 / 300 + 214e-6 * 165e3 * 135e3 / 300e3)
    assert settled(600.0, CAN, None) == 600.0
    film = SmoothingCapacitor(farad=100e-6, rating_volt=350.0, made="film")
    assert settled(600.0, film, even) == pytest.approx(300.0)


def test_capacitors_in_series_are_half_as_large_halve_the_voltage_and_are_emptied_by_what_balances_them():
    two = {"lower": {"farad": 47e-6, "rating_volt": 1000.0}, "balance": {"ohm": 100e3, "rating_watt": 2.0}}
    plain = (winding("w", 250.0, 40.0), rectifier("bridge"), load("c", 3e3))
    one = solve(design(*plain, reservoir(23.5e-6, bleeder={"ohm": 200e3})))
    pair = solve(design(*plain, reservoir(47e-6, **two)))
    for of in (lambda a: a.voltage("c"), lambda a: a.state.mains.ripple_peak_to_peak("c")):
        assert of(pair) == pytest.approx(of(one), rel=2e-3)
    assert pair.voltage("c_middle") == pytest.approx(pair.voltage("c") / 2, rel=1e-3)
    (alone, *_), (upper, lower) = (
        discharge(a.compiled, a.on_mains(230.0).without_tubes) for a in (one, pair)
    )  # fmt: skip
    # The same time constant, to 50 V from half as much.
    assert upper.second == pytest.approx(lower.second, rel=0.01)
    assert upper.second == pytest.approx(alone.second * np.log(upper.volt / 50) / np.log(alone.volt / 50), rel=0.1)
    assert not list(RULE["series-sharing"].examine(pair))
    with pytest.raises(DesignRefused, match="balancing resistors are for two"):
        fit_part(pair.design, "blocks/c/lower", False)


def test_the_rule_of_sharing_offers_resistors_then_lower_ones_then_a_higher_rating():
    lantern = fit_part(examples.example("lantern"), "blocks/reservoir/lower", True)
    rule = RULE["series-sharing"]

    def cure(made):
        return next(iter(rule.examine(solve(made)))).cure

    assert cure(lantern).typed == "fit"
    balanced = fit_part(lantern, "blocks/reservoir/balance", True)
    weak = changed(balanced, "blocks/reservoir/balance/ohm", "2M2")
    lower = cure(weak)
    assert lower.path.endswith("balance/ohm")
    assert not list(rule.examine(solve(changed(weak, lower.path, lower.typed))))
    small = changed(balanced, "blocks/reservoir/lower/rating_volt", "100")
    assert cure(small).path == "blocks/reservoir/lower/rating_volt"


def test_an_electrolytic_lasts_twice_as_long_ten_kelvin_cooler_and_less_with_more_ripple():
    """By hand: 2000 hours at 85 °C with 0.5 A; 40 K cooler sixteen times that; no ripple, 10 K of its core, twice."""
    assert lasting_hours(CAN, 0.5, 45.0) == pytest.approx(32000)
    assert lasting_hours(CAN, 0.5, 55.0) == pytest.approx(16000)
    assert lasting_hours(CAN, 0.0, 55.0) == pytest.approx(32000)
    assert lasting_hours(CAN, 1.0, 55.0) == pytest.approx(2000)
    hot = CAN.model_copy(update={"celsius": 105.0})
    assert lasting_hours(hot, 1.0, 55.0) == pytest.approx(2000 * 2 ** ((50 - 15) / 10))
    assert lasting_hours(CAN.model_copy(update={"made": "film"}), 0.5) is None
    assert lasting_hours(SmoothingCapacitor(farad=1e-4, rating_volt=350.0), 0.5) is None
    worn = changed(examples.example("lantern"), "blocks/reservoir/capacitor/ripple_ampere", "300m")
    worn = changed(worn, "blocks/reservoir/capacitor/hours", "120")
    (finding,) = (one for one in examine(solve(worn)) if one.rule == "ripple-current")
    assert "does not last long" in finding.title


STANDBY = {"id": "s", "kind": "standby-switch", "input": "c.out", "closes_second": 1.0}
BEHIND = {"id": "o", "kind": "rc-section", "input": "s.out", "resistor": {"ohm": 1000.0, "rating_watt": 10.0},
          "capacitor": {"farad": 47e-6, "rating_volt": 500.0}}  # fmt: skip
PLAIN = (winding("w", 250.0, 40.0), rectifier("bridge"))


@simulator.needed
def test_a_standby_switch_fills_what_is_behind_it_as_in_the_true_circuit(tmp_path):
    amplifier = solve(design(*PLAIN, reservoir(), STANDBY, BEHIND, load("o", 3e3)))
    run = switch_on(amplifier, 230.0, until=3.0)
    real = Real().winding(250 / 230, "a", "b", 40).add(
        *bridge("a", "b", "c"), "C1 c 0 47u", "S1 c s g 0 SW1", ".model SW1 SW(VT=0.5 RON=0.05 ROFF=1e9)",
        "VG g 0 PWL(0 0 1 0 1.0001 1)", "R1 s o 1k", "C2 o 0 47u", "R2 o 0 3k")  # fmt: skip
    theirs = waves(real, 3.0, tmp_path, keep=3.0)
    grid = np.arange(0.0, 2.98, 1e-4)
    for node, rail in (("c", "c"), ("o", "o")):
        wave = np.interp(grid, theirs["time"], theirs[node])
        cycles = wave[: len(wave) // 100 * 100].reshape(-1, 100).mean(axis=1)
        middle = (np.arange(len(cycles)) + 0.5) * 0.01
        ours = np.interp(middle, run.seconds, run.rails[rail])
        settled_in = (middle > 0.4) & (np.abs(middle - 1.0) > 0.03)
        assert np.abs(ours - cycles)[settled_in].max() < 0.02 * cycles.max(), node
    assert np.interp(0.99, run.seconds, run.rails["o"]) < 0.1
    heat = np.interp(grid, theirs["time"], (theirs["s"] - theirs["o"]) ** 2 / 1000.0)
    soaked = np.convolve(heat, np.full(10000, 1e-4), mode="valid").max()
    assert run.resistors["R1"].value == pytest.approx(soaked, rel=0.03)


def test_an_open_standby_switch_leaves_the_reservoir_charged_and_a_warm_rectifier_behind_one_is_hit():
    amplifier = solve(design(*PLAIN, reservoir(), STANDBY, BEHIND, load("o", 3e3)))
    (rule,) = (rule for rule in RULES if rule.name == "standby-switch")
    state = amplifier.on_mains(230.0).without_tubes
    fitted = discharge(amplifier.compiled, state)
    opened = discharge(amplifier.compiled, state, opened=("S1",))
    assert max(one.second for one in fitted) < 2.0
    assert next(one for one in opened if one.path == "blocks/c/capacitor").second is None
    assert surge(amplifier, 230.0).rectifiers["r"].value == pytest.approx(
        surge(amplifier, 230.0, hot=True).rectifiers["r"].value, rel=0.02
    )
    (result,) = rule.examine(amplifier)
    assert result.value == pytest.approx(250 * 2**0.5, rel=0.01)
    assert "standby switch open" in result.evidence
    tube = {"id": "r", "kind": "tube-rectifier", "winding": "w.out", "tubes": ["v1.a"]}
    first = {**STANDBY, "input": "r.out", "breaks_volt": 1000.0}
    direct = design(winding("w", 250.0, 40.0, centre_tapped=True), tube, first, {**reservoir(), "input": "s.out"},
                    load("c", 3e3), tubes=(("v1", "5Y3GT"),))  # fmt: skip
    (result,) = rule.examine(solve(direct))
    assert "warm rectifier" in result.title
    behind = design(winding("w", 250.0, 40.0, centre_tapped=True), tube, reservoir(),
                    {**STANDBY, "breaks_volt": 1000.0}, load("s", 3e3), tubes=(("v1", "5Y3GT"),))  # fmt: skip
    assert not list(rule.examine(solve(behind)))


SMALL = {"farad": 22e-6, "rating_volt": 100.0}
COUPLED = {**BIAS, "winding": "w.out", "form": "half-wave", "coupling": {"farad": 1e-7, "rating_volt": 400.0},
           "capacitor": SMALL, "reservoir": SMALL}  # fmt: skip
TAPPED = winding("w", 250.0, 40.0, centre_tapped=True)


@simulator.needed
def test_a_bias_through_a_capacitor_is_that_of_the_true_circuit_to_a_hundredth(tmp_path):
    """Its ripple is to a quarter: what goes through the capacitor in a cycle goes within half of one."""
    amplifier = solve(design(TAPPED, rectifier("full-wave"), reservoir(), load("c", 1.5e3), COUPLED))
    real = Real().winding(250 / 230, "a", "0", 40).winding(-250 / 230, "b", "0", 40).add(
        "D1 a c D1", "D2 b c D1", "C1 c 0 47u", "R1 c 0 1.5k", "C4 a k 100n", "D3 raw k D1", "D4 k 0 D1",
        "C2 0 raw 22u", "R2 raw bias 1k", "C3 0 bias 22u", "R3 bias 0 11k", "RL k 0 100meg")  # fmt: skip
    theirs = waves(real, 6.0, tmp_path)
    for rail, node, exact in (("c", "c", 0.005), ("bias_out", "bias", 0.01)):
        mean = np.trapezoid(theirs[node], theirs["time"]) / np.ptp(theirs["time"])
        assert amplifier.voltage(rail) == pytest.approx(mean, rel=exact)
    assert amplifier.ripple("bias_out") == pytest.approx(np.ptp(theirs["bias"]), rel=0.25)
    # What its capacitor stands is what the winding comes to at its crest, and no fuse goes when its diodes are
    # shorted.
    worn = next(stress for stress in stresses(amplifier) if stress.path == "blocks/bias/coupling")
    assert worn.value == pytest.approx(np.abs(theirs["a"] - theirs["k"]).max() * 253 / 230, rel=0.02)
    assert shorted_ampere(amplifier, "bias") is None


def test_a_bias_through_a_capacitor_wants_a_winding_that_swings_both_ways():
    plain = winding("w", 250.0, 40.0)
    with pytest.raises(DesignRefused, match="a short of the winding"):
        design(plain, rectifier("bridge"), reservoir(), load("c", 3e3), COUPLED)
    with pytest.raises(DesignRefused, match="make its form half-wave"):
        design(TAPPED, rectifier("full-wave"), reservoir(), load("c", 3e3), {**COUPLED, "form": "bridge"})


def test_behind_a_converter_ripple_is_not_known():
    """What it switches is not in its model, so that no figure is shown for its rail or for one behind it."""
    amplifier = solve(examples.example("sedge"))
    shown = {rail.name: written_ripple(amplifier, rail.node) for rail in amplifier.compiled.rails}
    assert [name for name, ripple in shown.items() if ripple == "not known"] == ["converter", "ht1"]
    assert parse(shown["low"], Quantity.VOLTAGE) > 0.1
    reported = report(amplifier)["supply"]["ripple_v_peak_to_peak"]
    assert [name for name, ripple in reported.items() if ripple is None] == ["converter", "ht1"]
    tree = {branch.block.id: branch.ripple for root in supply_tree(amplifier) for branch in _all(root)}
    assert tree["converter"] == "not known"


def _all(branch):
    yield branch
    for one in branch.behind:
        yield from _all(one)


def test_loops_through_rails_are_looked_at_in_the_designs_order():
    for name in ("beacon", "mill", "saltpan"):
        amplifier = solve(examples.example(name))
        order = [block.id for block in amplifier.design.blocks]
        loops = [order.index(rail_loop.block) for rail_loop in rail_loops(amplifier)]
        assert len(loops) >= 3
        assert loops == sorted(loops)


@pytest.mark.parametrize("farad", ["220n", "1u", "2u2", "10u"])
def test_a_rail_loop_runs_where_the_whole_circuit_has_a_growing_pole(farad):
    """All poles of the linearised circuit, by the QZ algorithm on C dx/dt = -G x, beside Nyquist on the one wire."""
    amplifier = solve(changed(examples.example("weir"), "blocks/ht2/capacitor/farad", farad))
    small = amplifier.small_signal.at
    result = eigvals(-small.slopes, small.system.C)
    poles = result[np.isfinite(result) & (np.abs(result) < 1e4)]
    worst = poles[np.argmax(poles.real)]
    (loop,) = (rail_loop for rail_loop in rail_loops(amplifier) if rail_loop.block == "ht2")
    assert loop.runs == (worst.real > 0)
    if loop.runs and farad != "220n":  # far from the edge it is no sine any more
        assert loop.nearest[1] == pytest.approx(abs(worst.imag) / (2 * np.pi), rel=0.15)


def test_a_rail_that_nearly_runs_is_said_and_a_larger_capacitor_offered():
    weir = changed(examples.example("weir"), "blocks/ht2/capacitor/farad", "2u2")
    (result,) = RULE["motorboating"].examine(solve(weir))
    assert result.severity is Severity.POOR
    assert "nearly" in result.title
    assert not list(RULE["motorboating"].examine(solve(changed(weir, result.cure.path, result.cure.typed))))


def test_what_a_rail_is_loaded_with_is_no_loop():
    """A passive network has none, whatever hangs on it; nor has a stage that hangs on a rail of its own."""
    made = solve(design(winding("w", 250.0, 40.0), rectifier("bridge"), reservoir(),
                        {**BEHIND, "input": "c.out"}, load("o", 3e3)))  # fmt: skip
    assert all(rail_loop.strongest[0] < 1e-6 and not rail_loop.runs for rail_loop in rail_loops(made))
    lantern = {rail_loop.block: rail_loop for rail_loop in rail_loops(solve(examples.example("lantern")))}
    assert lantern["ht1"].strongest[0] < 1e-6  # all that draws hangs behind it
    assert lantern["ht3"].strongest[0] > 1e-3


def bucked(share):
    """A pentode on the raw reservoir, its screen and what is before it behind the transformer's turns past the HT."""
    raw = dump(examples.example("wicket"))
    blocks = {block["id"]: block for block in raw["blocks"]}
    blocks["transformer"] |= {"feed": "reservoir.out", "hum_share": share}
    blocks["transformer"].pop("screen_tap")
    blocks["output"]["screen"] = "ht1.out"
    blocks["ht1"] |= {"scope": "channel", "input": "transformer.bucked" if share else "reservoir.out",
                      "resistor": {"ohm": 2200.0, "rating_watt": 5.0}}  # fmt: skip
    blocks["ht2"]["scope"] = "channel"
    raw["blocks"] = [block for block in raw["blocks"] if block["id"] != "feedback"]
    return solve(validate(raw))


def test_turns_past_the_ht_buck_the_hum_where_the_ampere_turns_cancel():
    """What they bring is in proportion to them: where so many leave nothing, none and twice as many leave the
    same."""
    plain, tapped = bucked(None), bucked(0.02)
    (tap,) = hum_taps(tapped)
    result = solve(changed(tapped.design, "blocks/transformer/hum_share", tap.null))
    assert hum_volt(result) < 0.3 * hum_volt(plain)
    assert hum_volt(result) < 1.02 * min(tap.volts)
    twice = solve(changed(tapped.design, "blocks/transformer/hum_share", 2 * tap.null))
    assert hum_volt(twice) == pytest.approx(hum_volt(plain), rel=0.15)
    with pytest.raises(DesignRefused, match="a pair's halves do that by themselves"):
        changed(examples.example("hurdle"), "blocks/transformer/hum_share", "0.06")


def test_two_windings_in_series_are_one_of_twice_the_volts_and_in_parallel_of_half_the_copper():
    def made(**more):
        return solve(design(winding("w", 125.0, 20.0, rating_ampere=0.2, **more), rectifier("bridge"), reservoir(),
                            load("c", 3e3)))  # fmt: skip

    one = solve(design(winding("w", 250.0, 40.0), rectifier("bridge"), reservoir(), load("c", 3e3)))
    series, parallel = made(wound="two in series"), made(wound="two in parallel")
    assert series.voltage("c") == pytest.approx(one.voltage("c"), rel=1e-9)
    half = solve(design(winding("w", 125.0, 10.0), rectifier("bridge"), reservoir(), load("c", 3e3)))
    assert parallel.voltage("c") == pytest.approx(half.voltage("c"), rel=1e-9)
    assert [one.compiled.said(Copper)[0].rating_ampere for one in (series, parallel)] == [0.2, 0.4]


def test_what_is_there_first_is_told_and_a_bias_that_comes_after_its_tubes_is_late():
    """An EL34 at half its emission after 11 s and rising as t to the fourth: a tenth of it after 11 / 9^(1/4) s."""
    saltpan = solve(examples.example("saltpan"))
    on = switch_on(saltpan, 230.0)
    result = {arrival.name: arrival for arrival in arrivals(saltpan, on.seconds, on.rails)}
    warmup = saltpan.design.tube_type("EL34").heater.warmup
    assert result["EL34"].second == pytest.approx(warmup.second / 9 ** (warmup.rise / 4), rel=0.01)
    assert result["reservoir"].second < 1.0 < result["EL34"].second
    assert not result["bias"].late
    for name in ("reservoir", "ht3", "bias"):  # nine tenths of where it ends, and not yet just before
        curve, there = np.abs(on.rails[name]), result[name].second
        assert np.interp(there, on.seconds, curve) >= 0.9 * curve[-1]
        assert np.interp(0.7 * there, on.seconds, curve) < 0.9 * curve[-1]
    slow = changed(saltpan.design, "blocks/bias/capacitor/farad", "10m")
    slow = changed(slow, "blocks/bias/resistor/ohm", "10k")
    again = solve(slow)
    on = switch_on(again, 230.0)
    late = {arrival.name: arrival for arrival in arrivals(again, on.seconds, on.rails)}
    assert late["bias"].late
    assert late["bias"].second > late["EL34"].second


def test_a_filaments_own_volts_spread_its_bias_and_give_a_little_more_current():
    """By Taylor: the mean of a law over a uniform spread of V volts is more by its second derivative times V²/24."""
    amplifier = solve(examples.example("mill"))
    (one,) = slopes(amplifier)
    (use,) = amplifier.compiled.tubes_of("output")
    assert one.ends[1] - one.ends[0] == pytest.approx(2.5 * 2**0.5)
    assert sum(one.ends) / 2 == pytest.approx(amplifier.over_cathode(use, "grid"))
    assert not one.steady
    device, step_volt = amplifier.netlist[use.part].device, 0.05
    at = np.array([amplifier.over_cathode(use, "grid"), amplifier.over_cathode(use, "anode")])
    current = [device.currents(at - shift * step_volt)[0][1] for shift in (-1, 0, 1)]
    bend = (current[0] - 2 * current[1] + current[2]) / step_volt**2
    assert one.more == pytest.approx(bend * 2.5**2 / 24 / current[1], rel=0.02)
    fed = solve(changed(amplifier.design, "blocks/output/filament/fed", "DC"))
    (steady,) = slopes(fed)
    assert steady.steady
    assert steady.ends[1] - steady.ends[0] == pytest.approx(2.5)


def test_a_shorted_output_tube_draws_what_ohm_lets_it_and_only_in_its_own_channel():
    lantern = solve(examples.example("lantern"))
    (one,) = output_shorts(lantern)
    transformer, cathode = (lantern.design.block(name) for name in ("transformer", "output"))
    # From its rail through the primary's copper, the short and the cathode resistor.
    ohm = transformer.primary_copper_ohm + 1.0 + cathode.cathode_resistor.ohm
    hot = next(part for part in one.burning if part.rating_watt)
    assert hot.watt == pytest.approx(one.ampere**2 * cathode.cathode_resistor.ohm, rel=0.01)
    assert next(part for part in one.burning if not part.rating_watt).watt == pytest.approx(
        one.ampere**2 * transformer.primary_copper_ohm, rel=0.01
    )
    assert one.ampere * ohm < lantern.voltage("ht2")
    idle = next(use for use in lantern.compiled.tubes if use.block == "output")
    rest = lantern.parts[idle.part].current
    # What the rectifier gives more is what this tube takes more, a little less for rails that sag.
    mean = rectifying(lantern.state, lantern.compiled.said(Rectified)[0]).mean_ampere
    assert 0.8 * (one.ampere - rest) < one.rectifier_ampere - mean < one.ampere - rest
    assert one.fuse_ampere is None
    (fused,) = output_shorts(solve(examples.example("mill")))
    assert fused.fuse_ampere < fused.fuse_rating  # it never opens
    assert fused.rectifier_ampere > fused.rectifier_rating


def test_what_a_rectifier_tube_fills_of_two_in_series_is_less_than_either():
    def found(farad):
        mill = fit_part(changed(examples.example("mill"), "blocks/reservoir/capacitor/farad", farad),
                        "blocks/reservoir/lower", True)  # fmt: skip
        mill = changed(mill, "blocks/reservoir/lower/farad", farad)
        return list(RULE["first-capacitor"].examine(solve(mill)))

    assert not found("82u")
    (one,) = found("220u")
    assert one.value == pytest.approx(110e-6)


def test_silicon_in_series_with_a_tube_is_what_stands_the_reverse_voltage():
    tube = {"id": "r", "kind": "tube-rectifier", "winding": "w.out", "tubes": ["v1.a"], "silicon": {}}
    made = design(
        winding("w", 450.0, 60.0, centre_tapped=True), tube, reservoir(), load("c", 9e3), tubes=(("v1", "GZ34"),)
    )
    (result,) = RULE["rectifier-reverse"].examine(solve(made))
    assert result.title == "The silicon in series with the GZ34 has too much across it backwards"
    assert "made for 1000 V" in result.evidence
