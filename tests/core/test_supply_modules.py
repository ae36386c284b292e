"""What holds a rail by itself: converters, three-terminal regulators, and the lamp that says that it is up."""

import numpy as np
import pytest

from tests.core import simulator
from tests.core.test_supplies_simulator import Real, bridge, design, load, rectifier, reservoir, waves, winding
from thermionic import devices, examples
from thermionic.amplifier import solve
from thermionic.findings import RULES
from thermionic.supplies.starting import switch_on
from thermionic.supplies.tree import supply_tree

RULE = {rule.name: rule for rule in RULES}


CONVERTED = {"id": "v", "kind": "converter", "input": "c.out", "volt": 250.0, "ampere": 0.05, "ohm": 20.0,
             "least_volt": 10.0, "most_volt": 24.0, "efficiency": 0.8, "idle_watt": 0.5}  # fmt: skip


LOW = (winding("w", 12.6, 0.4), rectifier("bridge"), reservoir(4.7e-3))


@simulator.needed
def test_a_converter_draws_what_it_gives_through_its_losses_as_in_the_true_circuit(tmp_path):
    amplifier = solve(design(*LOW, CONVERTED, load("v", 10e3), load("c", 40.0, "other")))
    ampere = 250 / 10020
    watt = 250 * 10000 / 10020 * ampere / 0.8
    assert amplifier.voltage("v") == pytest.approx(ampere * 10e3, rel=1e-3)
    real = Real().winding(12.6 / 230, "a", "b", 0.4).add(
        *bridge("a", "b", "c"), "C1 c 0 4.7m", "R1 c 0 40", f"B1 c 0 I={watt}/max(V(c),5)+0.005*V(c)")  # fmt: skip
    theirs = waves(real, 2.5, tmp_path)
    mean = np.trapezoid(theirs["c"], theirs["time"]) / np.ptp(theirs["time"])
    assert amplifier.voltage("c") == pytest.approx(mean, rel=0.005)
    assert amplifier.ripple("c") == pytest.approx(np.ptp(theirs["c"]), rel=0.03)


def test_a_converter_holds_its_current_past_its_limit_follows_a_low_input_and_comes_up_in_its_time():
    device = devices.Converter(250.0, 0.05, 10.0, ohm=20.0, efficiency=0.8, idle_watt=0.5, rises_second=0.4)
    for fed, out, ampere in ((12.0, 249.5, 0.025), (12.0, 100.0, 0.05), (5.0, 124.0, 0.05), (5.0, 124.5, 0.025)):
        (taken, given), _ = device.currents(np.array([fed, out]))
        assert -given == pytest.approx(ampere, rel=0.02, abs=2e-4)
        assert taken == pytest.approx(-given * out / 0.8 / fed + 0.005 * fed, rel=1e-6)
    (taken, given), slopes = device.currents(np.array([12.0, 300.0]))
    assert abs(given) < 1e-6  # nothing flows back
    for v in ([12.0, 249.4], [9.98, 248.0], [4.0, 80.0], [12.0, 100.0]):
        at, (_, slopes) = np.array(v), device.currents(np.array(v))
        for port in (0, 1):
            step = np.eye(2)[port] * 1e-6
            by_hand = (device.currents(at + step)[0] - device.currents(at - step)[0]) / 2e-6
            np.testing.assert_allclose(slopes[:, port], by_hand, rtol=1e-3, atol=1e-9)
    assert device.at_time(0.1).volt == pytest.approx(62.5)
    assert device.at_time(0.4) is device
    run = switch_on(solve(design(*LOW, {**CONVERTED, "rises_second": 0.4}, load("v", 10e3))), 230.0, until=2.0)
    middle = float(np.interp(0.3, run.seconds, run.rails["v"]))
    assert middle == pytest.approx(0.75 * run.rails["v"][-1], rel=0.05)


def test_a_converter_is_judged_at_both_ends_of_its_input_and_by_what_it_gives():
    rule = RULE["converter-range"]
    for more, title in (
        ({"ampere": 0.02}, "gives all that it can"),
        ({"least_volt": 14.0}, "is fed too little"),
        ({"most_volt": 15.0}, "is fed too much"),
    ):
        (result,) = rule.examine(
            solve(design(*LOW, {**CONVERTED, **more}, load("v", 10e3), load("c", 40.0, "other")))
        )
        assert title in result.title
        assert result.value > result.limit
    assert not list(rule.examine(solve(design(*LOW, CONVERTED, load("v", 10e3), load("c", 40.0, "other")))))


