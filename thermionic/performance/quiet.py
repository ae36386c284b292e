"""Noise and hum at the load, by what causes them, against the reference output."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import Rail
from thermionic.circuit.noise import noise
from thermionic.circuit.small_signal import respond
from thermionic.circuit.spectrum import waveform
from thermionic.devices.base import ComplexArray
from thermionic.lazily import remembered
from thermionic.performance.levels import reference_output

_NOTHING = 1e-6  # of all the hum: the dust of the solution
_HERTZ = np.geomspace(20.0, 20e3, 61)


@dataclass(frozen=True)
class Cause:
    """One cause of noise or hum: its block's id ("" where none is to blame alone), its designator or rail, and what
    it gives at the load, V rms (hum's causes may cancel)."""

    block: str
    name: str
    volt: float


@dataclass(frozen=True)
class Quiet:
    """Noise and hum at the load with the source still and its resistance in place.

    ``reference_volt`` is the load's voltage at the ``reference`` output (W; V rms at a line load). Noise is V rms
    from 20 Hz to 20 kHz, flat and A-weighted; ``noise_causes`` are flat, by part, the largest first. ``hum_volt`` is
    all that the mains leaves at the load, V rms, ``hum_hertz`` its strongest frequency, ``hum_causes`` by rail and
    for the rest, which is what gets in besides the rails.
    """

    reference: float
    reference_volt: float
    noise_volt: float
    weighted_volt: float
    noise_causes: tuple[Cause, ...]
    hum_volt: float
    hum_hertz: float
    hum_causes: tuple[Cause, ...]

    def below(self, volt: float) -> float:
        """A voltage against that of the reference output, dB."""
        return 20 * float(np.log10(max(volt, 1e-12) / self.reference_volt))


@remembered
def quiet(amplifier: SolvedAmplifier) -> Quiet:
    """Noise and hum. Raises NoSolution, NetlistRefused."""
    reference = reference_output(amplifier)
    reference_volt = (reference * amplifier.load.ohm) ** 0.5 if amplifier.load.power else reference
    found = noise(amplifier.state.at, amplifier.load.node, amplifier.compiled.source.part, _HERTZ)
    causes = [Cause(_block(amplifier, name), name, volt) for name, volt in found.by_part().items()]
    hum, hertz, by_rail = _hum(amplifier)
    return Quiet(
        reference, reference_volt, found.output_volt(), found.output_volt("A"), tuple(causes), hum, hertz, by_rail
    )


def _block(amplifier: SolvedAmplifier, part: str) -> str:
    """The block that a part belongs to; "" for one that no value stands for."""
    path = amplifier.netlist[part].path if part in amplifier.netlist else ""
    return path.split("/")[1] if path.startswith("blocks/") else ""


def _hum(amplifier: SolvedAmplifier) -> tuple[float, float, tuple[Cause, ...]]:
    """All of it, its strongest frequency, and what each rail gives.

    By substitution: were every rail on which the signal's blocks hang a source of its own ripple, the load would have
    the same hum; with one at a time, each one's share of it. What is left comes in another way.
    """
    mains = amplifier.state.mains
    if mains is None:
        return 0.0, 0.0, ()
    load = mains.x[mains.system.node(amplifier.load.node)]
    orders = np.arange(1, mains.x.shape[-1])
    size = np.abs(load[orders])
    strongest = float(mains.hertz * orders[int(np.argmax(size))])
    total = _rms(load)
    rails = _hanging(amplifier)
    by_rail = _by_rail(amplifier, rails, orders * mains.hertz)
    causes = []
    for rail, phasors in zip(rails, by_rail, strict=True):
        causes.append(Cause(rail.block, rail.name, float(np.sqrt(np.sum(np.abs(phasors) ** 2) / 2))))
    rest = load[orders] - np.sum(by_rail, axis=0) if rails else load[orders]
    beside = float(np.sqrt(np.sum(np.abs(rest) ** 2) / 2))
    if beside > _NOTHING * total:
        causes.append(Cause("", "", beside))
    causes.sort(key=lambda cause: -cause.volt)
    return total, strongest, tuple(causes)


def _rms(phasors: ComplexArray) -> float:
    return float(np.std(waveform(phasors, 512)))


def _hanging(amplifier: SolvedAmplifier) -> list[Rail]:
    """The rails that a block on the signal's way, or one in each channel, hangs on."""
    fed = {
        reference
        for block in amplifier.design.blocks
        if block.id in amplifier.route or block.scope == "channel"
        for reference in block.references.values()
    }
    return [rail for rail in amplifier.compiled.rails if f"{rail.block}.{rail.port}" in fed]


def _by_rail(amplifier: SolvedAmplifier, rails: list[Rail], hertz: np.ndarray) -> ComplexArray:
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
