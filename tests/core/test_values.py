"""Values as they are typed."""

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from thermionic.errors import ValueRefused
from thermionic.values import Quantity, Series, display, nearest, parse, step, written

R, C, V, I = Quantity.RESISTANCE, Quantity.CAPACITANCE, Quantity.VOLTAGE, Quantity.CURRENT  # noqa: E741
M = Quantity.LENGTH


@pytest.mark.parametrize(
    ("typed", "quantity", "value", "again"),
    [
        ("4k7", R, 4700.0, "4k7"),
        (".022u", C, 22e-9, "22n"),
        ("0u47", C, 470e-9, "470n"),
        ("47p", C, 47e-12, "47p"),
        ("1M", R, 1e6, "1M"),
        ("2M2 ohm", R, 2.2e6, "2M2"),
        ("0R47", R, 0.47, "0R47"),
        ("4,7 kΩ", R, 4700.0, "4k7"),
        ("220 µF", C, 220e-6, "220u"),
        ("6.3V", V, 6.3, "6.3 V"),
        ("60 mA", I, 0.06, "60 mA"),
        ("-45 V", V, -45.0, "-45 V"),
        ("3 m", M, 3.0, "3 m"),
        ("12.5 cm", M, 0.125, "0.125 m"),
        ("2 in", M, 0.0508, "0.0508 m"),
        ("30 mm", M, 0.03, "0.03 m"),
    ],
)
def test_what_a_builder_types_is_read_and_written_back(typed, quantity, value, again):
    assert parse(typed, quantity) == value
    assert written(value, quantity) == again


@given(st.sampled_from([R, C, Quantity.INDUCTANCE]), st.floats(0.0, 1.0))
def test_any_value_survives_being_written(quantity, where):
    least, most = math.log(quantity.value.least * 1.01), math.log(quantity.value.most * 0.99)
    value = math.exp(least + where * (most - least))
    assert parse(written(value, quantity), quantity) == pytest.approx(value, rel=1e-5)
    assert parse(display(value, quantity, 6), quantity) == pytest.approx(value, rel=1e-5)


@given(st.text(max_size=60))
def test_any_text_is_a_value_or_a_sentence(text):
    for quantity in Quantity:
        try:
            value = parse(text, quantity)
        except ValueRefused:
            continue
        assert math.isfinite(value)


@pytest.mark.parametrize(
    ("typed", "quantity", "says"),
    [
        ("1M", C, "M means mega"),
        ("-5", R, "negative"),
        ("0", R, "0 Ω is not a part"),
        ("", R, "Enter a resistance, for example 4k7"),
        ("2000 m", M, "0.0001 m to 1000 m"),
        ("1e400", R, "finite"),
        ("4k7k", R, "Write it like 4k7"),
        ("4R7", C, "Write it like 0u47"),
    ],
)
def test_impossible_values_are_refused_with_the_reason(typed, quantity, says):
    with pytest.raises(ValueRefused, match=says):
        parse(typed, quantity)


@given(st.floats(1e-12, 1e8), st.sampled_from(list(Series)))
def test_stepping_up_then_down_comes_back_to_the_ladder(value, series):
    rung = nearest(value, series)
    assert step(step(rung, series, 1), series, -1) == pytest.approx(rung)
    assert step(value, series, 1) > value > step(value, series, -1)
    assert step(rung, series, len(series.value)) == pytest.approx(10 * rung)
