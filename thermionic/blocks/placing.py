"""How a tube stands in a circuit: what a block says to ``Bench.tubes``."""

from __future__ import annotations

from typing import NamedTuple

from thermionic.blocks.facets import Bias


class Electrodes(NamedTuple):
    """The nodes of a tube's electrodes, the grid's before its stopper; a pentode without a ``screen`` is strapped as
    a triode."""

    anode: str
    grid: str
    cathode: str
    screen: str = ""

    def of(self, kind: str, grid: str) -> dict[str, str]:
        """The nodes by electrode, in the device's order, of a triode or a pentode with its own ``grid``."""
        if kind == "pentode":
            screen = self.screen or self.anode
            return {"anode": self.anode, "screen": screen, "grid": grid, "cathode": self.cathode}
        return {"anode": self.anode, "grid": grid, "cathode": self.cathode}


class Setting(NamedTuple):
    """How a tube's current is set: the kind of bias; ``knob``, the field or path of the value that sets it, "" for
    none; ``raises`` +1 where a larger value means more current, -1 less."""

    bias: Bias
    knob: str = ""
    raises: int = -1


class Position(NamedTuple):
    """Which tube of its block it is: ``side`` a or b of a pair, else its ``role`` if the block has several; the field
    of its grid ``stopper`` and the port of its grid; ``scale`` of every current."""

    side: str = ""
    role: str = ""
    stopper: str = "grid_stopper"
    grid_port: str = "grid"
    scale: float = 1.0


ALONE = Position()
