"""Device equations: derivatives, monotony, and the laws they stand for."""

from dataclasses import fields, replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from thermionic import devices as d
from thermionic import tubes
from thermionic.devices.base import THERMAL_VOLT
from thermionic.errors import NetlistRefused

TRIODES = [tube.triode() for tube in tubes.types_with("triode").values()]
PENTODES = [tube.pentode() for tube in tubes.types_with("pentode").values()]
CORE = d.Core(20.0, knee_weber=1.0, power=4)
# Each device with the range that its sensed voltages (or flux, or temperature rise) may be anywhere in.
DEVICES = [
    *((triode, ((-120, 30), (0.5, 500))) for triode in TRIODES),
    *((pentode, ((-80, 20), (1, 450), (0.5, 600))) for pentode in PENTODES),
    (tubes.get("300B").filament_triode(), ((-120, 20), (20, 450), (-7, 7))),
    (tubes.get("GZ34").rectifier(), ((-500, 60), (-500, 60))),
    (replace(tubes.get("GZ34").rectifier(), knee_volt=3.0), ((-500, 60), (-500, 60))),
    (d.Diode(), ((-5, 0.9),)),
    (d.Diode(ohm=0.5, breakdown_volt=30.0), ((-32, 5),)),
    (d.LED(), ((-5, 3),)),
    (d.Zener(12.0), ((-20, 0.9),)),
    (d.SeleniumRectifier(), ((-30, 10),)),
    (tubes.get("0A2").regulator(lit=True), ((0, 190),)),
    (d.BipolarTransistor(early_volt=70.0, knee_ampere=0.05), ((-2, 0.85), (-30, 0.75))),
    (d.BipolarTransistor(polarity=-1, early_volt=70.0), ((-0.85, 2), (-0.75, 30))),
    (d.Mosfet(modulation=0.02), ((-2, 12), (-0.8, 40))),
    (d.Mosfet(polarity=-1, modulation=0.02), ((-12, 2), (-40, 0.8))),
    (d.Thermistor(), ((-30, 30), (0, 200))),
    (d.Lamp(60.0, 230.0), ((-230, 230), (0, 2500))),
    (d.Fuse(1.0, 2.0), ((-1, 1), (0, 5))),
    (d.Transformer((d.Winding(1, 10), d.Winding(0.1, 0.1)), CORE), ((-2, 2),)),
    (d.JunctionCharge(10e-12, 0.7, 0.4, 1e-9), ((-20, 0.75),)),
]


@st.composite
def device_and_place(draw):
    device, ranges = draw(st.sampled_from(DEVICES))
    return device, np.array([draw(st.floats(low, high)) for low, high in ranges])


@settings(max_examples=500)
@given(device_and_place(), st.floats(0.2, 6.0))
def test_derivatives_agree_with_finite_differences(case, phase):
    device, v = case
    i, g = device.currents(v, phase)
    assert i.shape == (len(device.injects),)
    assert g.shape == (len(device.injects), len(device.ports))
    for port in range(len(v)):
        h = 1e-6 * max(1.0, abs(v[port]))
        up, down = v.copy(), v.copy()
        up[port] += h
        down[port] -= h
        slope = (device.currents(up, phase)[0] - device.currents(down, phase)[0]) / (2 * h)
        # A corner between the two points (a knee, the end of saturation) shows as a slope between those on its sides.
        sides = [device.currents(place, phase)[1][:, port] for place in (up, down)]
        low, high = np.minimum(*sides), np.maximum(*sides)
        room = 1e-9 + 2e-4 * np.abs(g[:, port]) + 1e-8 * np.abs(i) / h
        assert np.all(slope >= low - room)
        assert np.all(slope <= high + room)


