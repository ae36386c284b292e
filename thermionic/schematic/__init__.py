"""From the sketches of a design's blocks to one laid-out drawing, in units of the sketches' grid."""

from thermionic.schematic.layout import Ground, Sheet, block_sheet, signal_sheet, supply_sheet

__all__ = ["Ground", "Sheet", "block_sheet", "signal_sheet", "supply_sheet"]
