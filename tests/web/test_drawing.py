"""The drawing's geometry: whatever the design, everything is on the sheet, no part lies on another, and no label
crosses a wire, a part or another label."""

import itertools
import random
import re
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import BaseModel

from bold_anode.amps.strip import strip
from bold_anode.chain.diagram import plots
from bold_anode.chain.drawing import drawing
from bold_anode.chain.figures import amplifier_figures, stage_figures
from tests.core.test_blocks import with_all_parts, with_kind
from thermionic import examples
from thermionic.amplifier import solve
from thermionic.blocks import KINDS
from thermionic.design import changed, dump, field, fields_at, fit_part, optional_parts, validate
from thermionic.errors import ThermionicError
from thermionic.findings import examine
from thermionic.schematic import block_sheet, signal_sheet, supply_sheet
from thermionic.values import Quantity, parse

EXAMPLES = {name: examples.example(name) for name in examples.names()}
# Boxes that touch are not crossed; the estimate of a text's width is a little more than what it is.
SLACK = 2.0


def box(mark):
    x, y, width, height, _ = (float(n) for n in re.findall(r"-?\d+(?:\.\d+)?", mark.outline))
    return x, y, x + width, y + height


def drawings(amplifier, before=None):
    design = amplifier.design
    return [drawing(sheet(design), amplifier, before) for sheet in (signal_sheet, supply_sheet)]


def overlap(a, b, slack=SLACK):
    return min(a[2], b[2]) - max(a[0], b[0]) > slack and min(a[3], b[3]) - max(a[1], b[1]) > slack


def segments(sheet):
    for path in re.findall(r"M([^M]+)", sheet.wiring):
        points = [tuple(map(float, point.split())) for point in path.split("L")]
        for (x1, y1), (x2, y2) in itertools.pairwise(points):
            yield min(x1, x2), min(y1, y2), max(x1, x2), max(y1, y2)


def crossed(label, line):
    """Whether a wire goes through a label's box, and not just along its edge."""
    return (
        line[2] > label[0] + SLACK and line[0] < label[2] - SLACK
        and line[3] > label[1] + SLACK and line[1] < label[3] - SLACK
    )  # fmt: skip


def faults(sheet):
    """Everything that lies on something else, or off the sheet, in words."""
    bodies = [(mark.designator or mark.spoken, box(mark)) for mark in sheet.parts]
    labels = [(f"{mark.designator} {mark.text}", mark.box) for mark in sheet.parts if mark.designator or mark.text]
    labels += [(label.text, label.box) for label in sheet.labels]
    lines = list(segments(sheet))
    result = []
    for name, one in bodies + labels:
        if one[0] < 0 or one[1] < 0 or one[2] > sheet.width + SLACK or one[3] > sheet.height + SLACK:
            result.append(f"{name} is off the sheet")
    for (a, one), (b, other) in itertools.combinations(bodies, 2):
        if overlap(one, other):
            result.append(f"{a} lies on {b}")
    for (a, one), (b, other) in itertools.combinations(labels, 2):
        if overlap(one, other):
            result.append(f"label {a} on label {b}")
    for (a, one), (b, other) in itertools.product(labels, bodies):
        if overlap(one, (other[0] + 4, other[1] + 4, other[2] - 4, other[3] - 4)):
            result.append(f"label {a} on {b}")
    for a, one in labels:
        if any(crossed(one, line) for line in lines):
            result.append(f"label {a} is crossed by a wire")
    return result


@pytest.mark.parametrize("name", EXAMPLES)
@pytest.mark.parametrize("fitted", ["as it is", "all parts", "few parts"])
def test_nothing_lies_on_anything_else(name, fitted):
    design = EXAMPLES[name]
    if fitted != "as it is":
        for path, there in optional_parts(design).items():
            if there is not (fitted == "all parts"):
                try:
                    design = fit_part(design, path, not there)
                except ThermionicError:
                    continue  # a part that is needed
    try:
        amplifier = solve(design)
    except ThermionicError:
        pytest.skip("without these parts there is nothing to solve")
    for sheet in drawings(amplifier):
        assert faults(sheet) == []


@pytest.mark.parametrize("whole", [False, True], ids=["as first put in", "with all parts"])
@pytest.mark.parametrize("kind", sorted(KINDS))
def test_no_block_lies_on_itself(kind, whole):
    design = with_kind(kind)
    if whole:
        design = with_all_parts(design, kind)
    block = next(block for block in design.blocks if block.kind == kind)
    sheet = drawing(block_sheet(design, block.id), solve(design), None)
    assert sheet.parts
    assert faults(sheet) == []


def test_the_page_of_blocks_has_every_kind():
    page = (Path(__file__).parents[2] / "docs" / "blocks.md").read_text()
    for kind, cls in KINDS.items():
        assert f"### {cls.title}" in page
        assert cls.about in page
        assert (Path(__file__).parents[2] / "docs" / "blocks" / f"{kind}.svg").exists()


@pytest.mark.parametrize("name", EXAMPLES)
def test_every_part_of_the_netlist_is_on_the_drawing(name):
    amplifier = solve(EXAMPLES[name])
    marks = [mark.path for sheet in drawings(amplifier) for mark in sheet.parts]
    wanted = {part.path for part in amplifier.netlist.parts if part.path}
    outside = {f"blocks/{source.block}" for source in amplifier.compiled.sources}
    wanted = {path for path in wanted if not any(path.startswith(one) for one in outside)}
    assert wanted <= set(marks)


