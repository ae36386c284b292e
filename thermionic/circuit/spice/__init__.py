"""SPICE netlists: ours written for other simulators, and others' read, solved and refused by line number."""

from thermionic.circuit.spice.directives import Analyses
from thermionic.circuit.spice.lines import Files, decode
from thermionic.circuit.spice.reader import Deck, read
from thermionic.circuit.spice.running import run
from thermionic.circuit.spice.writer import circuit, subcircuit, write

__all__ = ["Analyses", "Deck", "Files", "circuit", "decode", "read", "run", "subcircuit", "write"]
