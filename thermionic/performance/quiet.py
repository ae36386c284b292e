"""Noise and hum at the load, by what causes them, against the reference output."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.ports import block_at
from thermionic.circuit.noise import noise
from thermionic.lazily import remembered
from thermionic.performance.levels import reference_output
from thermionic.supplies.hum import Hum, hum

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
    result = noise(amplifier.state.at, amplifier.load.node, amplifier.compiled.source.part, _HERTZ)
    causes = [Cause(_block(amplifier, name), name, volt) for name, volt in result.by_part().items()]
    heard = hum(amplifier)
    return Quiet(
        reference, reference_volt, result.output_volt(), result.output_volt("A"), tuple(causes),
        heard.volt if heard else 0.0, heard.hertz if heard else 0.0, _hum_causes(heard) if heard else (),
    )  # fmt: skip


def _block(amplifier: SolvedAmplifier, part: str) -> str:
    """The block that a part belongs to; "" for one that no value stands for."""
    return block_at(amplifier.netlist[part].path) if part in amplifier.netlist else ""


def _hum_causes(heard: Hum) -> tuple[Cause, ...]:
    """What each rail gives, and what comes in another way, the largest first."""
    causes = [Cause(rail.block, rail.name, volt) for rail, volt in heard.by_rail]
    if heard.beside_volt > _NOTHING * heard.volt:
        causes.append(Cause("", "", heard.beside_volt))
    return tuple(sorted(causes, key=lambda cause: -cause.volt))
