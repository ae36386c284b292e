"""The topology chooser: every proposal is solved again and held against what was asked for."""

import numpy as np
import pytest

from thermionic.amplifier import solve
from thermionic.design import full_up
from thermionic.findings import Severity, examine
from thermionic.performance.choosing import Wanted, choose

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
    found = choose(wanted)
    assert len(found) >= 4
    assert len({one.title for one in found}) == len(found)
    for one in found:
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
        assert "2A3" in found[0].tubes
        assert len(found[0].missing) <= min(len(one.missing) for one in found)


def test_nothing_is_proposed_that_no_design_comes_to():
    assert choose(Wanted("loudspeaker", watt=500.0)) == []
    assert choose(Wanted("loudspeaker", watt=3.0, winding_volt=40.0)) == []
