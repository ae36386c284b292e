"""The drawing's geometry: whatever the design, everything is on the sheet and no part lies on another."""

import itertools
import re

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from bold_anode.amps.strip import strip
from bold_anode.chain.diagram import plot
from bold_anode.chain.drawing import amplifier_drawing, supply_drawing
from bold_anode.chain.figures import amplifier_figures, stage_figures
from thermionic import examples
from thermionic.blocks import anode_diagram, solve
from thermionic.design import changed, field, fields_at, fit_part, optional_parts
from thermionic.errors import ThermionicError
from thermionic.findings import examine

EXAMPLES = {name: examples.example(name) for name in ("lantern", "beacon")}


def box(mark):
    x, y, width, height, _ = (float(n) for n in re.findall(r"-?\d+(?:\.\d+)?", mark.outline))
    return x, y, x + width, y + height


def drawings(design):
    amplifier = solve(design)
    return amplifier_drawing(amplifier, None, {}), supply_drawing(amplifier, None, {})


@pytest.mark.parametrize("name", EXAMPLES)
@pytest.mark.parametrize("fitted", [True, False])
def test_no_part_lies_on_another_or_off_the_sheet(name, fitted):
    design = EXAMPLES[name]
    for path, there in optional_parts(design).items():
        if there is not fitted:
            try:
                design = fit_part(design, path, fitted)
            except ThermionicError:
                continue  # a grid leak that is needed
    for sheet in drawings(design):
        for mark in sheet.parts:
            left, top, right, bottom = box(mark)
            assert left >= 0 <= top, mark.designator
            assert right <= sheet.width, mark.designator
            assert bottom <= sheet.height, mark.designator
        for one, other in itertools.combinations(sheet.parts, 2):
            a, b = box(one), box(other)
            apart = a[2] <= b[0] or b[2] <= a[0] or a[3] <= b[1] or b[3] <= a[1]
            assert apart, (one.designator, other.designator)


@pytest.mark.parametrize("name", EXAMPLES)
def test_every_part_of_the_netlist_is_on_the_drawing_once(name):
    amplifier = solve(EXAMPLES[name])
    marks = [mark.path for sheet in drawings(EXAMPLES[name]) for mark in sheet.parts]
    assert len(marks) == len(set(marks))
    wanted = {part.path for part in amplifier.netlist.parts if part.path} - {"chain/input/source_ohm"}
    assert wanted == set(marks)


def single_values(design):
    """Every value of a design that has a quantity."""
    owners = [f"chain/{block.id}" for block in design.chain] + ["supply", "supply/reservoir", "brief"]
    for block in design.stages:
        owners += [f"chain/{block.id}/{name}" for name in ("cathode_resistor", "grid_leak", "anode_load", "coupling")
                   if getattr(block, name, None)]  # fmt: skip
    for section in design.supply.sections:
        owners += [f"supply/sections/{section.id}/{name}" for name in ("resistor", "capacitor")]
    return [f.path for owner in owners for f in fields_at(design, owner) if f.quantity]


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
    amplifier_drawing(amplifier, before, {})
    supply_drawing(amplifier, before, {})
    amplifier_figures(amplifier, before)
    for stage in design.stages:
        picture = plot(anode_diagram(amplifier, stage.id))
        stage_figures(amplifier, before, stage.id)
        assert "nan" not in picture.ac_line + picture.dc_line + picture.swing
        assert picture.curves


def test_what_did_not_change_is_not_marked():
    amplifier = solve(EXAMPLES["lantern"])
    again = solve(EXAMPLES["lantern"])
    assert not any(station.changed for station in strip(amplifier, again).stations)
    sheet = amplifier_drawing(amplifier, again, {})
    assert not any("changed" in mark.marks for mark in sheet.parts)
    assert not any("changed" in reading.kind for reading in sheet.readings)
    assert not any(figure.was for figure in stage_figures(amplifier, again, "output"))
    other = solve(changed(EXAMPLES["lantern"], "chain/driver/anode_load/ohm", "82k"))
    sheet = amplifier_drawing(other, amplifier, {})
    assert [mark.designator for mark in sheet.parts if "changed" in mark.marks] == ["R5"]
    assert {"driver_anode", "driver_cathode"} <= {r.key for r in sheet.readings if "changed" in r.kind}
