"""A burst of tone past full output: how far it drives the bias away, and how long until it is back (blocking)."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from thermionic import budget
from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.solved import REFERENCE_HERTZ
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.system import System
from thermionic.circuit.transient import transient
from thermionic.devices import Sine
from thermionic.devices.base import Array
from thermionic.errors import NetlistRefused

BURST_SECONDS = 0.1
OVER_DB = 6.0
# Back is within this of where it idles, as a part of the idle bias.
BACK = 0.05
_SAMPLES = 40  # of a period of the tone
_LONGEST_RECOVERY = 4.0
_SHOWN = 300


@dataclass(frozen=True, eq=False)
class Recovery:
    """One tube's bias (grid to cathode, V) after a burst. ``worst_volt`` is how far it was from idle when the burst
    ended, averaged over the tone's last period; ``seconds`` how long after that it was back, None if not within the
    run. ``curve`` is (points, 2): s after the burst's end, V from idle."""

    block: str
    part: str
    idle_volt: float
    worst_volt: float
    seconds: float | None
    curve: Array


@dataclass(frozen=True, eq=False)
class Burst:
    """A burst of ``hertz``, ``over_db`` past full output, for ``length`` s: what it did to every tube on the signal's
    way, the slowest first. ``followed`` is how long after it the run went on, s."""

    hertz: float
    over_db: float
    length: float
    followed: float
    recoveries: tuple[Recovery, ...]


def burst(amplifier: SolvedAmplifier, over_db: float = OVER_DB, length: float = BURST_SECONDS) -> Burst:
    """Follow a burst of 1 kHz in time and the bias of every tube after it, until all are back or for four seconds.

    The supply is as it stands in the operating point, its rectifier by the straight line that it is there. Raises
    NetlistRefused for a load that has no response in time, NoSolution, BudgetSpent.
    """
    at = amplifier.state.at
    if at.system.dispersion(np.array([REFERENCE_HERTZ])) is not None:
        raise NetlistRefused("A measured impedance has no response in time: give the loudspeaker a driver's model.")
    peak = amplifier.full_output.source_volt * 2**0.5 * 10 ** (over_db / 20)
    name = amplifier.compiled.source.part
    device = replace(at.system.place(name).part.device, wave=Sine(0.0, peak, REFERENCE_HERTZ))  # type: ignore[type-var]
    netlist = amplifier.state.standing.with_device(name, device)
    period = 1.0 / REFERENCE_HERTZ
    with budget.at_most():
        first = transient(
            System(netlist), length, start=at.x, longest=period / _SAMPLES, keep_from=length - period * 1.001
        )
        still = amplifier.state.standing
        tracked = [use for use in amplifier.compiled.tubes if use.block in amplifier.route and use.grid != GROUND]
        last = {use.part: _mean(_bias(amplifier, first, use), first.seconds, period) for use in tracked}
        x = first.x[-1]
        pieces: list[tuple[Array, dict[str, Array]]] = []
        done, span = 0.0, 0.05
        while done < _LONGEST_RECOVERY:
            run = transient(System(still), span, start=x, longest=span / 50)
            pieces.append((done + run.seconds, {use.part: _bias(amplifier, run, use) for use in tracked}))
            x, done, span = run.x[-1], done + span, 2 * span
            if all(
                abs(pieces[-1][1][use.part][-1] - _idle(amplifier, use)) < 0.2 * BACK * abs(_idle(amplifier, use))
                for use in tracked
            ):
                break
    seconds = np.concatenate([piece[0] for piece in pieces])
    recoveries = []
    for use in tracked:
        idle = _idle(amplifier, use)
        away = np.concatenate([piece[1][use.part] for piece in pieces]) - idle
        out = np.flatnonzero(np.abs(away) > BACK * abs(idle))
        if not len(out):
            back: float | None = 0.0
        else:
            back = _back(seconds, np.abs(away), int(out[-1]), BACK * abs(idle))
        shown = np.interp(np.linspace(0.0, done, _SHOWN), seconds, away)
        curve = np.stack([np.linspace(0.0, done, _SHOWN), shown], axis=1)
        recoveries.append(Recovery(use.block, use.part, idle, last[use.part] - idle, back, curve))
    recoveries.sort(key=lambda recovery: -(np.inf if recovery.seconds is None else recovery.seconds))
    return Burst(REFERENCE_HERTZ, over_db, length, done, tuple(recoveries))


def _back(seconds: Array, away: Array, last: int, limit: float) -> float | None:
    """When a curve that was above a limit at point ``last`` for the last time falls to it; None if not in the run."""
    if last + 1 >= len(seconds):
        return None
    share = (away[last] - limit) / (away[last] - away[last + 1])
    return float(seconds[last] + share * (seconds[last + 1] - seconds[last]))


def _bias(amplifier, run, use) -> Array:  # type: ignore[no-untyped-def]
    name = amplifier.compiled.node
    volts: Array = run.voltage(name(use.grid)) - run.voltage(name(use.cathode))
    return volts


def _idle(amplifier, use) -> float:  # type: ignore[no-untyped-def]
    return float(amplifier.over_cathode(use, "grid"))


def _mean(volts: Array, seconds: Array, period: float) -> float:
    kept = seconds >= seconds[-1] - period
    return float(np.trapezoid(volts[kept], seconds[kept]) / (seconds[kept][-1] - seconds[kept][0]))
