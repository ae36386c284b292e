"""SPICE netlists: ours written for other simulators, and others' read, solved and refused by line number."""

from thermionic.circuit.spice.reader import Analyses, Deck, read
from thermionic.circuit.spice.running import run
from thermionic.circuit.spice.writer import circuit, subcircuit, write

__all__ = ["Analyses", "Deck", "circuit", "read", "run", "subcircuit", "write"]
