"""Whether every grid has a way to earth for direct current."""

from collections.abc import Iterable

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import Bias
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.system import System
from thermionic.design import optional_parts
from thermionic.devices import Potentiometer
from thermionic.devices.triode import Cathode
from thermionic.findings.base import FIT, Cure, Finding, Rule, Severity

NO_PATH_OHM = 100e6
_TUBE_SIEMENS = 1e-5


class GridPath(Rule):
    """A grid hangs in the air, or on the wiper of a control that may lift."""

    name = "grid-path"
    fires_on = {"blocks/driver/grid_leak": ""}
    quiet_on = {"blocks/driver/grid_leak/ohm": "2M2"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        system = amplifier.state.at.system
        pots = any(isinstance(part.device, Potentiometer) for part in system.netlist.parts)
        lifted = (
            System(system.netlist.without(lambda part: isinstance(part.device, Potentiometer))) if pots else system
        )
        # One tube a grid.
        uses = {use.grid: use for use in reversed(amplifier.compiled.tubes) if use.grid != GROUND}
        ohms, lifted_ohms = _ohms(system, list(uses)), _ohms(lifted, list(uses))
        for grid, use in uses.items():
            open_ = ohms[grid] > NO_PATH_OHM
            # A bias trimmer is no control that is turned while it plays.
            wiper = not open_ and use.bias is not Bias.FIXED and lifted_ohms[grid] > NO_PATH_OHM
            if not (open_ or wiper):
                continue
            has_leak = f"{use.path}/grid_leak" in optional_parts(amplifier.design)
            yield Finding(
                self.name,
                Severity.DANGER if open_ else Severity.POOR,
                use.path,
                use.part,
                f"{use.part}'s grid hangs in the air" if open_ else f"{use.part}'s grid hangs on a wiper",
                "There is no way for direct current from its grid to earth."
                if open_
                else (
                    "Its only way to earth is through the wiper of a control, which lifts for a moment as "
                    "it is turned."
                ),
                "A grid that nothing holds charges itself up: the tube's current goes where it likes."
                if open_
                else "Each time the wiper lifts the grid floats: scratches, and with a large tube worse.",
                1.0,
                1.0,
                Cure(f"{use.path}/grid_leak", FIT, "Fit a grid leak") if has_leak and not use.leak else None,
            )


def _ohms(system: System, nodes: list[str]) -> dict[str, float]:
    """Resistance from each node to earth at DC, Ω, with every tube a hundred kilohms from anode to cathode."""
    there = [node for node in nodes if node in system.nodes]
    places = [system.node(node) for node in there]
    push = np.zeros((system.size, len(there)))
    push[places, range(len(there))] = 1.0
    matrix = system.G.copy()
    for place in system.placed:
        if isinstance(place.part.device, Cathode):
            across = system.S[:, place.ports.stop - 1]
            matrix += _TUBE_SIEMENS * np.outer(across, across)
    result = system.solve(matrix, push)
    return dict.fromkeys(nodes, np.inf) | {
        node: float(result[place, side]) for side, (node, place) in enumerate(zip(there, places, strict=True))
    }
