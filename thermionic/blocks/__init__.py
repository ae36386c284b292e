"""Blocks of an amplifier: from a design's parameters to parts on nodes, and back from a solution to results."""

from thermionic.blocks.amplifier import SolvedAmplifier, solve
from thermionic.blocks.compiling import Compiled, compile_design
from thermionic.blocks.needs import Needs, needs
from thermionic.blocks.stage import AnodeDiagram, StageNumbers, anode_diagram, stage_numbers

__all__ = [
    "AnodeDiagram",
    "Compiled",
    "Needs",
    "SolvedAmplifier",
    "StageNumbers",
    "anode_diagram",
    "compile_design",
    "needs",
    "solve",
    "stage_numbers",
]
