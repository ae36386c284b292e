"""What the capacitance between output and input feeds back: whether a layout makes an amplifier an oscillator."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.chassis.capacitances import capacitances, walls
from thermionic.chassis.coupling import RADIUS
from thermionic.chassis.fields import Pieces
from thermionic.chassis.laid import Laid
from thermionic.chassis.nets import Net

# Where a tube amplifier oscillates by stray capacitance: from the top of hearing to where its gain is gone.
# Above that neither transformers nor tubes are known well enough.
HERTZ = np.geomspace(5e3, 200e3, 25)
NEAR_DB = -10.0  # of what comes back in phase, from which on it is too near: a rule of thumb
_COARSE = 0.03


@dataclass(frozen=True)
class FedBack:
    """The loop through one pair of nets' capacitance: from which net into which, F; the most of its loop gain that
    comes back in phase (what does not is Miller's capacitance, and harmless), dB, and where, Hz."""

    out: str
    into: str
    farad: float
    gain_db: float
    hertz: float

    @property
    def too_near(self) -> bool:
        """Whether it may oscillate."""
        return self.gain_db > NEAR_DB


def fed_back(laid: Laid) -> tuple[FedBack, ...]:
    """The pairs of nets by whose wires most comes back, the worst first; of each channel by itself."""
    wires = [
        wire for wire in laid.wiring.wires if wire.kind in ("signal", "output", "feedback") and not wire.shielded
    ]
    nets: dict[Net, int] = {}
    for wire in wires:
        nets.setdefault(wire.net, len(nets))
    if len(nets) < 2:
        return ()
    half = np.array([0.0, 0.0, laid.layout.box.sheet / 2])
    cut = Pieces.of([wire.points + half for wire in wires], _COARSE)
    owner = np.array([nets[wire.net] for wire in wires])[cut.wire]
    between = -capacitances(Pieces(cut.start, cut.end, owner), np.full(len(owner), RADIUS), len(nets),
                            walls(laid.layout.box))  # fmt: skip
    small, system = laid.amplifier.small_signal, laid.amplifier.state.at.system
    names = [laid.amplifier.compiled.node(net.node) for net in nets]
    known = {name for name in names if name in system.nodes}
    push = np.concatenate([small.push(name) for name in known], axis=1)
    moved = small.respond(HERTZ, push)
    column = {name: place for place, name in enumerate(known)}
    feedbacks = []
    order = list(nets)
    for i, into in enumerate(order):
        for j, out in enumerate(order):
            if i == j or between[i, j] <= 0 or {into.channel, out.channel} == {1, 2}:
                continue
            if names[i] not in known or names[j] not in known:
                continue
            # One ampere into the input moves the output; what the capacitance returns of that is the loop.
            transfer = moved[:, system.node(names[j]), column[names[i]]]
            own = moved[:, system.node(names[i]), column[names[i]]]
            loop = 2j * np.pi * HERTZ * between[i, j] * (transfer - own)
            place = int(np.argmax(loop.real))
            gain = 20 * float(np.log10(max(loop[place].real, 1e-12)))
            feedbacks.append(FedBack(out.name, into.name, float(between[i, j]), gain, float(HERTZ[place])))
    return tuple(sorted(feedbacks, key=lambda one: -one.gain_db))
