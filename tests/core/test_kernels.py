"""The compiled loops against numpy and scipy."""

import fcntl
import os
import threading
import time
from unittest.mock import patch

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.special import expit, wrightomega

from thermionic import budget, clock, compiled
from thermionic import devices as d
from thermionic.circuit import elimination
from thermionic.circuit.balance_equations import Equations
from thermionic.circuit.harmonic_balance import balance
from thermionic.circuit.kernels.dense import factored, solve_factored
from thermionic.circuit.spectrum import harmonics_of_one, products_of_two
from thermionic.devices.knees import THERMAL_VOLT, power, softplus, wright_omega
from thermionic.devices.laws import Law, limited
from thermionic.errors import BudgetSpent


@given(st.floats(-700, 700) | st.floats(700, 1e12))
def test_wright_omega_is_that_of_scipy(z):
    assert wright_omega(z) == pytest.approx(float(wrightomega(z)), rel=4e-15)


@given(st.floats(-800, 800))
def test_softplus_is_numpys(u):
    soft, slope = softplus(u)
    assert soft == pytest.approx(float(np.logaddexp(0.0, u)), rel=1e-15, abs=1e-300)
    assert slope == pytest.approx(float(expit(u)), rel=1e-15, abs=1e-300)


@given(st.floats(1e-30, 1e6), st.floats(0.1, 12.0))
def test_power_is_the_libraries(base, exponent):
    assert power(base, exponent) == pytest.approx(base**exponent, rel=1e-13, abs=1e-300)


@given(st.floats(0.1, 0.9), st.floats(0.1, 500.0), st.sampled_from([1.0, -1.0]))
def test_a_junction_is_taken_where_its_current_is_what_the_line_gave(old, rise, polarity):
    """Hand: the tangent's current, Is e^(old / Vt) (1 + rise / Vt), is the exponential's at the limited volts."""
    laws, at = np.array([Law.BIPOLAR]), np.array([[0, 0, 2, 0, 3]])
    numbers = np.array(d.BipolarTransistor(polarity=polarity).numbers(), dtype=float)
    new, before = polarity * np.array([old + rise, -20.0]), polarity * np.array([old, -10.0])
    limited(laws, at, numbers, new, before)
    if old + rise > 0.75:  # past the bend of a saturation current of 10 fA
        assert np.exp((polarity * new[0] - old) / THERMAL_VOLT) == pytest.approx(1 + rise / THERMAL_VOLT)
    assert new[1] == -20.0 * polarity


@given(st.integers(1, 25), st.integers(0, 2**32 - 1), st.booleans())
def test_matrices_of_one_pattern_are_solved_as_numpy_solves_them(size, seed, reactive):
    random = np.random.default_rng(seed)
    filled = (random.random((size, size)) < 3 / size) | np.eye(size, dtype=bool)
    matrices = np.where(filled, random.standard_normal((7, size, size)), 0.0)
    matrices[:, range(size), range(size)] += np.sign(matrices[:, range(size), range(size)]) * size
    if reactive:
        matrices = matrices * np.exp(1j * random.random((7, 1, 1)))
    rhs = random.standard_normal((size, 2, 7))
    wanted = np.moveaxis(np.linalg.solve(matrices, np.moveaxis(rhs, 2, 0)), 0, 2)
    shape = elimination.pattern(filled)
    # By elimination, not by the dense method that makes up for it where it fails.
    with patch.object(np.linalg, "solve", side_effect=AssertionError):
        result = shape.solve(matrices[:, shape.rows, shape.columns].T, rhs)
    np.testing.assert_allclose(result, wanted, rtol=1e-9, atol=1e-12)


@pytest.mark.parametrize("count", [1, 20, 45])
@pytest.mark.parametrize("sides", [1, 2])
def test_a_sweep_is_solved_as_numpy_solves_each_frequency(count, sides):
    random = np.random.default_rng(count)
    size = 12
    filled = (random.random((size, size)) < 0.3) | np.eye(size, dtype=bool)
    g, c = (np.where(filled, random.standard_normal((size, size)), 0.0) for _ in range(2))
    g[range(size), range(size)] += size
    omega = np.geomspace(0.1, 10.0, count)
    for rhs in (random.standard_normal((size, sides, 1)), random.standard_normal((size, sides, count)) + 1j):
        shape = elimination.pattern(filled)
        result = shape.sweep(g[shape.rows, shape.columns], c[shape.rows, shape.columns], omega, rhs)
        for place, one in enumerate(omega):
            wanted = np.linalg.solve(g + 1j * one * c, rhs[:, :, min(place, rhs.shape[2] - 1)])
            np.testing.assert_allclose(result[:, :, place], wanted, rtol=1e-9, atol=1e-12)


