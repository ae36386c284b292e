"""The graph of a design edited as a whole: whatever is done, what comes out hangs together, or it is said why not."""

import random
import runpy
from pathlib import Path

import pytest

from thermionic import examples
from thermionic.amplifier import solve
from thermionic.design import dump, find, load, validate
from thermionic.design.regraph import duplicate, insert, move, push_pull, remove, swap
from thermionic.errors import DesignRefused
from thermionic.findings import applied, examine

LANTERN = examples.example("lantern")
RANDOM = runpy.run_path(str(Path(__file__).parents[2] / "bench" / "random_designs"))


def ids(design):
    return [block.id for block in design.blocks]


def test_a_block_goes_in_before_and_after_and_out_again():
    before = insert(LANTERN, "pad", "driver", before=True)
    assert find(before, "blocks/driver/input").value == "pad.out"
    assert find(before, "blocks/pad/input").value == "volume.out"
    after = insert(LANTERN, "common-cathode", "driver")
    assert find(after, "blocks/output/input").value == "common_cathode.out"
    assert find(after, "blocks/common_cathode/input").value == "driver.out"
    assert find(after, "blocks/common_cathode/feed").value == "ht3.out"
    assert [envelope.type for envelope in after.envelopes] == ["6SL7GT", "2A3", "6SN7GT"]
    assert remove(before, "pad") == LANTERN
    assert dump(remove(after, "common_cathode")) == dump(LANTERN)


def test_a_supply_section_goes_into_the_rail():
    design = insert(LANTERN, "lc-section", "reservoir")
    assert find(design, "blocks/ht1/input").value == "lc_section.out"
    assert find(remove(design, "lc_section"), "blocks/ht1/input").value == "reservoir.out"


def test_what_a_removal_would_leave_dangling_is_said_and_offered():
    saltpan = examples.example("saltpan")
    with pytest.raises(DesignRefused, match=r"Without first this would hang on nothing: feedback \(To\)"):
        remove(saltpan, "first")
    along = remove(saltpan, "first", along=True)
    assert "feedback" not in ids(along)
    assert find(along, "blocks/splitter/input").value == "volume.out"
    with pytest.raises(DesignRefused, match="would hang on nothing"):
        remove(LANTERN, "ht1") and remove(LANTERN, "winding")


def test_sections_of_a_bottle_are_used_up_before_another_is_put_in():
    design = insert(LANTERN, "srpp", "driver")
    (_, _, new) = design.envelopes
    assert find(design, "blocks/srpp/tubes").value == (f"{new.id}.a",)
    assert find(design, "blocks/srpp/tubes_upper").value == (f"{new.id}.b",)
    doubled = duplicate(LANTERN, "driver")
    assert [envelope.type for envelope in doubled.envelopes] == ["6SL7GT", "2A3", "6SL7GT"]
    with pytest.raises(DesignRefused, match="its anode hangs on nothing"):
        duplicate(LANTERN, "output")


def test_a_pair_that_is_doubled_has_sections_of_its_own():
    design = insert(examples.example("hurdle"), "common-cathode-pair", "splitter")
    doubled = duplicate(design, "common_cathode_pair")
    sections = [section for block in doubled.blocks for section in block.sections]
    assert len(sections) == len(set(sections)) == len([s for b in design.blocks for s in b.sections]) + 2


def test_blocks_change_places():
    two = insert(LANTERN, "common-cathode", "driver")
    moved = move(two, "common_cathode", later=False)
    assert find(moved, "blocks/driver/input").value == "common_cathode.out"
    assert find(moved, "blocks/common_cathode/input").value == "volume.out"
    assert find(moved, "blocks/output/input").value == "driver.out"
    assert dump(move(moved, "common_cathode", later=True)) == dump(two)
    with pytest.raises(DesignRefused, match="where the signal begins"):
        move(LANTERN, "volume", later=False)


def test_a_stage_is_swapped_for_another_kind_with_what_they_have_in_common():
    follower = swap(insert(LANTERN, "common-cathode", "driver"), "common_cathode", "cathode-follower")
    block = follower.block("common_cathode")
    assert block.kind == "cathode-follower"
    assert block.coupling is not None
    assert solve(follower).gain("common_cathode_cathode", "driver_anode") == pytest.approx(0.9, abs=0.06)
    with pytest.raises(DesignRefused, match="no kind of block called flux"):
        swap(LANTERN, "driver", "flux")


def test_a_single_ended_amplifier_becomes_push_pull_and_is_cured():
    """What the change makes wrong is found, and every cure that is offered is made until nothing bad is left."""
    design = push_pull(LANTERN, "output")
    assert solve(design).full_output.power_watt > 1.4 * solve(LANTERN).full_output.power_watt
    for _ in range(8):
        curable = [result for result in examine(solve(design)) if result.cure]
        if not curable:
            break
        design = applied(design, curable[0].cure)
    assert not [result for result in examine(solve(design)) if result.cure]
    assert solve(load(__import__("json").dumps(dump(design)))).full_output == solve(design).full_output
    with pytest.raises(DesignRefused, match="no single-ended output stage"):
        push_pull(LANTERN, "driver")


def test_a_wrong_place_is_refused_in_words():
    with pytest.raises(DesignRefused, match="Nothing can come after speaker"):
        insert(LANTERN, "pad", "speaker")
    with pytest.raises(DesignRefused, match="Nothing can come before input"):
        insert(LANTERN, "pad", "input", before=True)
    with pytest.raises(DesignRefused, match=r"takes a signal, and cathodyne.out is a balanced pair"):
        insert(LANTERN, "cathodyne", "driver")
    with pytest.raises(DesignRefused, match="takes a winding, and the design has none"):
        insert(remove_supply(LANTERN), "tube-rectifier", "rail")


def remove_supply(design):
    """The design on one regulated rail, with no winding."""
    raw = dump(design)
    gone = {"winding", "rectifier", "reservoir", "ht1", "ht2", "ht3"}
    raw["blocks"] = [block for block in raw["blocks"] if block["id"] not in gone]
    raw["blocks"].append({"id": "rail", "kind": "regulated-source", "volt": 300.0})
    for block in raw["blocks"]:
        if "feed" in block:
            block["feed"] = "rail.out"
    return validate(raw)


@pytest.mark.parametrize("seed", range(10))
def test_designs_at_random_are_solved_and_judged_or_refused_in_a_sentence(seed):
    """``bench/random_designs`` does the same with hundreds, and times them."""
    design = RANDOM["random_design"](random.Random(seed))
    assert validate(dump(design)) == design
    RANDOM["tried"](design)
