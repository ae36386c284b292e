"""Every rule against the cases it names, and what every finding must carry."""

import re

import numpy as np
import pytest

from thermionic import examples
from thermionic.amplifier import solve
from thermionic.design import changed, fit_part, optional_parts
from thermionic.findings import RULES, Severity, applied, examine

RULE = {rule.name: rule for rule in RULES}
LANTERN = examples.example("lantern")
# The rules that offer a cure for what they fire on here.
CURED = {
    "anode-dissipation", "resistor-dissipation", "capacitor-voltage", "grid-leak", "grid-current", "output-load",
    "grid-path", "feedback-polarity",
}  # fmt: skip


def edited(edits, example="lantern"):
    """The example with the edits: a value typed at a path, or an optional part taken out ("") or fitted ("fit")."""
    design = examples.example(example)
    for path, typed in edits.items():
        part = path in optional_parts(design)
        design = fit_part(design, path, bool(typed)) if part else changed(design, path, typed)
    return design


@pytest.mark.parametrize("rule", RULES, ids=lambda rule: rule.name)
def test_a_rule_fires_where_it_should_and_its_cure_works(rule):
    design = edited(rule.fires_on, rule.example)
    amplifier = solve(design)
    findings = list(rule.examine(amplifier))
    assert findings
    assert rule.name not in CURED or all(finding.cure for finding in findings)
    for finding in findings:
        assert finding.rule == rule.name
        assert finding.title
        assert finding.evidence.endswith(".")
        assert finding.why.endswith(".")
        assert finding.severity in Severity
        assert finding.designator in amplifier.netlist
        if finding.cure:
            cured = applied(design, finding.cure)
            assert cured != design
            assert finding.key not in {one.key for one in rule.examine(solve(cured))}


@pytest.mark.parametrize("rule", RULES, ids=lambda rule: rule.name)
def test_a_rule_is_quiet_where_it_should_be(rule):
    assert not list(rule.examine(solve(edited(rule.quiet_on, rule.example))))


def test_the_healthy_amplifier_is_healthy_and_the_worst_comes_first():
    assert examine(solve(LANTERN)) == []
    bad = edited(
        {
            "blocks/reservoir/capacitor/rating_volt": "350 V",
            "blocks/output/grid_leak/ohm": "1M",
            "blocks/speaker/input": "transformer.16",
        }
    )
    severities = [finding.severity for finding in examine(solve(bad))]
    assert severities == sorted(severities, reverse=True)
    assert severities[0] is Severity.DANGER


def test_a_resistor_burns_at_more_than_twice_its_rating():
    (finding,) = examine(solve(edited({"blocks/output/cathode_resistor/rating_watt": "1 W"})))
    assert finding.severity is Severity.DANGER
    assert finding.value == pytest.approx(2.6, rel=0.05)


def test_hum_is_weighed_by_how_far_it_is_over_and_a_cold_grid_in_milliamperes():
    (hum,) = (one for one in examine(solve(edited(RULE["hum"].fires_on))) if one.rule == "hum")
    level = float(re.search(r"(-\d+) dB against full output", hum.evidence).group(1))
    assert 20 * np.log10(hum.value / hum.limit) == pytest.approx(level + 70, abs=0.6)
    rule = RULE["cold-coupling"]
    cold = next(one for one in examine(solve(edited(rule.fires_on, rule.example))) if one.rule == rule.name)
    volt, kilohm, milliampere = map(float, re.match(r"(\d+) V behind (\d+) kΩ, (\d+) mA", cold.evidence).groups())
    assert milliampere == pytest.approx(volt / kilohm, rel=0.1, abs=0.6)
