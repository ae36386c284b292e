"""The tube library's data files, and the fit."""

import pytest

from thermionic import tubes
from thermionic.devices import Triode
from thermionic.errors import ThermionicError, UnknownTube
from thermionic.tubes import Point, errors, fit

TYPES = list(tubes.all_types().values())
ELECTRODES = {"anode", "grid", "cathode"}


@pytest.mark.parametrize("tube", TYPES, ids=lambda tube: tube.type)
def test_a_data_file_is_complete_and_plausible(tube):
    electrodes = [name.rstrip(" 12") for name in tube.pins.values()]
    assert electrodes.count("anode") == electrodes.count("grid") == tube.sections
    if tube.heater.filament:
        assert electrodes.count("filament") == 2
    else:
        assert electrodes.count("cathode") == tube.sections
        assert electrodes.count("heater") >= 2
    assert sorted(tube.pins) == list(range(1, len(tube.pins) + 1))
    assert 1.0 <= tube.heater.volts <= 15
    assert 0.05 <= tube.heater.amperes <= 5
    assert 50 <= tube.limits.anode_v <= 1000
    assert all(1e-13 < farad < 3e-11 for farad in tube.capacitances.values())
    assert set(tube.limits.unsure) <= set(vars(tube.limits))
    assert tube.points
    for point in tube.points:
        assert point.source
        # Characteristics are sometimes given where no tube may stand for long; then the note says so.
        assert (
            point.anode_v * point.anode_a <= 1.05 * tube.limits.anode_w or "maximum" in tube.note or not point.grid_v
        )
        if point.gm_s and point.mu and point.ra_ohm:
            # The three figures of a point are bound together; a data sheet rounds each.
            assert point.gm_s * point.ra_ohm == pytest.approx(point.mu, rel=0.1)


def test_every_name_finds_its_type_in_any_case():
    for tube in TYPES:
        for name in (tube.type, *tube.aliases):
            assert tubes.get(name.lower()) is tube
    with pytest.raises(UnknownTube, match="Did you mean ECC8"):
        tubes.get("ECC8")
    with pytest.raises(UnknownTube, match="It has"):
        tubes.get("🔥" * 500)


def test_a_fit_gives_back_the_tube_that_made_its_points():
    true = tubes.get("ECC82").triode()
    points = []
    for anode, grid in ((250, -8.5), (100, 0), (150, -4), (200, -10), (300, -14)):
        at = tubes.characteristics(true, anode, grid)
        points.append(Point(anode, grid, at["anode_a"], at["gm_s"], at["mu"]))
    found = Triode(fit(points))
    for point in points:
        assert all(abs(error) < 0.06 for error in errors(found, point).values())


def test_points_that_cannot_determine_a_triode_are_refused():
    with pytest.raises(ThermionicError, match="amplification factor"):
        fit([Point(250, -8, 0.01)])
