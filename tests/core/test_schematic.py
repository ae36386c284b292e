"""The drawing as a reader follows it."""

import pytest

from thermionic import examples
from thermionic.blocks import Group
from thermionic.blocks.ports import split
from thermionic.schematic import signal_sheet, supply_sheet


@pytest.mark.parametrize("name", examples.names())
def test_the_drawing_reads_along_the_signal_row_after_row(name):
    """Of two blocks of which one takes from the other, the one that gives is to the left, or in a row above."""
    design = examples.example(name)
    for sheet in (signal_sheet(design), supply_sheet(design)):
        boxes = {ground.block: ground for ground in sheet.grounds}
        for block in design.blocks:
            givers = {split(reference)[0] for field, reference in block.references.items()
                      if field == "input" and split(reference)[0] in boxes}  # fmt: skip
            for giver in givers if block.id in boxes and block.group is not Group.FEEDBACK else ():
                one, other = boxes[giver], boxes[block.id]
                assert (one.y, one.x) < (other.y, other.x), (giver, block.id)
