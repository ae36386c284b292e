"""Device equations: derivatives, monotony, and the laws they stand for."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from thermionic import tubes
from thermionic.devices import Diode, RectifiedWinding
from thermionic.devices.diode import THERMAL_VOLT

TRIODES = [tube.triode() for tube in tubes.all_types().values()]
DEVICES = [*TRIODES, Diode(), RectifiedWinding(380.0, 60.0, 50.0)]


@settings(max_examples=200)
@given(st.sampled_from(DEVICES), st.floats(-120, 30), st.floats(0.5, 500), st.floats(0.2, 6.0))
def test_derivatives_agree_with_finite_differences(device, first, second, phase):
    v = np.array([min(first, 0.9) if isinstance(device, Diode) else first, second][: len(device.ports)])
    if isinstance(device, RectifiedWinding):
        v = np.array([second])
    _, g = device.currents(v, phase)
    for port in range(len(v)):
        h = 1e-5
        up, down = v.copy(), v.copy()
        up[port] += h
        down[port] -= h
        slope = (device.currents(up, phase)[0] - device.currents(down, phase)[0]) / (2 * h)
        np.testing.assert_allclose(g[:, port], slope, rtol=2e-4, atol=1e-9)


@given(st.sampled_from(TRIODES), st.floats(-100, 20), st.floats(0, 500), st.floats(0.01, 20))
def test_more_volts_on_grid_or_anode_never_mean_less_current(triode, grid, anode, more):
    here = triode.currents(np.array([grid, anode]))[0]
    assert triode.currents(np.array([grid + more, anode]))[0][1] >= here[1]
    assert triode.currents(np.array([grid, anode + more]))[0][1] >= here[1] * (1 - 1e-12)
    assert here[0] >= 0 <= here[1]


def test_no_current_to_an_anode_below_the_cathode():
    for triode in TRIODES:
        i, g = triode.currents(np.array([[0.0, -50.0], [-5.0, 0.0]]))
        assert np.all(i[:, 1] == 0)
        assert np.all(np.isfinite(g))


@given(st.floats(0, 6.28), st.floats(0, 500))
def test_the_rectified_winding_solves_its_loop(phase, output):
    winding = RectifiedWinding(380.0, 60.0, 50.0)
    delivered = -winding.currents(np.array([output]), phase)[0][0]
    saturation, a = winding.diode.saturation_ampere, winding.diode.emission * THERMAL_VOLT
    assert delivered >= -saturation
    if delivered > 1e-6:
        drop = 2 * a * np.log1p(delivered / saturation)
        assert winding.driving_volt(phase) - output == pytest.approx(delivered * winding.ohm + drop, abs=1e-6)
