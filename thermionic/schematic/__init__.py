"""From the sketches of a design's blocks to one laid-out drawing, in units of the sketches' grid."""

from thermionic.schematic.layout import Ground, Sheet, signal_sheet, supply_sheet

__all__ = ["Ground", "Sheet", "signal_sheet", "supply_sheet"]
