"""The output transformer's figures against hand calculation, and what must hold of them whatever the amplifier."""

from functools import cache

import numpy as np
import pytest

from thermionic import examples
from thermionic.amplifier import solve
from thermionic.design import changed, fit_part
from thermionic.errors import DesignRefused
from thermionic.iron.output import ageing, limits, output_transformer, reflected
from thermionic.iron.saturating import output_against_frequency, saturating_cycle
from thermionic.iron.taps import on_taps, unloaded, unused

WITH_IRON = ("hurdle", "lantern", "saltpan", "wicket", "weir")


@cache
def solved(name):
    return solve(examples.example(name))


def edited(name, **typed):
    """The example with values of its transformer changed."""
    design = examples.example(name)
    for field, value in typed.items():
        design = changed(design, f"blocks/transformer/{field}", value)
    return solve(design)


def seen_by_hand(block, tap, ohm, hertz):
    """The primary's copper and leakage, and its inductance beside the load with the secondary's copper, by the
    turns squared."""
    squared = block.primary_ohm / tap.ohm
    load, w = squared * (ohm + tap.copper_ohm), 2 * np.pi * hertz
    beside = 1 / (1 / load + 1 / (1j * w * block.primary_henry))
    through = block.primary_copper_ohm + 1j * w * block.leakage_henry + beside
    return 1 / (1 / through + 1j * w * (block.primary_farad or 0.0))


@pytest.mark.parametrize("name", ["lantern_first_drawing", "weir", "saltpan"])
def test_what_the_tubes_see_is_the_load_by_the_turns_squared(name):
    """Through the band, the winding's capacitance across it; a feedback's resistor on the secondary is lifted off."""
    amplifier = solved(name)
    block = amplifier.design.block("transformer")
    tap = next(tap for tap in block.taps if f"transformer.{tap.id}" == amplifier.design.block("speaker").input)
    result = reflected(amplifier)
    for hertz in (20.0, 50.0, 1e3, 5e3):
        by_hand = seen_by_hand(block, tap, amplifier.load.ohm, hertz)
        assert result.at(hertz) == pytest.approx(abs(by_hand), rel=0.015), hertz
        phase = float(np.interp(np.log(hertz), np.log(result.hertz), result.phase_degrees))
        assert phase == pytest.approx(np.degrees(np.angle(by_hand)), abs=2.0), hertz


def test_limits_follow_the_values_that_set_them():
    """Twice the inductance goes half as low, half the leakage twice as high; copper by hand."""
    plain, large, tight = (
        solved("lantern"),
        edited("lantern", primary_henry="40"),
        edited("lantern", leakage_henry="5m"),
    )
    block = plain.design.block("transformer")
    of = limits(plain)
    assert of.low_hertz / limits(large).low_hertz == pytest.approx(40.0 / block.primary_henry, rel=0.02)
    assert limits(tight).high_hertz / of.high_hertz == pytest.approx(block.leakage_henry / 5e-3, rel=0.02)
    tap = next(tap for tap in block.taps if f"transformer.{tap.id}" == plain.design.block("speaker").input)
    squared = block.primary_ohm / tap.ohm
    lost = (block.primary_copper_ohm + squared * tap.copper_ohm) / (squared * plain.load.ohm)
    assert of.copper_db == pytest.approx(10 * np.log10(1 + lost), rel=1e-6)
    idle = plain.parts["V2"].current
    assert of.idle_copper_watt == pytest.approx(idle**2 * block.primary_copper_ohm, rel=0.01)
    assert of.copper_watt == pytest.approx(of.idle_copper_watt + plain.full_output.power_watt * lost, rel=1e-3)
    assert of.steady_ampere == pytest.approx(idle, rel=1e-3)
    assert of.allowed_ampere == 0.06
    with pytest.raises(DesignRefused):
        reflected(solved("otter"))


def test_a_pair_of_equal_tubes_magnetises_nothing_and_the_core_is_rated_by_the_roots_of_the_power():
    """By hand: flux at a frequency goes with the root of the output, so that a core for 50 W down to 30 Hz gives
    what this amplifier has down to 30 Hz times the root of that over 50 W; a quarter of the rating twice as high."""
    amplifier = solved("saltpan")
    result = limits(amplifier)
    assert result.steady_ampere < 1e-5
    assert result.core_hertz == pytest.approx(30.0 * (result.full / 50.0) ** 0.5, rel=1e-3)
    smaller = solve(changed(amplifier.design, "blocks/transformer/core/watt", "12.5"))
    assert limits(smaller).core_hertz == pytest.approx(2 * result.core_hertz, rel=0.02)