@pytest.mark.parametrize("left", [0.0, 1e-18])
def test_a_matrix_whose_pivot_vanishes_is_solved_densely(left):
    """The order is chosen by a few of them; four others each lack one entry, so one of those its first pivot."""
    matrices = np.tile([[1.0, 2.0], [3.0, 5.0]], (50, 1, 1)) * np.linspace(1, 2, 50)[:, None, None]
    for batch, (row, column) in zip((1, 2, 3, 5), ((0, 0), (0, 1), (1, 0), (1, 1)), strict=True):
        matrices[batch, row, column] = left
    shape = elimination.pattern(np.ones((2, 2), dtype=bool))
    for kind in (float, complex):
        values = matrices[:, shape.rows, shape.columns].T.astype(kind)
        result = shape.solve(values, np.ones((2, 1, 1)))
        np.testing.assert_allclose(result[:, 0].T, np.linalg.solve(matrices, np.ones((50, 2, 1)))[..., 0], rtol=1e-12)


def test_a_singular_matrix_is_refused():
    shape = elimination.pattern(np.ones((3, 3), dtype=bool))
    rank_one = np.outer([1.0, 2.0, 3.0], [1.0, 1.0, 2.0])
    with pytest.raises(np.linalg.LinAlgError):
        shape.solve(rank_one[shape.rows, shape.columns][:, None], np.ones((3, 1, 1)))


def test_waves_are_what_they_say():
    pulse = d.Pulse(1.0, 3.0, 1.0, 0.5, 0.25, 2.0, 10.0)
    for second, value in (
        (0.0, 1.0),
        (1.25, 2.0),
        (1.5, 3.0),
        (3.4, 3.0),
        (3.625, 2.0),
        (9.0, 1.0),
        (11.25, 2.0),
        (22.0, 3.0),
    ):
        assert pulse.at(second) == pytest.approx(value)
    lines = d.Piecewise((1.0, 2.0, 4.0), (5.0, 7.0, -1.0))
    times = np.linspace(0, 5, 41)
    np.testing.assert_allclose([lines.at(t) for t in times], np.interp(times, (1.0, 2.0, 4.0), (5.0, 7.0, -1.0)))
    sine = d.Sine(2.0, 3.0, 50.0, delay=0.01, damping=4.0, phase=0.5)
    assert sine.at(0.005) == pytest.approx(2.0 + 3.0 * np.sin(0.5))
    assert sine.at(0.013) == pytest.approx(2.0 + 3.0 * np.sin(0.5 + 2 * np.pi * 0.15) * np.exp(-0.012))
    rise = d.Exponential(-1.0, 4.0, 0.1, 0.2, 0.5, 0.3)
    assert rise.at(0.3) == pytest.approx(-1.0 + 5.0 * (1 - np.exp(-1.0)))
    assert rise.at(0.8) == pytest.approx(-1.0 + 5.0 * (1 - np.exp(-3.5)) - 5.0 * (1 - np.exp(-1.0)))


def _random_balance(spectrum, levels, ports, injects, seed):
    """Impedances, open voltages and a mixing of a network of no particular kind; its mean is real."""
    random = np.random.default_rng(seed)
    count = len(spectrum.orders)
    impedance = random.normal(size=(count, ports, injects)) + 1j * random.normal(size=(count, ports, injects))
    volts = random.normal(size=(levels, ports, count)) + 1j * random.normal(size=(levels, ports, count))
    impedance[0], volts[..., 0] = impedance[0].real, volts[..., 0].real
    mixing = random.normal(size=(injects, ports)) * (random.random((injects, ports)) > 0.4)
    return impedance, volts, mixing


