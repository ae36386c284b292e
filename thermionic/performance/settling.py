"""Setting one value of a design so that tubes idle with the current wanted."""

from __future__ import annotations

import numpy as np

from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.design import Design, changed
from thermionic.errors import DesignRefused, ThermionicError
from thermionic.values import Series, nearest

_SOLVES = 14


def mean_current(amplifier: SolvedAmplifier, block_id: str) -> float:
    """The tubes' mean anode current, A."""
    uses = amplifier.compiled.tubes_of(block_id)
    return float(np.mean([amplifier.parts[use.part].current for use in uses]))


def settled(
    design: Design, path: str, wanted: float, block_id: str, between: tuple[float, float], near: SolvedAmplifier,
    series: Series | None, also: str = "",
) -> Design:  # fmt: skip
    """The design with the value at ``path``, ``between`` two, at which the tubes of a block draw ``wanted`` amperes
    each, at the nearest preferred value if of a ``series``. Raises ThermionicError."""
    from scipy.optimize import brentq  # takes a while to import, which nothing before the first page needs

    state = {"near": near}

    def with_value(value: float) -> Design:
        after = changed(design, path, value)
        return changed(after, also, value) if also else after

    def excess(log: float) -> float:
        try:
            state["near"] = solve(with_value(float(np.exp(log))), state["near"])
        except ThermionicError:
            return 1.0
        return float(np.log(max(mean_current(state["near"], block_id), 1e-9) / wanted))

    low, high = np.log(between)
    if np.sign(excess(low)) == np.sign(excess(high)):
        raise DesignRefused(f"No value of {path.split('/', 1)[1]} lets the tubes draw what they did.")
    value = float(np.exp(brentq(excess, low, high, xtol=3e-3, maxiter=_SOLVES, disp=False)))
    return with_value(nearest(value, series) if series else round(value, 4))
