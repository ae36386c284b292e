"""Feedback through a shared rail that comes near to running by itself."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks import Capacitor
from thermionic.design import find
from thermionic.findings.base import Cure, Finding, Rule, Severity, preferred_cure, steps_up
from thermionic.supplies.motorboating import RailLoop, rail_loops
from thermionic.values import Quantity, Series, display, step

# How near 1 + T may come to nought: a peak of three times, and a new electrolytic may be a fifth smaller than marked.
NEAR = 0.3
_RUNGS = 18


class Motorboating(Rule):
    """A stage's current moves a rail that an earlier stage hangs on, enough for the two to run by themselves."""

    name = "motorboating"
    example = "weir"
    fires_on = {"blocks/ht2/capacitor/farad": "1u"}
    quiet_on = {"blocks/ht2/capacitor/farad": "10u"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for rail_loop in rail_loops(amplifier):
            if _is_quiet(rail_loop):
                continue
            distance, hertz = rail_loop.nearest
            strongest, at = rail_loop.strongest
            path = next((rail.capacitor for rail in amplifier.compiled.rails if rail.block == rail_loop.block), "")
            path = path or f"blocks/{rail_loop.block}"
            rail = rail_loop.before.replace("_", " ")
            where = f"at {display(hertz, Quantity.FREQUENCY, 2)}"
            yield Finding(
                self.name,
                (Severity.DANGER if amplifier.load.power else Severity.POOR) if rail_loop.runs else Severity.POOR,
                path,
                amplifier.compiled.designator(path),
                f"It motorboats through {rail}" if rail_loop.runs else f"It nearly motorboats through {rail}",
                f"What comes back through {rail} to what hangs behind it goes round {strongest:.2g} times at "
                f"{display(at, Quantity.FREQUENCY, 2)}, at {amplifier.design.brief.mains_volt:.0f} V mains, working, "
                + (
                    f"and it runs by itself {where}."
                    if rail_loop.runs
                    else f"and is {distance:.2f} from running {where}."
                ),
                "It pops or pumps slowly with nothing at the input, and throws the loudspeaker's cone about."
                if rail_loop.runs
                else "Every loud passage leaves it rocking, and a capacitor that dries out sets it off.",
                1.0 if rail_loop.runs else NEAR / max(distance, 1e-3),
                NEAR,
                partial(_cure, amplifier, rail_loop.block, path),
            )


def _is_quiet(one: RailLoop) -> bool:
    return not one.runs and one.nearest[0] >= NEAR


def _cure(amplifier: SolvedAmplifier, block: str, path: str) -> Cure | None:
    """A larger capacitor behind the resistor or choke through which it comes."""
    part = find(amplifier.design, path).value
    if not isinstance(part, Capacitor):
        return None

    def cured(trial: SolvedAmplifier) -> bool:
        return all(_is_quiet(rail_loop) for rail_loop in rail_loops(trial) if rail_loop.block == block)

    return preferred_cure(
        amplifier,
        f"{path}/farad",
        steps_up(part.farad, lambda farad: step(farad, Series.E12, 1), _RUNGS),
        cured,
        lambda written: f"Fit {written}",
    )