@settings(max_examples=60)
@given(device_and_place(), st.integers(2, 5))
def test_arrays_of_variants_give_what_each_gives_alone(case, count):
    device, v = case
    singles = [device.currents(v * (1 + 0.01 * k)) for k in range(count)]
    # A number that is an array makes the device several, each with the last axis but one of its voltages.
    numbers = [np.full(count, one) if k == 0 else one for k, one in enumerate(device.numbers())]
    several = type("Several", (type(device),), {"numbers": lambda self: tuple(numbers)})
    several = several(**{entry.name: getattr(device, entry.name) for entry in fields(device)})
    i, g = several.currents(np.stack([v * (1 + 0.01 * k) for k in range(count)]))
    for k, (one, slope) in enumerate(singles):
        np.testing.assert_allclose(i[k], one, rtol=1e-9, atol=1e-15)
        np.testing.assert_allclose(g[k], slope, rtol=1e-9, atol=1e-15)


@given(st.sampled_from(TRIODES), st.floats(-100, 20), st.floats(0, 500), st.floats(0.01, 20))
def test_more_volts_on_grid_or_anode_never_mean_less_current(triode, grid, anode, more):
    here = triode.currents(np.array([grid, anode]))[0]
    assert triode.currents(np.array([grid + more, anode]))[0][1] >= here[1]
    assert triode.currents(np.array([grid, anode + more]))[0][1] >= here[1] * (1 - 1e-12)
    assert here[0] >= 0 <= here[1]


@given(st.sampled_from(PENTODES), st.floats(-60, 0), st.floats(20, 400), st.floats(1, 500), st.floats(0.1, 50))
def test_a_pentode_keeps_its_cathode_current_and_its_curves_rise(pentode, grid, screen, anode, more):
    _, low_screen, low_anode = pentode.currents(np.array([grid, screen, anode]))[0]
    _, high_screen, high_anode = pentode.currents(np.array([grid, screen, anode + more]))[0]
    # The anode only ever draws more as it goes up, and the whole cathode current with it.
    assert high_anode >= low_anode * (1 - 1e-12)
    assert high_anode + high_screen >= (low_anode + low_screen) * (1 - 1e-12)
    assert min(low_screen, low_anode) >= 0
    _, screen_down, _ = pentode.currents(np.array([0.0, screen, 0.02 * screen]))[0]
    _, screen_up, _ = pentode.currents(np.array([0.0, screen, screen]))[0]
    assert screen_down >= screen_up * (1 - 1e-9), "the screen takes over as the anode swings low"


@pytest.mark.parametrize("pentode", PENTODES[::6])
def test_a_strapped_pentode_is_the_triode_of_its_own_space_current(pentode):
    for volt, grid in ((100, -2.0), (250, -8.0), (300, -20.0)):
        _, screen, anode = pentode.currents(np.array([grid, volt, volt]))[0]
        alone = d.Triode(pentode.coefficients.space).currents(np.array([grid, volt]))[0][1]
        assert screen + anode == pytest.approx(alone, rel=1e-12)


def test_no_current_to_an_anode_below_the_cathode():
    for triode in TRIODES:
        i, g = triode.currents(np.array([[0.0, -50.0], [-5.0, 0.0]]))
        assert np.all(i[:, 1] == 0)
        assert np.all(np.isfinite(g))


def test_a_filament_without_volts_along_it_is_a_plain_triode():
    tube = tubes.get("2A3")
    ends, plain = tube.filament_triode(), tube.triode()
    i, _ = ends.currents(np.array([-40.0, 250.0, 0.0]))
    np.testing.assert_allclose(i[:2], plain.currents(np.array([-40.0, 250.0]))[0], rtol=1e-12)
    # With volts along it the far half is biased further, and the near half carries more.
    i, _ = ends.currents(np.array([-40.0, 250.0, 2.5]))
    assert i[1] < plain.currents(np.array([-40.0, 250.0]))[0][1]
    assert -i[2] < 0.5 * (i[0] + i[1])


