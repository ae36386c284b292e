"""What is there first after the switch: bias, HT, or tubes that draw."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import Bias
from thermionic.devices.base import Array

_UP = 0.9  # of where a rail settles, that counts as there
_DRAWS = 0.1  # of its emission, from which a tube counts as drawing


@dataclass(frozen=True)
class Arrival:
    """Something that comes up: its name, what it is (rail, bias or tube), the second after the switch at which it is
    there, and whether a bias is later than the first tube that it has to hold back."""

    name: str
    what: str
    second: float
    late: bool = False


def arrivals(amplifier: SolvedAmplifier, seconds: Array, rails: Mapping[str, Array]) -> tuple[Arrival, ...]:
    """In the order in which they come, from a run from the switch: ``seconds`` (points,), every rail's volts.

    A rail is there at nine tenths of where the run leaves it, a tube from a tenth of its emission on; when that is
    is a usual figure of its kind, unsure by half.
    """
    drawing = {
        use.part: use.type.heater.warmup.reaches(_DRAWS) if use.type.heater else 0.0
        for use in amplifier.compiled.tubes
    }
    held = [drawing[use.part] for use in amplifier.compiled.tubes if use.bias is Bias.FIXED]
    result = []
    for rail in amplifier.compiled.rails:
        curve = np.abs(np.asarray(rails[rail.name]))
        if curve[-1] <= 0:
            continue
        second = float(np.asarray(seconds)[np.argmax(curve >= _UP * curve[-1])])
        late = rail.bias and bool(held) and second > min(held)
        result.append(Arrival(rail.name, "bias" if rail.bias else "rail", second, late))
    of_types = {use.type.type: drawing[use.part] for use in amplifier.compiled.tubes}
    result += [Arrival(name, "tube", second) for name, second in of_types.items()]
    return tuple(sorted(result, key=lambda one: one.second))
