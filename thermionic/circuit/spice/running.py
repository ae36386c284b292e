"""Running a netlist's own analyses and laying the results out as plain data."""

from __future__ import annotations

from typing import Any

import numpy as np
from scipy.interpolate import CubicSpline

from thermionic.circuit.operating_point import OperatingPoint, operating_point
from thermionic.circuit.small_signal import SmallSignal
from thermionic.circuit.spice.reader import Deck
from thermionic.circuit.system import System
from thermionic.circuit.transient import Transient, transient
from thermionic.devices.base import ComplexArray
from thermionic.errors import NetlistRefused

_HARMONICS = 9
_SAMPLES = 512


def run(deck: Deck) -> dict[str, Any]:
    """Run ``.op``, ``.ac``, ``.tran`` and ``.four`` as the deck asks for them, or ``.op`` where it asks for nothing.

    Keys, each there if asked for: ``op`` node to volts; ``ac`` with ``frequency`` (Hz) and ``nodes``, node to
    pairs of real and imaginary volts; ``tran`` with ``time`` (s) and ``nodes``, node to volts; ``fourier`` node
    to its harmonics. Nodes inside subcircuits are named instance.node. Raises NoSolution, NetlistRefused,
    BudgetSpent.
    """
    asked = deck.analyses
    system = System(deck.netlist)
    shown = [node for node in system.nodes if "__" not in node]
    result: dict[str, Any] = {}
    at: OperatingPoint | None = None
    if asked.op or asked.hertz or not (asked.tran or asked.four):
        at = operating_point(system)
    if at and (asked.op or not (asked.hertz or asked.tran)):
        result["op"] = {node: at.voltage(node) for node in shown}
    if at and asked.hertz:
        tone = SmallSignal(at).tone(np.array(asked.hertz))
        result["ac"] = {
            "frequency": list(asked.hertz),
            "nodes": {node: _complex(tone[:, system.node(node)]) for node in shown},
        }
    if asked.four and not asked.tran:
        raise NetlistRefused("A .four needs a .tran that reaches its last period.")
    if asked.tran:
        longest = min(asked.tran.longest or np.inf, max(asked.tran.step, asked.tran.until / 1e5))
        for hertz, _ in asked.four:
            if 1 / hertz > asked.tran.until:
                raise NetlistRefused(f"The .tran is shorter than one period of the {hertz:g} Hz of the .four.")
            longest = min(longest, 1 / hertz / 100)
        moved = transient(system, asked.tran.until, at_rest=asked.tran.at_rest, longest=longest, keep_from=0.0)
        times = np.arange(asked.tran.begin, asked.tran.until * (1 + 1e-9), asked.tran.step)
        points = moved.at(times)
        result["tran"] = {
            "time": times.tolist(),
            "nodes": {node: points[:, system.node(node)].tolist() for node in shown},
        }
        if asked.four:
            result["fourier"] = {node: _fourier(moved, node, hertz) for hertz, nodes in asked.four for node in nodes}
    if deck.passed_over:
        result["passed_over"] = list(deck.passed_over)
    return result


def _complex(values: ComplexArray) -> list[list[float]]:
    return [[one.real, one.imag] for one in values.tolist()]


def _fourier(moved: Transient, node: str, hertz: float) -> dict[str, Any]:
    """The harmonics of a node over the last period: amplitudes (V peak), phases (degrees, of a sine), distortion."""
    try:
        wave = moved.voltage(next((own for own in moved.system.nodes if own.lower() == node.lower()), node))
    except KeyError:
        raise NetlistRefused(f"The .four asks for v({node}), but there is no such node.") from None
    end = moved.seconds[-1]
    times = end - (1 / hertz) * (1 - np.arange(_SAMPLES) / _SAMPLES)
    samples = CubicSpline(moved.seconds, wave)(times)
    phase = 2 * np.pi * hertz * times
    found = [2 / _SAMPLES * complex(np.sum(samples * np.exp(-1j * k * phase))) for k in range(_HARMONICS + 1)]
    found[0] *= 0.5
    size = np.abs(found)
    return {
        "frequency": hertz,
        "dc": found[0].real,
        "harmonics": [
            {
                "harmonic": k,
                "frequency": k * hertz,
                "magnitude": float(size[k]),
                "phase": float((np.degrees(np.angle(found[k])) + 90.0 + 180.0) % 360.0 - 180.0),
            }
            for k in range(1, _HARMONICS + 1)
        ],
        "thd": float(np.sqrt(np.sum(size[2:] ** 2)) / max(size[1], 1e-30)),
    }
