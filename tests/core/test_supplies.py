"""Supplies at their moments: what Ohm, Kirchhoff and Fourier say of them by hand."""

from dataclasses import replace
from math import log, pi

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.core.test_supplies_simulator import HEATERS, design, load, rectifier, reservoir, winding
from thermionic import devices, examples
from thermionic.amplifier import solve
from thermionic.blocks.facets import Rectified
from thermionic.blocks.fields import FusePart, PassTransistor, RectifierDiode
from thermionic.blocks.heaters import Link, chains
from thermionic.circuit.netlist import Netlist, Part
from thermionic.circuit.operating_point import operating_point
from thermionic.circuit.supply import solve_circuit
from thermionic.circuit.system import System
from thermionic.circuit.transient import transient
from thermionic.design import changed, dump, find, fit_part, validate
from thermionic.errors import DesignRefused
from thermionic.findings import RULES
from thermionic.findings.base import Severity
from thermionic.supplies.bleeding import bleeders, can_bleed
from thermionic.supplies.discharging import discharge
from thermionic.supplies.filaments import balances
from thermionic.supplies.heating import CURRENT_POWER, heater_hum, heating, others_when_pulled
from thermionic.supplies.moments import at_work, cold, house_volts, moments
from thermionic.supplies.rectifying import rectifying
from thermionic.supplies.ripple import rail_ripples, what_buys_most
from thermionic.supplies.selenium import replacement, selenium_blocks
from thermionic.supplies.starting import shorted_ampere, surge, switch_on
from thermionic.supplies.stress import stresses
from thermionic.supplies.taps import chosen, ways
from thermionic.supplies.tree import supply_tree
from thermionic.supplies.trimming import reaches
from thermionic.values import Quantity

RULE = {rule.name: rule for rule in RULES}
PLAIN = (winding("w", 250.0, 40.0), rectifier("bridge"), reservoir(), load("c", 3e3))


@pytest.mark.parametrize("fundamental", [50.0, 100.0])
def test_a_folded_mains_is_the_sine_with_every_half_cycle_upwards(fundamental):
    source = devices.MainsSource(325.0, 50.0, folded=True)
    result = source.phasors(64, fundamental)
    time = np.arange(4096) / 4096 / fundamental
    wave = result[0].real + sum(
        (result[k] * np.exp(2j * pi * k * fundamental * time)).real for k in range(1, len(result))
    )  # fmt: skip
    np.testing.assert_allclose(wave, np.abs(np.sin(2 * pi * 50 * time)), atol=0.012)
    assert source.excitation().dc[2] == pytest.approx(325.0 * 2 / pi)
    assert source.wave().at(0.015) == pytest.approx(325.0)
    assert source.at_time(3.0, off=2.0).peak_volt == 0.0


@given(st.floats(0.01, 20.0), st.floats(1.0, 1e4))
def test_an_ideal_transformer_keeps_power_and_turns_resistance_by_its_ratio_squared(ratio, ohm):
    parts = (
        Part("V1", devices.VoltageSource(10.0), ("p", "0")),
        Part("X1", devices.IdealTransformer(ratio), ("p", "0", "s", "0")),
        Part("R1", devices.Resistor(ohm), ("s", "0")),
    )
    at = operating_point(System(Netlist("ideal", parts)))
    assert at.voltage("s") == pytest.approx(10.0 * ratio)
    assert -at.terminal_currents["V1"][0] == pytest.approx(10.0 * ratio**2 / ohm, rel=1e-6, abs=2e-11)


def test_what_goes_into_a_rail_comes_out_of_it():
    for name in ("saltpan", "mill", "osier"):
        amplifier = solve(examples.example(name))
        pending, seen = supply_tree(amplifier), 0
        while pending:
            branch = pending.pop()
            pending += branch.behind
            if branch.draws and branch.block.kind in ("rc-section", "lc-section") and not branch.block.bleeder:
                # What the series part brings goes to the consumers: nothing else hangs there but a capacitor.
                part = amplifier.compiled.designator(f"blocks/{branch.block.id}/{type(branch.block).series}")
                into = abs(amplifier.parts[part].current)
                assert sum(draw.ampere for draw in branch.draws) == pytest.approx(into, rel=1e-4), branch.block.id
                seen += 1
        assert seen


