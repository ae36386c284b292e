"""What the voltages of pairs drive into the wires of signal, by the capacitance between them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from thermionic.chassis.capacitances import capacitances
from thermionic.chassis.fields import Pieces
from thermionic.chassis.geometry import in_room
from thermionic.chassis.nets import Net
from thermionic.chassis.sources import PairSource
from thermionic.chassis.transfer import HARMONICS
from thermionic.devices.base import ComplexArray

if TYPE_CHECKING:
    from thermionic.chassis.humming import Humming

RADIUS, _PIN = 0.4e-3, 0.008  # m: of a wire; the length of a pin
_UPRIGHT = np.array([0.0, 0.0, _PIN])
_COARSE = 0.03  # m, of a piece with one charge along it
_FELT = 1e-3  # of the most sensitive net's: what is less is no victim of a capacitance


def coupled(humming: Humming, pairs: Sequence[PairSource]) -> list[tuple[PairSource, Net, ComplexArray]]:
    """The current that each pair drives into each net, A, (harmonics,)."""
    felt = {
        net: float(np.abs(humming.transfers.of_current(net.node)).max())
        for net in dict.fromkeys(wire.net for wire in humming.laid.wiring.wires)
    }
    most = max(felt.values(), default=0.0)
    nets = {net: number for number, net in enumerate(net for net in felt if felt[net] > _FELT * most)}
    lines, owners = [], []
    for wire in humming.laid.wiring.wires:
        if wire.net in nets and not wire.shielded:
            lines.append(humming.lowered(wire.points))
            owners.append(nets[wire.net])
    for body in humming.laid.bodies:
        for pin in body.pins if body.key in humming.placed else ():
            if pin.net in nets:
                at = humming.lowered(in_room(humming.box, humming.placed[body.key], pin.at))
                lines.append(np.array([at, at + _UPRIGHT]))
                owners.append(nets[pin.net])
    whole = Pieces.of(lines, _COARSE)
    cut = [Pieces(whole.start, whole.end, np.array(owners, dtype=int)[whole.wire])]
    legs: list[int] = []
    for source in pairs:
        middle = Pieces.of([humming.lowered(source.pair.points)], _COARSE)
        for side in (1, -1):
            legs.append(len(nets) + len(legs))
            moved = middle.moved(side * middle.sideways * source.pair.spacing / 2)
            cut.append(Pieces(moved.start, moved.end, np.full(len(moved.wire), legs[-1])))
    size = len(nets) + len(legs)
    if not nets or not legs:
        return []
    pieces = Pieces(*(np.concatenate([getattr(one, name) for one in cut]) for name in ("start", "end", "wire")))
    matrix = capacitances(pieces, np.full(len(pieces.wire), RADIUS), size)
    found = []
    for k, source in enumerate(pairs):
        for net, number in nets.items():
            push = np.zeros(HARMONICS, dtype=complex)
            for leg, volts in enumerate(source.volts):
                between = -matrix[number, legs[2 * k + leg]]
                push += 2j * np.pi * humming.hertz * between * volts
            found.append((source, net, push))
    return found
