"""Blocks of an amplifier: from a design's parameters to parts on nodes, and back from a solution to results."""

from thermionic.blocks.amplifier import SolvedAmplifier, solve
from thermionic.blocks.compiling import Compiled, compile_design
from thermionic.blocks.needs import Needs, needs

__all__ = ["Compiled", "Needs", "SolvedAmplifier", "compile_design", "needs", "solve"]