def test_heaters_in_series_share_what_there_is_and_a_dropping_resistor_takes_the_rest():
    amplifier = solve(examples.example("sluice"))
    (string,) = heating(amplifier.compiled, amplifier.state)
    assert len(string.heated) == 4
    total = sum(one.volt for one in string.heated)
    assert total + string.ampere * 56.0 == pytest.approx(string.volt, rel=1e-6)
    assert string.dropping_watt == pytest.approx(string.ampere**2 * 56.0)
    for one in string.heated:
        assert one.volt == pytest.approx(total / 4)
        assert one.ampere == pytest.approx(0.15 * (one.volt / 12.6) ** CURRENT_POWER)
    assert others_when_pulled(amplifier, string.heated[0].use) is None
    low, high = (heating(amplifier.compiled, at_work(amplifier, volt).state)[0] for volt in (207.0, 253.0))
    # Hotter they resist more: the string's volts swing more than the mains does, the dropping resistor's less.
    for other, ratio in ((low, 0.9), (high, 1.1)):
        swing = other.heated[0].volt / string.heated[0].volt
        assert abs(swing - 1) > abs(ratio - 1)


def test_a_tube_of_less_current_in_series_gets_too_much_until_it_is_shunted():
    blocks = (winding("hw", 13.0, 0.1), {"id": "h", "kind": "heater-string", "input": "hw.out", "tubes": "v1+v2"})
    tubes = (("v1", "EL34"), ("v2", "EL84"))  # 6.3 V at 1.5 and at 0.76 A
    plain = solve(design(*PLAIN, *blocks, tubes=tubes))
    (string,) = heating(plain.compiled, plain.state)
    small = next(one for one in string.heated if one.use.envelope == "v2")
    assert small.volt > 9.0
    (finding,) = RULE["heater-voltage"].examine(plain)
    assert finding.severity is Severity.OVER
    shunt = 6.3 / (1.5 - 0.76)
    assert f"{shunt:.2g}"[:2] in finding.evidence
    even = solve(changed(plain.design, "blocks/h/tubes", f"v1+v2|{shunt:.3f}"))
    (string,) = heating(even.compiled, even.state)
    assert string.heated[0].volt == pytest.approx(string.heated[1].volt, rel=0.02)


@pytest.mark.parametrize(
    ("written", "says"),
    [("", "needs a tube"), ("v1+v1", "twice"), ("v1;v2", "is no tube"), ("v1|nothing", "is not a resistance")],
)
def test_heaters_are_written_as_a_builder_wires_them(written, says):
    assert chains("v1, v2+v3|47") == ((Link("v1"),), (Link("v2"), Link("v3", 47.0)))
    with pytest.raises(ValueError, match=says):
        chains(written)


def test_pulling_a_heater_lets_the_others_rise_by_what_the_winding_gives_up():
    amplifier = solve(design(*PLAIN, *HEATERS, tubes=(("v9", "EL34"), ("v8", "EL34"))))
    amplifier = solve(changed(amplifier.design, "blocks/h/tubes", "v9, v8"))
    (string,) = heating(amplifier.compiled, amplifier.state)
    share = others_when_pulled(amplifier, string.heated[0].use)
    # 0.04 ohm of its own and the primary's 8.4 by the square of the turns, at 1.5 A less.
    rise = 1.5 * (0.04 + 8.4 * (6.6 / 230) ** 2) / 6.3
    assert share - string.heated[1].share == pytest.approx(rise, rel=0.1)