def test_a_lamp_has_what_its_resistor_leaves_it():
    """By hand: 250 V over 10 kΩ and the load; an LED of some 1.7 V, a neon of 57 V and 3 kΩ."""

    def lit(lamp, ohm):
        made = solve(
            design(
                *LOW,
                CONVERTED,
                load("v", 10e3),
                {
                    "id": "h",
                    "kind": "indicator",
                    "input": "v.out",
                    "lamp": lamp,
                    "ampere": 1e-3,
                    "resistor": {"ohm": ohm},
                },
            )
        )
        return made, (made.voltage("v") - made.voltage("h_lamp")) / ohm

    _, led = lit("LED", 240e3)
    assert led == pytest.approx((249.4 - 1.65) / 240e3, rel=0.01)
    made, neon = lit("neon", 180e3)
    assert neon == pytest.approx((249.4 - 60 + 3e3 * 1.1e-3) / 183e3, rel=0.01)
    assert not list(RULE["indicator-current"].examine(made))
    made, _ = lit("LED", 82e3)
    (result,) = RULE["indicator-current"].examine(made)
    assert "too hard" in result.title
    assert result.cure.typed == "270 kΩ" or result.cure.typed == "220 kΩ"


REGULATED = {"id": "u", "kind": "linear-regulator", "input": "c.out", "volt": 12.6, "ampere": 1.0,
             "dropout_volt": 2.0, "kelvin_per_watt": 10.0}  # fmt: skip


HIGHER = (winding("w", 16.0, 0.4), rectifier("bridge"), reservoir(4.7e-3))


def test_a_three_terminal_regulator_follows_its_input_down_holds_its_limit_and_passes_its_current():
    device = devices.LinearRegulator(12.6, 1.0, dropout_volt=2.0, ohm=0.02, idle_ampere=5e-3)
    for fed, out, ampere in ((20.0, 12.59, 0.5), (20.0, 8.0, 1.0), (10.0, 7.99, 0.5), (20.0, 13.0, 0.0)):
        (taken, given), slopes = device.currents(np.array([fed, out]))
        assert -given == pytest.approx(ampere, abs=0.01)
        assert taken + given == pytest.approx(5e-3, rel=0.01)  # what it takes more is its own
        for port in (0, 1):
            step = np.eye(2)[port] * 1e-7
            up, down = (device.currents(np.array([fed, out]) + sign * step)[0] for sign in (1, -1))
            by_hand = up - down
            np.testing.assert_allclose(slopes[:, port], by_hand / 2e-7, rtol=1e-3, atol=1e-6)
    amplifier = solve(design(*HIGHER, REGULATED, load("u", 25.0)))
    assert amplifier.ripple("u") < 0.01 * amplifier.ripple("c")
    (draw,) = next(branch for branch in _all(supply_tree(amplifier)) if branch.block.id == "u").draws
    assert draw.ampere == pytest.approx(12.6 / 25, rel=0.01)


def _all(branches):
    for branch in branches:
        yield branch
        yield from _all(branch.behind)


def test_a_three_terminal_regulator_is_judged_at_its_drop_its_limit_its_heat_and_its_input():
    rule = RULE["linear-range"]

    def said(ohm=25.0, **more):
        return [one.title for one in rule.examine(solve(design(*HIGHER, {**REGULATED, **more}, load("u", ohm))))]

    assert said() == []
    assert said(dropout_volt=4.5) == ["U1 drops out"]
    assert said(ohm=10.0)[0] == "U1 gives all that it can"
    assert said(kelvin_per_watt=60.0) == ["U1 is too hot"]
    assert said(rating_volt=18.0) == ["U1 has too much at its input"]
    # By hand: what is over the drop on the highest mains, times the current.
    amplifier = solve(design(*HIGHER, {**REGULATED, "kelvin_per_watt": 60.0}, load("u", 25.0)))
    (hot,) = rule.examine(amplifier)
    high = amplifier.on_mains(253.0).state.at
    assert hot.value == pytest.approx(45 + 60 * (high.voltage("c") - high.voltage("u")) * 12.6 / 25, rel=0.01)


def test_heaters_on_a_rail_are_among_what_it_feeds():
    sedge = solve(examples.example("sedge"))
    (draw,) = next(branch for branch in _all(supply_tree(sedge)) if branch.block.id == "heater_rail").draws
    assert (draw.block, draw.ampere) == ("heaters", pytest.approx(0.3, rel=0.01))  # two ECC82 at 12.6 V, 0.15 A