@pytest.mark.parametrize("kind", ["feedback", "phono-feedback", "extra-part"])
def test_whatever_two_places_a_loop_joins_it_is_drawn(kind):
    dice = random.Random(f"{kind} 20261202")
    drawn = 0
    for design in EXAMPLES.values():
        raw = dump(design)
        places = [f"{block.id}.{port}" for block in design.blocks for port in block.ports()]
        fields = list(KINDS[kind].reference_fields())
        for _ in range(30):
            joined = {name: dice.choice(places) for name in fields}
            block = {"id": "joining", "kind": kind, **KINDS[kind].first, **joined}
            try:
                changed_ = validate({**raw, "blocks": [*raw["blocks"], block]})
            except ThermionicError:
                continue  # both ends are one, or a loop goes round
            sheets = signal_sheet(changed_), supply_sheet(changed_)
            assert any(mark.path.startswith("blocks/joining") for sheet in sheets for mark in sheet.marks)
            drawn += 1
    assert drawn > 150


def single_values(design):
    """Every value of a design that has a quantity."""
    owners = ["brief"]
    for block in design.blocks:
        owners.append(f"blocks/{block.id}")
        owners += [f"blocks/{block.id}/{name}" for name in type(block).model_fields
                   if isinstance(getattr(block, name), BaseModel)]  # fmt: skip
    return [f.path for owner in owners for f in fields_at(design, owner) if f.quantity and f.value is not None]


PATHS = {name: single_values(design) for name, design in EXAMPLES.items()}
edits = st.sampled_from(list(EXAMPLES)).flatmap(
    lambda name: st.tuples(
        st.just(name),
        st.lists(
            st.tuples(
                st.sampled_from(PATHS[name]), st.sampled_from(["least", "most", 0.01, 0.1, 0.5, 2.0, 10.0, 100.0])
            ),
            min_size=1,
            max_size=3,
        ),
    )
)


@settings(max_examples=60, deadline=None)
@given(edits)
def test_any_values_are_solved_and_drawn_or_refused_in_words(choice):
    name, changes = choice
    design = EXAMPLES[name]
    try:
        for path, how in changes:
            now = field(design, path)
            kind = now.quantity.value
            value = {"least": kind.least, "most": kind.most}.get(how) if isinstance(how, str) else now.value * how
            design = changed(design, path, value)
        amplifier = solve(design)
        examine(amplifier)
    except ThermionicError as refusal:
        assert str(refusal).endswith(".")  # noqa: PT017
        return
    before = solve(EXAMPLES[name])
    assert strip(amplifier, before).stations
    drawings(amplifier, before)
    amplifier_figures(amplifier, before)
    for block in {use.block for use in amplifier.compiled.tubes}:
        stage_figures(amplifier, before, block)
        pictures = plots(amplifier, block)
        assert not any("nan" in line.points for picture in pictures for line in picture.lines)
        assert any(line.kind == "curve" for line in pictures[0].lines)


def test_what_did_not_change_is_not_marked():
    amplifier = solve(EXAMPLES["lantern"])
    again = solve(EXAMPLES["lantern"])
    assert not any(station.changed for station in strip(amplifier, again).stations)
    sheet, _ = drawings(amplifier, again)
    assert not any(mark.changed for mark in sheet.parts)
    assert not any("changed" in label.kind for label in sheet.labels)
    assert not any(figure.was for figure in stage_figures(amplifier, again, "output"))
    other = solve(changed(EXAMPLES["lantern"], "blocks/driver/anode_load/ohm", "82k"))
    sheet, _ = drawings(other, amplifier)
    assert [mark.designator for mark in sheet.parts if mark.changed] == ["R5"]
    assert {"driver_anode", "driver_cathode"} <= {r.key for r in sheet.labels if "changed" in r.kind}


@pytest.mark.parametrize("name", examples.names())
def test_no_level_on_the_strip_is_more_than_its_rails_allow(name):
    """An anode with an inductive load swings at most from nothing to twice its rail, a pair of them to four times
    that; the loudspeaker has the watts that stand beside, and the next box the level that it needs."""
    amplifier = solve(examples.example(name))
    shown = strip(amplifier)
    most = 4 * amplifier.highest_rail / 8**0.5
    levels = [parse(station.level.removesuffix(" ~"), Quantity.VOLTAGE) for station in shown.stations]
    assert max(levels[1:]) < most
    full, needed = amplifier.full_output, amplifier.load.line_volt
    # Far below clipping what a preamplifier needs is its output over its gain.
    source = needed / amplifier.gain(amplifier.load.node) if needed else full.source_volt
    assert levels[0] == pytest.approx(source, rel=6e-3)
    assert levels[-1] == pytest.approx(needed or full.output_volt, rel=0.02)
    overdriven = amplifier.compiled.source.volt > full.source_volt
    assert ("overdriven" in shown.as_set) == overdriven
    assert amplifier.load.written(needed or amplifier.output(full)) in shown.at
    assert amplifier.load.written(amplifier.output(full)) in shown.at + shown.beyond