def test_a_moment_is_said_with_its_mains_and_one_nobody_read_is_only_worth_knowing():
    lantern = examples.example("lantern")
    assert house_volts(lantern) == pytest.approx((232 * 0.9, 232, 232 * 1.1))
    read = changed(changed(lantern, "brief/mains_low_volt", "221"), "brief/mains_high_volt", "247")
    assert house_volts(read) == (221.0, 232.0, 247.0)
    amplifier = solve(read)
    high = cold(amplifier, 247.0)
    assert high.words == "at 247 V mains, tubes cold or pulled"
    # Unloaded it goes with the mains to the peak of the winding.
    assert high.state.at.voltage("reservoir") == pytest.approx(262 * 247 / 230 * 2**0.5, rel=0.01)
    assert [moment.mains_volt for moment in moments(amplifier)] == [221.0, 232.0, 247.0, 247.0]
    near = changed(lantern, "blocks/reservoir/capacitor/rating_volt", "390")
    assert [one.severity for one in RULE["capacitor-voltage"].examine(solve(near))] == [Severity.NOTE]
    known = changed(near, "brief/mains_high_volt", "250")
    assert [one.severity for one in RULE["capacitor-voltage"].examine(solve(known))] == [Severity.DANGER]
    with pytest.raises(DesignRefused, match="is not between"):
        changed(lantern, "brief/mains_high_volt", "220")


def test_stresses_are_what_ohm_says_at_the_moment_that_they_name():
    amplifier = solve(design(*PLAIN, inlet={"fuse": {"ampere": 1.0}}))
    by = {(stress.path, stress.what): stress for stress in stresses(amplifier)}
    high = at_work(amplifier, 253.0).state
    state = by["blocks/mains/fuse", "current, rms"]
    wave = high.mains.node_waveform("mains_wall") - high.mains.node_waveform(amplifier.compiled.node("mains_out"))
    assert state.value == pytest.approx(np.sqrt(np.mean(wave**2)) / 0.25, rel=1e-3)
    assert state.limit == 1.0
    assert "253 V mains" in state.moment
    ripple = by["blocks/c/capacitor", "ripple current, rms"]
    # What comes through the rectifier less what goes to the load: their squares, the ripple being alternating alone.
    result = rectifying(high, amplifier.compiled.said(Rectified)[0])
    assert ripple.value == pytest.approx((result.rms_ampere**2 - result.mean_ampere**2) ** 0.5, rel=0.03)
    volts = by["blocks/c/capacitor", "voltage"]
    assert volts.value == pytest.approx(np.max(high.mains.node_waveform("c")), rel=0.01)
    shares = [stress.share for stress in stresses(amplifier) if stress.share is not None]
    assert shares == sorted(shares, reverse=True)


def test_a_shorted_rectifier_draws_what_its_copper_lets_it():
    amplifier = solve(design(*PLAIN, inlet={"fuse": {"ampere": 1.0}}))
    # 40 ohm and the short through the turns, with the primary, the wiring and the fuse.
    ohm = 40.02 / (250 / 230) ** 2 + 8.0 + 0.4 + 0.25
    assert shorted_ampere(amplifier, "r") == pytest.approx(230 / ohm, rel=1e-3)
    assert shorted_ampere(solve(design(*PLAIN)), "r") is None


def test_a_fuse_that_is_too_small_melts_as_the_reservoir_fills():
    fuse = FusePart(ampere=0.05, speed="quick")
    assert fuse.fuse().melting_i2t == pytest.approx(0.8 * 0.05**2)
    amplifier = solve(design(*PLAIN, inlet={"fuse": {"ampere": 0.05, "speed": "quick"}}))
    first = surge(amplifier, 230.0)
    assert first.fuse_i2t > first.melting_i2t
    assert switch_on(amplifier, 230.0, until=1.0).blown is not None
    holds = solve(changed(amplifier.design, "blocks/mains/fuse/ampere", "2"))
    assert switch_on(holds, 230.0, until=1.0).blown is None


def test_capacitors_empty_through_their_bleeder_and_not_without_it():
    bled = solve(design(*PLAIN[:2], reservoir(bleeder={"ohm": 220e3, "rating_watt": 3.0})))
    (one,) = discharge(bled.compiled, bled.state)
    tau = 220e3 * 1.05 * 47e-6 * 1.2
    assert one.second == pytest.approx(tau * log(one.volt / 50.0), rel=0.03)
    name = bled.compiled.designator("blocks/c/bleeder")
    (one,) = discharge(bled.compiled, bled.state, opened=(name,))
    assert one.second is None


