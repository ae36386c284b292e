"""Hum at the load, and the rails by which it gets there: worked out once for findings, noise and supplies."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import Rail
from thermionic.circuit.small_signal import respond
from thermionic.devices.base import ComplexArray
from thermionic.lazily import remembered


@dataclass(frozen=True)
class Hum:
    """What the mains leaves at the load: ``volt`` rms in all and ``hertz`` the frequency of its strongest harmonic.

    ``by_rail`` is what each rail gives, V rms, the largest first, ``beside_volt`` what gets in besides the rails;
    causes may cancel. ``harmonics`` are the peaks at the load, V, from the fundamental up.
    """

    volt: float
    hertz: float
    by_rail: tuple[tuple[Rail, float], ...]
    beside_volt: float
    harmonics: ComplexArray


def hum_volt(amplifier: SolvedAmplifier) -> float:
    """What the mains leaves at the load, V rms."""
    mains = amplifier.state.mains
    if mains is None:
        return 0.0
    return _rms(mains.x[mains.system.node(amplifier.load.node), 1:])


@remembered
def hum(amplifier: SolvedAmplifier) -> Hum | None:
    """Hum at the load and its causes; None where nothing is fed from the mains.

    By substitution: were every rail on which the signal's blocks hang a source of its own ripple, the load would have
    the same hum; with one at a time, each one's share of it. The rest comes in another way.
    """
    mains = amplifier.state.mains
    if mains is None:
        return None
    load: ComplexArray = mains.x[mains.system.node(amplifier.load.node), 1:]
    orders = np.arange(1, len(load) + 1)
    strongest = float(mains.hertz * orders[int(np.argmax(np.abs(load)))])
    rails = _feeding(amplifier)
    shares = _shares(amplifier, rails, orders * mains.hertz)
    by_rail = sorted(zip(rails, map(_rms, shares), strict=True), key=lambda pair: -pair[1])
    return Hum(_rms(load), strongest, tuple(by_rail), _rms(load - np.sum(shares, axis=0)), load)


def _rms(phasors: ComplexArray) -> float:
    return float(np.sqrt(np.sum(np.abs(phasors) ** 2) / 2))


def _feeding(amplifier: SolvedAmplifier) -> list[Rail]:
    """The rails that a block on the signal's way, or one in each channel, hangs on."""
    fed = {
        reference
        for block in amplifier.design.blocks
        if block.id in amplifier.route or block.scope == "channel"
        for reference in block.references.values()
    }
    return [rail for rail in amplifier.compiled.rails if f"{rail.block}.{rail.port}" in fed]


def _shares(amplifier: SolvedAmplifier, rails: list[Rail], hertz: np.ndarray) -> ComplexArray:
    """The load's hum by each rail at each frequency: (rails, frequencies)."""
    mains, at = amplifier.state.mains, amplifier.state.at
    assert mains is not None
    if not rails:
        return np.zeros((0, len(hertz)), dtype=complex)
    nodes = [amplifier.compiled.node(rail.node) for rail in rails]
    rows = [at.system.node(node) for node in nodes]
    push = np.zeros((at.system.size, len(rows)))
    push[rows, np.arange(len(rows))] = 1.0
    moved = respond(at.system, at.slopes, hertz, push)
    ripple = np.stack([mains.x[mains.system.node(node), 1:] for node in nodes], axis=1)[..., None]
    own = moved[:, rows]
    through = moved[:, at.system.node(amplifier.load.node)][:, None, :]
    # Each ampere that holds a rail where its ripple has it, one rail moving and the others still.
    shares: ComplexArray = (through @ np.linalg.inv(own))[:, 0].T * ripple[..., 0].T
    return shares
