"""A whole design compiled to a circuit and solved; its stages, and what its brief asks."""

from thermionic.amplifier.compiling import Compiled, compile_design
from thermionic.amplifier.needs import Needs, needs
from thermionic.amplifier.solved import SolvedAmplifier, solve
from thermionic.amplifier.stage import AnodeDiagram, StageNumbers, anode_diagram, stage_numbers

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
