"""The topology chooser: every proposal is solved again and held against what was asked for."""

import numpy as np
import pytest

from thermionic.amplifier import solve
from thermionic.design import full_up
from thermionic.design.iron import Piece
from thermionic.findings import Severity, examine
from thermionic.performance.choosing import choose
from thermionic.performance.wanted import Wanted

ASKED = {
    "3 W and 2A3 at hand": Wanted("loudspeaker", watt=3.0, tubes=("2A3",)),
    "12 W from 250 V": Wanted("loudspeaker", watt=12.0, winding_volt=250.0),
    "35 W ultra-linear": Wanted("loudspeaker", watt=35.0, screens="ultra-linear"),
    "headphones of 300": Wanted("headphones", watt=0.1, load_ohm=300.0),
    "phono of 40 dB": Wanted("phono", gain_db=40.0),
}


@pytest.mark.parametrize("name", ASKED)
def test_at_least_four_sound_designs_for_each(name):
    wanted = ASKED[name]
    result = choose(wanted)
    assert len(result) >= 4
    assert len({one.title for one in result}) == len(result)
    for one in result:
        amplifier = solve(one.design)
        assert [finding for finding in examine(amplifier) if finding.severity > Severity.NOTE] == [], one.title
        if wanted.gain_db is None:
            assert amplifier.full_output.power_watt >= 0.95 * wanted.watt, one.title
        else:
            opened = solve(full_up(one.design))
            gain = 20 * np.log10(opened.gain(opened.load.node))
            assert gain == pytest.approx(wanted.gain_db, abs=6.0), one.title
        if wanted.winding_volt is not None:
            assert one.design.block("winding").winding_volt == wanted.winding_volt
        if wanted.screens == "ultra-linear":
            assert one.design.block("output").screen == "transformer.ul"
        assert one.numbers.full == pytest.approx(amplifier.output(amplifier.full_output), rel=1e-3)
    if wanted.tubes:
        assert "2A3" in result[0].tubes
        assert len(result[0].missing) <= min(len(one.missing) for one in result)


def test_iron_at_hand_is_put_in_where_the_design_stays_sound_and_rails_stay_below_what_is_wanted():
    """A gapped 3 kΩ transformer goes under a 2A3 (2.5 to 3 kΩ by its data), not into a push-pull amplifier; one of 40
    mA not at all."""
    good = {"primary_ohm": "3k", "watt": "10", "hertz": "40", "ampere": "70m"}
    hand = tuple(Piece(name, "output", figures) for name, figures in (
        ("right", good), ("right", good), ("weak", {**good, "ampere": "40m"})))  # fmt: skip
    result = choose(Wanted("loudspeaker", watt=3.0, tubes=("2A3",), iron=hand))
    with_iron = [one for one in result if one.iron]
    assert with_iron
    for one in result:
        assert one.iron in ((), ("right",))
        if one.iron:
            assert not one.design.block("transformer").push_pull
            assert not any("transformer" in words or "second" in words for words in one.missing)
            iron = one.design.block("transformer")
            assert (iron.primary_ohm, iron.core.watt, iron.core.ampere) == (3000.0, 10.0, 0.07)
    low = choose(Wanted("loudspeaker", watt=8.0, highest_volt=300.0))
    assert low
    assert all(solve(one.design).highest_rail <= 300.0 for one in low)


def test_nothing_is_proposed_that_no_design_comes_to():
    assert choose(Wanted("loudspeaker", watt=500.0)) == []
    assert choose(Wanted("loudspeaker", watt=3.0, winding_volt=40.0)) == []
