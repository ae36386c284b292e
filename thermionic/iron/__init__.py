"""Iron: what an output transformer does in this amplifier, and what an unknown one is."""