def test_a_capacitor_twice_as_large_takes_six_decibels_and_the_ripple_has_its_harmonics():
    amplifier = solve(examples.example("mill"))
    first = next(one for one in what_buys_most(amplifier) if one.path == "blocks/ht0/capacitor")
    assert first.db == pytest.approx(6.02, abs=0.1)
    rail = next(rail_ripple for rail_ripple in rail_ripples(amplifier) if rail_ripple.name == "reservoir")
    wave = amplifier.state.mains.node_waveform("reservoir")
    assert sum(volt**2 for _, volt in rail.harmonics) == pytest.approx(np.var(wave), rel=0.02)
    assert {100.0, 200.0} <= {hertz for hertz, _ in rail.harmonics}


def test_a_tap_scales_every_winding_and_a_resistor_makes_its_own_heat():
    amplifier = solve(changed(examples.example("reedbed"), "brief/mains_volt", "246"))
    result = {way.key: way for way in ways(amplifier)}
    at = {tap: result[f"blocks/mains_transformer/tap_volt={tap}"] for tap in (220, 230, 240)}
    assert [at[tap].now for tap in (220, 230, 240)] == [False, True, False]
    assert at[240].rails["reservoir"] / at[220].rails["reservoir"] == pytest.approx(220 / 240, rel=0.01)
    assert at[240].heater / at[220].heater == pytest.approx(220 / 240, rel=0.01)
    (resistor,) = (way for key, way in result.items() if "series" in key)
    ohm = float(resistor.key.rpartition("=")[2])
    design, _ = chosen(amplifier, resistor.key)
    after = solve(design)
    ampere = after.rms_ampere(after.compiled.designator("blocks/mains/series"))
    assert resistor.watt == pytest.approx(ampere**2 * ohm, rel=1e-4)
    bucked, _ = chosen(amplifier, "blocks/mains_transformer/bucking_volt=12.6")
    lower = solve(bucked)
    plain = solve(changed(amplifier.design, "brief/mains_volt", f"{246 - 12.6:.1f}"))
    assert lower.voltage("reservoir") == pytest.approx(plain.voltage("reservoir"), rel=1e-4)
    with pytest.raises(KeyError):
        chosen(amplifier, "blocks/mains_transformer/tap_volt=110")


def test_silicon_with_its_resistor_gives_what_the_selenium_gave():
    made = design(winding("w", 60.0, 20.0), rectifier("bridge", diode={"material": "selenium", "in_series": 5}),
                  reservoir(100e-6), load("c", 500.0))  # fmt: skip
    amplifier = solve(made)
    assert selenium_blocks(amplifier) == ("r",)
    result, after = replacement(amplifier, "r")
    assert result.silicon_volt > result.selenium_volt + 3
    assert result.restored_volt == pytest.approx(result.selenium_volt, rel=0.02)
    restored = solve(after)
    assert restored.voltage("c") == pytest.approx(result.restored_volt, rel=1e-4)
    heat = restored.part("blocks/r/dropping").dissipation
    assert result.usual_watt == pytest.approx(heat, rel=1e-3)
    assert result.rating_watt >= 2 * result.high_watt > 2 * result.usual_watt
    assert not selenium_blocks(restored)


def test_a_filament_is_quietest_in_the_middle_and_the_null_is_found_from_anywhere():
    amplifier = solve(changed(examples.example("mill"), "blocks/output/filament/travel", "0.42"))
    (one,) = balances(amplifier)
    assert one.now == 0.42
    assert one.null == pytest.approx(0.5, abs=0.01)
    assert one.hum_volt > 10 * min(one.volts)
    # Its hum is in proportion to how far it is off.
    at = dict(zip(one.positions, one.volts, strict=True))
    assert at[0.3] / at[0.4] == pytest.approx(2.0, rel=0.05)


