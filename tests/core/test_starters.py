"""The designs that a new project starts from are whole and healthy, and are what their titles say."""

import re

import pytest

from thermionic import tubes
from thermionic.amplifier import solve
from thermionic.blocks.facets import Core, HeaterFeed, MainsSide
from thermionic.design import changed
from thermionic.examples import example, starter, starters
from thermionic.findings import Severity, examine
from thermionic.performance.heater_supplies import unfed, with_heater_supplies
from thermionic.supplies.heating import heating


@pytest.mark.parametrize("one", starters(), ids=lambda one: one.key)
def test_a_starter_is_a_healthy_amplifier(one):
    amplifier = solve(starter(one.key))
    assert {result.title for result in examine(amplifier) if result.severity is not Severity.NOTE} == set()
    assert unfed(amplifier) == ()
    assert amplifier.compiled.said(Core)
    assert amplifier.compiled.said(MainsSide)
    types = {envelope.type for envelope in amplifier.design.envelopes}
    named = set(re.findall(r"\w+", f"{one.title.partition(',')[0]} {one.about}")) & set(tubes.all_types())
    assert named <= types
    if amplifier.load.power:
        # Driven by all that its source has, it does not clip; and the title's figure is what it then comes to.
        assert amplifier.compiled.source.volt < amplifier.full_output.source_volt
        value, unit = one.title.rsplit(", ", 1)[1].split()
        assert float(value) * {"W": 1.0, "mW": 1e-3}[unit] == pytest.approx(
            amplifier.full_output.power_watt, rel=0.06
        )


@pytest.mark.parametrize(
    ("name", "strings"),
    [("beacon", {("v1", "v2"), ("v3",)}), ("weir", {("v1", "v2"), ("v3",)}), ("saltpan", {("v1", "v2", "v3", "v4")})],
)
def test_each_heater_has_its_volts_from_a_winding_it_may_be_on(name, strings):
    """A filament that is a cathode, and a rectifier's heater, are alone on theirs; the rest share one of 6.3 V."""
    before = solve(example(name))
    amplifier = solve(with_heater_supplies(before))
    states = heating(amplifier.compiled, amplifier.state)
    assert {tuple(one.use.envelope for one in state.heated) for state in states} == strings
    for state in states:
        for one in state.heated:
            assert one.share == pytest.approx(1.0, abs=0.01)
    # The new transformer's copper was in the windings' resistance: the rails stand as they did.
    for rail in before.compiled.rails:
        assert amplifier.voltage(rail.node) == pytest.approx(before.voltage(rail.node), rel=0.03)
    # 2.5 A for an output pair, some 0.6 A for the rest, and nothing is wound thinner than what it carries.
    assert not [result for result in examine(amplifier) if result.rule in ("winding-current", "transformer-load")]


def test_a_cathode_far_from_earth_lifts_its_heater():
    """Sections of one bottle with cathodes at 2 and 102 V, of a tube that stands 90 V from heater to cathode."""
    design = changed(example("sluice"), "envelopes/v1/type", "6SN7GT")
    bare = design.model_copy(
        update={"blocks": tuple(block for block in design.blocks if block.kind != "heater-string")}
    )
    before = solve(bare)
    cathodes = {use.part: before.voltage(use.cathode) for use in before.compiled.tubes if use.envelope == "v1"}
    assert min(cathodes.values()) < 10
    assert max(cathodes.values()) > 90
    after = solve(with_heater_supplies(before))
    (feed,) = (heater_feed for heater_feed in after.compiled.said(HeaterFeed) if heater_feed.held != "0")
    lift = after.voltage(feed.held)
    assert max(cathodes.values()) - 72 < lift < min(cathodes.values()) + 72  # four fifths of 90 V
    assert "heater-cathode" not in {result.rule for result in examine(after)}
