"""Documents of every earlier version open, and solve to what they solved to when they were written.

``data/version1`` holds the three example amplifiers as version 1 stored them, with what that version's own code made
of them: node voltages, part states, figures, findings and test points, recorded before it was replaced.
``data/version1_tubes.json`` holds the coefficients that its tubes had then: their fits have become better since.
"""

import json
from dataclasses import asdict, replace
from pathlib import Path

import pytest

from thermionic.amplifier import solve, stage_numbers
from thermionic.circuit import supply
from thermionic.design import dump, load
from thermionic.devices import PentodeCoefficients, TriodeCoefficients
from thermionic.findings import examine
from thermionic.powerup import Step, plan
from thermionic.tubes import library, naming

RECORDS = {
    file.stem: json.loads(file.read_text()) for file in (Path(__file__).parent / "data" / "version1").glob("*.json")
}
# What was called otherwise: the source's own node, and the wires from the rails into a channel.
RENAMED = {"source": "input_emf", "speaker": "transformer_tap_8", "output_ht": "transformer_feed_wire"}


# The mean of a supply is good to two parts in 100,000, its ripple to a few more.
SUPPLY, RIPPLE = 2e-5, 1e-4


def renamed(node):
    return RENAMED.get(node, node.removesuffix("_ht") + "_feed_wire" if node.endswith("_ht") else node)


def _then(raw):
    """Coefficients as they were stored: what has come since is not in them."""
    if "perveance" in raw:
        return raw["perveance"]
    space = {name: value for name, value in raw.items() if name in TriodeCoefficients.__dataclass_fields__}
    own = {name: value for name, value in raw.items() if name not in space}
    return PentodeCoefficients(TriodeCoefficients(**space), **own) if own else TriodeCoefficients(**space)


@pytest.fixture(scope="module")
def of_then():
    """The tubes' coefficients, and how finely the mains cycle is divided, as they were."""
    recorded = json.loads((Path(__file__).parent / "data" / "version1_tubes.json").read_text())
    types = {
        name: replace(
            tube,
            units=tuple(
                replace(unit, coefficients=_then(recorded[name][unit.name])) if name in recorded else unit
                for unit in tube.units
            ),
        )
        for name, tube in library.all_types().items()
    }
    names = {name.upper(): tube for tube in types.values() for name in (tube.type, *tube.aliases)}
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(library, "all_types", lambda: types)
        patch.setattr(naming, "_names", lambda: names)
        patch.setattr(supply, "HARMONICS", 32)
        patch.setattr(supply, "SAMPLES", 128)
        yield


@pytest.fixture(scope="module", params=sorted(RECORDS))
def opened(request, of_then):
    record = RECORDS[request.param]
    design = load(json.dumps(record["document"]))
    return record, design, solve(design)


def test_an_old_document_reads_as_todays(opened):
    _, design, _ = opened
    assert design.version == 2
    assert load(json.dumps(dump(design))) == design


def test_it_has_the_same_voltages_and_currents(opened):
    record, _, amplifier = opened
    for node, volt in record["nodes"].items():
        assert amplifier.voltage(renamed(node)) == pytest.approx(volt, rel=SUPPLY, abs=1e-9), node
    for name, state in record["parts"].items():
        if name == "T2":
            # A winding with its bridge was one part; its current is now the diodes'.
            assert amplifier.parts["D1"].current == pytest.approx(state["current"], rel=SUPPLY)
            continue
        now = amplifier.parts["VIN1" if name == "VIN" else name]
        assert now.voltage == pytest.approx(state["voltage"], rel=SUPPLY, abs=1e-8), name
        assert now.current == pytest.approx(state["current"], rel=SUPPLY, abs=1e-9), name
        # A bleeder's heat now has its ripple's share: some 0.03 % more.
        assert now.dissipation == pytest.approx(state["dissipation"], rel=5e-4, abs=1e-8), name


def test_it_has_the_same_figures(opened):
    record, _, amplifier = opened
    signal = record["signal"]
    assert amplifier.gain(amplifier.load.node) == pytest.approx(signal["gain"], rel=1e-6)
    assert amplifier.output_impedance == pytest.approx(signal["output_impedance_ohm"], rel=1e-6)
    for point, was in (
        (amplifier.full_output, signal["power"]["full_output"]),
        (amplifier.at_source, signal["power"]["at_source"]),
    ):
        assert point.power_watt == pytest.approx(was["power_w"], rel=SUPPLY)
        assert point.source_volt == pytest.approx(was["source_vrms"], rel=SUPPLY)
        assert point.distortion == pytest.approx(was["thd"], rel=5e-5)
    for block, was in record["stages"].items():
        now = asdict(stage_numbers(amplifier, block))
        for name, value in was.items():
            assert now[name] == (value if value is None else pytest.approx(value, rel=SUPPLY)), (block, name)
    for rail, volt in record["supply"]["ripple_v_peak_to_peak"].items():
        assert amplifier.ripple(rail) == pytest.approx(volt, rel=RIPPLE), rail


def test_it_has_the_same_findings(opened):
    record, _, amplifier = opened
    now = [
        (result.rule, result.severity.words, result.designator, spoken(result.evidence))
        for result in examine(amplifier)
    ]
    assert now == [
        (was["rule"], was["severity"], was["designator"], spoken(was["evidence"])) for was in record["findings"]
    ]


def spoken(evidence):
    """What a finding says, or of a capacitor the volts: it names its moment since."""
    return evidence.split()[0] if "capacitor" in evidence else evidence


@pytest.mark.parametrize("step", Step)
def test_readings_taken_then_still_have_their_test_points(opened, step):
    record, design, _ = opened
    # Then no meter was in the circuit.
    points = {point.key: point for point in plan(design, step, design.brief.mains_volt, meter_ohm=1e15).points}
    for key, (_, expected, low, high) in record["points"][step.value].items():
        assert points[key].expected == pytest.approx(expected, rel=1e-3, abs=2e-3), key
        assert points[key].low == pytest.approx(low, rel=2e-3, abs=4e-3), key
        assert points[key].high == pytest.approx(high, rel=2e-3, abs=4e-3), key


def test_a_tube_of_ones_own_is_kept_where_the_library_learns_its_name():
    """A 6N1P measured before the library had one, its coefficients without what has come since."""
    raw = json.loads((Path(__file__).parent / "data" / "own_tube_6n1p.json").read_text())
    design = load(json.dumps(raw))
    assert design.tube_type("6N1P").description == "of your own, as measured"
    assert load(json.dumps(dump(design))) == design
    amplifier = solve(design)
    own = next(use for use in amplifier.compiled.tubes if use.type.type == "6N1P")
    assert own.limits.anode_w == 2.2
    assert amplifier.netlist[own.part].device.coefficients.coarse_share == 0.0