def test_heater_hum_goes_with_the_way_it_is_held_and_dc_has_none():
    saltpan = dump(examples.example("saltpan"))
    saltpan["blocks"] += [
        {"id": "hw", "kind": "winding", "winding_volt": 6.6, "winding_ohm": 0.03},
        {"id": "h", "kind": "heater-string", "input": "hw.out", "tubes": "v1, v2", "halves": "parallel",
         "reference": "one end"},
    ]  # fmt: skip
    loud = solve(validate(saltpan))
    quiet = solve(changed(loud.design, "blocks/h/reference", "centre tap"))
    for a, b in zip(heater_hum(loud), heater_hum(quiet), strict=True):
        assert a.volt == pytest.approx(5 * b.volt, rel=1e-3)
    assert heater_hum(solve(examples.example("osier"))) == ()


def test_a_junction_is_as_hot_as_its_watts_and_its_sink_make_it():
    part = PassTransistor(rating_watt=62.5, sink_kelvin_per_watt=4.0)
    assert part.junction_celsius(10.0, ambient=40.0) == pytest.approx(40 + 10 * (4 + 2))
    assert RectifierDiode(reverse_volt=400.0, in_series=3).total_volt == 1200.0
    amplifier = solve(examples.example("reedbed"))
    heat = next(
        stress
        for stress in stresses(amplifier)
        if stress.quantity is Quantity.POWER and stress.path.endswith("transistor")
    )
    high = at_work(amplifier, 253.0).state.at
    drop = high.voltage("reservoir") - high.voltage("ht1")
    # All that the rail behind it takes goes through it.
    taken = sum(branch.ampere for branch in _rail(amplifier.on_mains(253.0), "ht1"))
    assert heat.value == pytest.approx(drop * taken, rel=1e-3)


def _rail(amplifier, name):
    pending = supply_tree(amplifier)
    while pending:
        branch = pending.pop()
        if branch.block.id == name:
            return branch.draws
        pending += branch.behind
    raise AssertionError(name)


def test_what_cannot_be_is_refused_in_a_sentence():
    saltpan, reedbed = examples.example("saltpan"), examples.example("reedbed")
    for base, path, typed, says in (
        (saltpan, "blocks/bias/winding", "winding.out", "a short of the winding"),
        (reedbed, "blocks/mains_transformer/tap_volt", "110", "has taps for 220 V, 230 V, 240 V"),
        (reedbed, "blocks/rectifier/form", "doubler", "has an upper and a lower capacitor"),
        (reedbed, "blocks/heaters/tubes", "v1, v7", "no tube v7"),
        (examples.example("osier"), "envelopes/v3/type", "GZ34", "is no gas regulator"),
    ):
        with pytest.raises(DesignRefused, match=says):
            changed(base, path, typed)
    with pytest.raises(DesignRefused, match="needs a divider's lower resistor or a zener"):
        fit_part(reedbed, "blocks/ht1/lower", False)


def test_a_signal_is_followed_in_time_on_a_supply_that_stands_still():
    """The rectifiers' straight lines know nothing of ripple: the mains itself must not move beside them."""
    amplifier = solve(examples.example("weir"))
    standing = System(amplifier.state.standing)
    run = transient(standing, 0.03, start=amplifier.state.at.x, longest=1e-3)
    for use in amplifier.compiled.tubes:
        assert np.ptp(run.voltage(use.anode)) < 1e-3


def test_a_wiper_that_opens_gives_more_bias_where_it_is_guarded():
    design = fit_part(examples.example("saltpan"), "blocks/bias/guard", True)
    amplifier = solve(design)
    pot = amplifier.compiled.designator("blocks/bias/trim")
    smooth, _, foot = amplifier.netlist[pot].nodes
    track = Part("RTRACK", devices.Resistor(25e3), (smooth, foot))
    opened = amplifier.netlist.without(lambda part: part.name == pot).with_parts([track])
    after = solve_circuit(opened)
    assert after.at.voltage("bias_out") < amplifier.voltage("bias_out") - 5
    assert after.at.voltage("bias_out") == pytest.approx(after.at.voltage("bias_smooth"), rel=0.01)