@given(st.floats(-500, 500))
def test_a_diode_behind_a_resistance_solves_its_loop(volt):
    diode = d.Diode(emission=3.6, ohm=60.0)
    current = diode.currents(np.array([volt]))[0][0]
    assert current >= -diode.saturation_ampere
    if current > 1e-6:
        drop = diode.emission * THERMAL_VOLT * np.log1p(current / diode.saturation_ampere)
        assert volt == pytest.approx(current * diode.ohm + drop, abs=1e-6)


def test_a_zener_drops_its_volts_at_its_test_current_with_its_slope():
    zener = d.Zener(12.0, 5e-3, 20.0)
    i, g = zener.currents(np.array([-12.0]))
    assert -i[0] == pytest.approx(5e-3, rel=1e-6)
    assert 1 / g[0, 0] == pytest.approx(20.0, rel=1e-3)


def test_a_gas_tube_strikes_holds_and_goes_out():
    dark = tubes.get("0A2").regulator()
    assert dark.after(np.array([150.0])) is dark
    lit = dark.after(np.array([160.0]))
    assert lit.lit
    assert lit.after(np.array([150.0])) is lit
    assert not lit.after(np.array([140.0])).lit
    low, high = (float(lit.currents(np.array([volt]))[0][0]) for volt in (149.0, 151.0))
    assert low == pytest.approx(0.005, rel=0.15)
    assert high == pytest.approx(0.030, rel=0.05)


def test_a_lamp_draws_its_rating_hot_and_a_twelfth_of_its_resistance_cold():
    lamp = d.Lamp(60.0, 230.0)
    rise = lamp.steady_rise(60.0)
    assert lamp.ohm_at(rise) == pytest.approx(230**2 / 60, rel=1e-3)
    assert 10 < lamp.ohm_at(rise) / lamp.ohm_at(0.0) < 16


def test_a_choke_has_half_its_inductance_at_its_full_current():
    choke = d.choke(10.0, 100.0, 0.1, share=0.5)
    flux = np.linspace(0, 1.2, 4001)
    ampere = flux / 10.0 + choke.currents(flux[:, None])[0][:, 0]
    incremental = np.gradient(flux, ampere)
    assert incremental[0] == pytest.approx(10.0, rel=1e-3)
    assert np.interp(0.1, ampere, incremental) == pytest.approx(5.0, rel=1e-2)
    assert np.all(np.diff(incremental) <= 1e-9)


def test_a_driver_has_its_resonance():
    driver = d.Driver(6.2, 0.4e-3, 42.0, 3.5, 0.4)
    g, c = driver.conductance(), driver.storage()

    def impedance(hertz):
        matrix = (g + 2j * np.pi * hertz * c)[np.ix_([0, 2, 3, 4], [0, 2, 3, 4])]
        return np.linalg.solve(matrix, np.array([1.0, 0, 0, 0]))[0]

    assert impedance(42.0).real == pytest.approx(6.2 * (1 + 3.5 / 0.4), rel=1e-2)
    assert abs(impedance(300.0)) == pytest.approx(6.3, rel=0.05)
    assert abs(impedance(20e3)) > 40


def test_an_impedance_table_is_read_and_bad_ones_are_refused_by_line():
    table = d.read_impedance("frequency;impedance;phase\n20;6,0\n".replace(",", "\t") + "50 24.0 0\n1000, 6.5, 15\n")
    assert table.impedance(np.array([1000.0]))[0] == pytest.approx(6.5 * np.exp(1j * np.radians(15)), rel=1e-9)
    assert abs(table.impedance(np.array([5.0]))[0]) == pytest.approx(6.0)
    for text, says in (
        ("20 8 0\n10 8 0\n30 8 0\n", "Line 2 .* must rise"),
        ("20 8 0\nx\n30 eight 0\n", "Line 3"),
        ("20 8 0\n30 8 0\n", "at least 3"),
        ("20 -8 0\n30 8 0\n40 8 0\n", "above zero"),
    ):
        with pytest.raises(NetlistRefused, match=says):
            d.read_impedance(text)