def test_steady_current_takes_from_what_the_core_has_for_the_signal():
    """By hand, in webers: the rating leaves the swing of 10 W at 40 Hz on top of what 60 mA makes of the
    inductance."""
    amplifier = solved("lantern")
    block, result = amplifier.design.block("transformer"), limits(amplifier)
    swing = (2 * 10.0 * block.primary_ohm) ** 0.5 / (2 * np.pi * 40.0)
    room = swing + block.primary_henry * (0.06 - result.steady_ampere)
    wanted = (2 * result.full * block.primary_ohm) ** 0.5 / (2 * np.pi)
    assert result.core_hertz == pytest.approx(wanted / room, rel=0.01)
    weak = solve(changed(amplifier.design, "blocks/transformer/core/ampere", "20 mA"))
    assert limits(weak).core_hertz is None or limits(weak).core_hertz > result.core_hertz


@pytest.mark.parametrize("name", ["lantern", "hurdle"])
def test_low_notes_end_where_the_core_does(name):
    """Full output is that of the middle well above the core's own frequency, and has gone well below it."""
    amplifier = solved(name)
    core = limits(amplifier).core_hertz
    result = output_against_frequency(amplifier)
    watt = dict(zip(result.hertz, result.watt, strict=True))
    assert watt[max(watt)] == pytest.approx(result.middle_watt, rel=0.06)
    assert result.full_hertz is not None
    assert result.half_hertz is None or result.half_hertz < result.full_hertz
    assert result.full_hertz > 0.8 * core  # the inductance alone may ask for more before the core does
    assert min(watt.values()) < 0.6 * result.middle_watt
    cycle = saturating_cycle(amplifier)
    # The magnetising current has the steady one for its mean, and is spiked: it peaks above a sine's root two.
    swing = cycle.magnetising - cycle.magnetising.mean()
    assert abs(swing).max() > 1.5 * float(np.sqrt(np.mean(swing**2)))
    # What goes into the load is, as the primary sees it, the output's own current.
    block = amplifier.design.block("transformer")
    rms = float(np.sqrt(np.mean(cycle.carried**2)))
    assert rms < 1.1 * (result.middle_watt / (block.primary_ohm * amplifier.load.ohm / 8.0)) ** 0.5
    assert cycle.hertz == core


def test_taps_show_the_load_by_their_ratio_and_two_loudspeakers_are_half_of_one():
    amplifier = solved("saltpan")
    rows = {(on_tap.tap, on_tap.load): on_tap for on_tap in on_taps(amplifier)}
    assert not any(row.refusal for row in rows.values())
    one, two = "one loudspeaker", "two in parallel"
    assert rows["8", one].used
    assert [one_.used for one_ in rows.values()].count(True) == 1
    assert rows["8", one].power_watt == pytest.approx(amplifier.full_output.power_watt)
    for (tap, load), row in rows.items():
        ohm = 8.0 if load == one else 4.0
        assert row.load_ohm == ohm
        assert row.primary_ohm == pytest.approx(6600.0 * ohm / float(tap))
    # Half the load on half the tap is the same to the tubes.
    assert rows["4", two].power_watt == pytest.approx(rows["8", one].power_watt, rel=0.05)
    assert rows["8", one].power_watt == max(row.power_watt for row in rows.values())
    assert {entry.name for entry in unused(amplifier)} == {"secondary 4 Ω", "secondary 16 Ω"}
    freed = solve(
        changed(changed(amplifier.design, "blocks/output/screen", ""), "blocks/output/cathode_resistor/ohm", 10)
    )
    assert "screen taps" in {entry.name for entry in unused(freed)}


@pytest.mark.parametrize("name", WITH_IRON)
def test_no_load_lets_the_anodes_swing_further(name):
    """Full output over it at least, and twice that for the dummy load; a pentode's anode goes further than a triode's
    by what its own resistance does not hold."""
    amplifier = solved(name)
    result = unloaded(amplifier)
    assert (
        result.anode_volt
        > result.with_load_volt
        > max(amplifier.voltage(use.anode) for use in amplifier.compiled.tubes if use.block == amplifier.route[-3])
        * 0.5
    )
    assert result.dummy_watt >= 2 * amplifier.full_output.power_watt
    assert result.dummy_ohm == amplifier.load.ohm


def test_less_idle_current_cools_old_iron_by_the_square():
    """By hand: nine tenths of the current is 0.81 of the heat; 45 K of rise become 36.5 K, and insulation lasts
    2^(8.55/8) times as long (Montsinger)."""
    amplifier = solve(fit_part(examples.example("lantern_first_drawing"), "blocks/transformer/core", False))
    rows = {one.share: one for one in ageing(amplifier)}
    assert rows[0.9].heat_watt == pytest.approx(0.81 * rows[1.0].heat_watt)
    assert rows[1.0].life == 1.0
    assert rows[0.9].life == pytest.approx(2 ** (45 * 0.19 / 8))
    # With a rating, against that: 53.4 of 60 mA.
    rated = {one.share: one for one in ageing(solved("lantern"))}
    share = limits(solved("lantern")).steady_ampere / 0.06
    assert rated[1.0].life == pytest.approx(2 ** (45 * (1 - share**2) / 8), rel=1e-3)


def test_an_amplifier_without_a_transformer_has_none():
    assert output_transformer(solved("otter")) is None
    with pytest.raises(DesignRefused):
        on_taps(solved("otter"))