def test_a_trimmer_reaches_as_far_as_its_track_and_no_farther():
    design = examples.example("saltpan")
    amplifier = solve(design)
    trim, _ = reaches(amplifier)
    published, strong, weak = trim.needs
    # The wiper picks off the divider's share, as no grid draws current; the resistor that the current is read at adds
    # what anode and screen, an eighth of the anode, leave across it.
    track, foot = 25e3, float(find(design, "blocks/bias/foot").value.ohm)
    whole = amplifier.voltage("bias_smooth")
    sense = 10.0 * 1.125 * np.array(published.amperes)
    for travel, volt, read in zip((0.0, 1.0), published.volts, sense, strict=True):
        assert volt == pytest.approx(whole * (foot + travel * track / 2) / (foot + track / 2) - read, abs=0.15)
    assert published.travel == pytest.approx(trim.travel, abs=0.005)
    assert (weak.mains_volt, strong.mains_volt) == pytest.approx((207.0, 253.0))
    assert weak.travel < trim.travel - 0.05 < trim.travel + 0.05 < strong.travel
    # The strong tube in its socket at the position found draws today's current.
    there = amplifier.on_mains(strong.mains_volt).netlist
    pot, tube = there[trim.part].device, there["V3"].device
    space = tube.coefficients.space.amplifying(np.exp(-0.3 * 0.04 * 2))
    fresh = replace(tube, scale=tube.scale * np.exp(0.3), coefficients=replace(tube.coefficients, space=space))
    after = solve_circuit(there.with_device("V3", fresh).with_device(trim.part, replace(pot, travel=strong.travel)))
    assert after.at.terminal_currents["V3"][0] == pytest.approx(trim.ampere, rel=0.01)
    # A foot that takes most of the track's range from it leaves the weak tube out of reach.
    narrow = solve(changed(design, "blocks/bias/foot/ohm", 150e3))
    assert reaches(narrow)[0].needs[2].travel is None


def test_a_bleeder_is_sized_by_the_time_constant_and_the_square_of_the_voltage():
    alone = design(*PLAIN[:2], reservoir(farad=100e-6))
    amplifier = solve(alone)
    volt = 250.0 * 1.1 * 2**0.5
    for bleeder in bleeders(amplifier):
        # The capacitor and the bleeder are taken at the top of their tolerances, 20 % and 5 %.
        exact = bleeder.within / (1.2 * 1.05 * 100e-6 * log(volt / 50.0))
        assert exact / 1.25 < bleeder.ohm <= 1.02 * exact
        assert bleeder.second == pytest.approx(bleeder.within * bleeder.ohm / exact, rel=0.03)
        assert bleeder.watt == pytest.approx(volt**2 / bleeder.ohm, rel=0.03)
        assert 2 * bleeder.watt <= bleeder.rating_watt < 4 * bleeder.watt
    assert [bleeder.within for bleeder in bleeders(amplifier)] == [30.0, 60.0]
    # With filters behind it, it is the last of the capacitors that counts.
    whole = solve(examples.example("saltpan"))
    for bleeder in bleeders(whole):
        fitted = solve(changed(whole.design, f"{bleeder.path}/ohm", bleeder.ohm))
        result = discharge(fitted.compiled, fitted.on_mains(253.0).without_tubes)
        assert max(each.second for each in result) == pytest.approx(bleeder.second, rel=0.03)
    assert not can_bleed(alone, "blocks/output/bleeder")


@pytest.mark.parametrize(("rating", "offered"), [(60.0, None), (15.0, "200 mA"), (40.0, None), (24.0, "200 mA")])
def test_no_fuse_is_offered_below_the_transformers_rated_current(rating, offered):
    """60 VA at 120 V are 0.5 A; a shorted rectifier draws 1.19 A, of which a fuse of 298 mA is sure to open. 24 VA
    are 200 mA, the most that a preferred fuse can be."""
    made = design(
        winding("w", 250.0, 400.0), rectifier("bridge"), reservoir(), load("c", 9e3), volt=120.0,
        inlet={"fuse": {"ampere": 4.0}}, iron={"taps_volt": (120.0,), "tap_volt": 120.0, "rating_va": rating},
    )  # fmt: skip
    (result,) = RULE["fuse-rating"].examine(solve(made))
    assert (result.cure.typed if result.cure else None) == offered
    assert "surge" in result.why
    assert ("one of its own" in result.why) == (offered is not None)