@pytest.mark.parametrize("spectrum", [harmonics_of_one(7, 28), products_of_two(3)], ids=["one tone", "two tones"])
def test_the_jacobian_of_a_balance_is_its_difference_quotient(spectrum):
    impedance, volts, mixing = _random_balance(spectrum, 3, 4, 5, 1)

    def currents(v, phase, which):
        return np.tanh(v) @ mixing.T, mixing * (1 - np.tanh(v) ** 2)[..., None, :]

    equations = Equations(spectrum, impedance, volts, currents)
    v, every, step = 0.3 * equations.reals(volts), np.arange(3), 1e-6
    _, _, slopes = equations.evaluate(v, equations.source, every)
    result = equations.jacobian(slopes, every, np.float64)
    for column in np.random.default_rng(2).integers(0, v.shape[1], 16):
        aside = np.zeros_like(v)
        aside[:, column] = step
        up, down = (equations.evaluate(at, equations.source, every)[0] for at in (v + aside, v - aside))
        np.testing.assert_allclose(result[:, :, column], (up - down) / (2 * step), atol=1e-7)


@pytest.mark.parametrize("spectrum", [harmonics_of_one(7, 28), products_of_two(3)], ids=["one tone", "two tones"])
def test_a_balance_of_linear_devices_is_ohm_s_law_at_each_frequency(spectrum):
    impedance, volts, mixing = _random_balance(spectrum, 2, 3, 3, 3)
    result = balance(spectrum, impedance, volts, lambda v, phase, which: (v @ mixing.T, np.broadcast_to(
        mixing, (*v.shape[:-1], *mixing.shape))), volts)  # fmt: skip
    for level in range(2):
        for k in range(len(spectrum.orders)):
            whole = np.linalg.solve(np.eye(3) + impedance[k] @ mixing, volts[level, :, k])
            np.testing.assert_allclose(result.volts[level, :, k], whole, rtol=1e-6, atol=1e-7)
            np.testing.assert_allclose(result.amperes[level, :, k], mixing @ whole, rtol=1e-6, atol=1e-7)


def test_newton_by_the_samples_that_conduct_is_newton():
    spectrum, random = harmonics_of_one(7, 28), np.random.default_rng(3)
    impedance, volts, _ = _random_balance(spectrum, 2, 3, 3, 3)
    equations = Equations(spectrum, impedance, volts, lambda v, phase, which: (v, v))
    every, slopes = np.arange(2), np.full((2, 28, 3), -0.02)
    for level, port, samples in ((0, 0, slice(3, 7)), (0, 2, slice(20, 28)), (1, 1, slice(9, 10))):
        slopes[level, samples, port] = random.uniform(0.0, 5.0, samples.stop - samples.start)
    g = slopes[..., None] * np.eye(3)
    sides = random.standard_normal((2, 3 * 15, 4))
    wanted = np.linalg.solve(equations.jacobian(g, every, np.float64), sides)
    with patch.object(Equations, "jacobian", None):
        np.testing.assert_allclose(equations.solved(g, every, sides), wanted, rtol=1e-9, atol=1e-9)
    for many in (
        g + random.uniform(0.0, 1.0, (2, 28, 1, 1)) * np.eye(3),
        g + 0.1,
    ):  # everywhere, or mixed
        whole = np.linalg.solve(equations.jacobian(many, every, np.float64), sides)
        np.testing.assert_allclose(equations.solved(many, every, sides), whole, rtol=1e-9, atol=1e-9)


@pytest.mark.parametrize("size", [1, 2, 5, 24])
def test_small_factors_solve_as_numpy_does(size):
    random = np.random.default_rng(size)
    matrix, rhs = random.standard_normal((size, size)), random.standard_normal(size)
    matrix[0] *= 1e-9  # so that it has to take another row first
    factors, pivots, x = matrix.copy(), np.empty(size, dtype=np.int64), rhs.copy()
    factored(factors, pivots)
    solve_factored(factors, pivots, x)
    np.testing.assert_allclose(x, np.linalg.solve(matrix, rhs), rtol=1e-9)


def test_who_comes_while_another_compiles_waits_for_it(monkeypatch):
    monkeypatch.setattr(compiled, "TOGETHER", ())
    held = os.open(compiled.PACKAGE, os.O_RDONLY)
    fcntl.flock(held, fcntl.LOCK_EX)
    second = threading.Thread(target=compiled.make_ready, daemon=True)
    second.start()
    second.join(0.2)
    assert second.is_alive()
    os.close(held)
    second.join(10)
    assert not second.is_alive()


def test_what_a_first_solve_waits_for_is_not_judged_by_its_budget():
    with budget.limit(0.2):
        with clock.standing(), clock.standing():
            time.sleep(0.3)
        budget.check("compiling")  # the clock stood
        time.sleep(0.3)
        with pytest.raises(BudgetSpent):
            budget.check("solving")
