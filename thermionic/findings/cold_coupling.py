"""Direct coupling before the tubes are warm."""

from collections.abc import Iterable

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.small_signal import respond
from thermionic.findings.base import Finding, Rule, Severity
from thermionic.findings.grid_leak import grid_resistance

# What a grid of fine wire stands for the seconds of a warm-up: a rule of thumb.
MOST_AMPERE = 10e-3
# A grid with this much more resistance at DC than at 50 Hz is held by a capacitor.
_HELD = 20.0


class ColdCoupling(Rule):
    """A grid that stands on an anode is pulled to the HT while the tube before is cold, by less resistance than its
    wire stands."""

    name = "cold-coupling"
    example = "hurdle"
    fires_on = {"blocks/first/anode_load/ohm": "15k"}
    quiet_on = {"blocks/first/anode_load/ohm": "100k"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        cold = amplifier.without_tubes
        for use in amplifier.compiled.tubes:
            if use.grid == GROUND:
                continue
            working = amplifier.voltage(use.grid)
            volts = cold.at.voltage(amplifier.compiled.node(use.grid)) if use.grid in cold.netlist.nodes else 0.0
            ohm = _behind(amplifier, use.grid)
            if volts < max(working, 0.0) + 50.0 or ohm <= 0 or ohm > 1e8 or use.side == "upper":
                continue
            ampere = volts / ohm
            if ampere <= MOST_AMPERE:
                continue
            yield Finding(
                self.name,
                Severity.POOR,
                use.path,
                use.part,
                f"{use.part}'s grid is pulled to the HT while the tube before it is cold",
                f"{volts:.0f} V behind {ohm / 1e3:.0f} kΩ, {ampere * 1e3:.0f} mA if its own cathode is warm first; "
                f"{MOST_AMPERE * 1e3:.0f} mA is what a grid stands (a rule of thumb).",
                "The grid wire overheats, or arcs to its cathode, at every switching on. A stopper at the "
                "grid, a diode from "
                "grid to cathode, or an HT that comes up slowly keeps it from that.",
                ampere,
                MOST_AMPERE,
            )


def _behind(amplifier: SolvedAmplifier, grid: str) -> float:
    """What a grid is behind for the second or so that it matters, the tubes out of the way and the supply's
    capacitors holding their charge, Ω. A grid that a capacitor holds comes up slowly: infinite."""
    system = amplifier.state.at.system
    push = np.zeros((system.size, 1))
    at = system.node(amplifier.compiled.node(grid))
    push[at, 0] = 1.0
    soon = float(abs(respond(system, system.G, np.array([50.0]), push)[0, at, 0]))
    return soon if grid_resistance(amplifier, grid) < _HELD * soon else np.inf
