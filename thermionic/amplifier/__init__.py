"""A whole design compiled to a circuit and solved; its stages, and what its brief asks."""

from thermionic.amplifier.compiling import Compiled, compile_design
from thermionic.amplifier.driven import Driven, WorkingClass, driven, grid_onset, working_class
from thermionic.amplifier.needs import Needs, needs
from thermionic.amplifier.pair import CompositeDiagram, PairBalance, composite_diagram, pair_balance
from thermionic.amplifier.solved import SolvedAmplifier, solve
from thermionic.amplifier.stage import AnodeDiagram, StageNumbers, anode_diagram, stage_numbers

__all__ = [
    "AnodeDiagram",
    "Compiled",
    "CompositeDiagram",
    "Driven",
    "Needs",
    "PairBalance",
    "SolvedAmplifier",
    "StageNumbers",
    "WorkingClass",
    "anode_diagram",
    "compile_design",
    "composite_diagram",
    "driven",
    "grid_onset",
    "needs",
    "pair_balance",
    "solve",
    "stage_numbers",
    "working_class",
]
