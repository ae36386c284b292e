"""Whether Newton's method will settle, in one place for all kernels; compiled.

Sizes of steps are over what is allowed: at most 1 is settled. Near a solution each step is c times the square of the
step before, with a c of the circuit (L. V. Kantorovich's theorem: see P. Deuflhard, *Newton Methods for Nonlinear
Problems*, Springer (2004), section 2.1). Once c is known the last step need not be taken.
"""

from __future__ import annotations

import math
from typing import Any

from thermionic.compiled import REAL, compiled, ready, takes

SURE = 10.0  # how often the step foretold must lie within what is allowed
CONTRACTS = 0.1  # a step over the step before, below which squares are taken to have begun
FAR = 1e3  # further off than this a junction may still begin to conduct, and nothing is foretold

_SEVERAL = takes(REAL, 1)


@compiled
def curvature(step: float, before: float) -> float:
    """c of two steps in a row; infinite while they do not shrink by squares yet, or there is no step before (0)."""
    return step / (before * before) if step < CONTRACTS * before else math.inf


@ready((REAL, REAL), (_SEVERAL, _SEVERAL))
def will_settle(step: Any, curved: Any) -> Any:
    """Whether this step, or with the curvature c the step after it, is within what is allowed; of one or several."""
    return (step <= 1.0) | ((step <= FAR) & (SURE * curved * step * step <= 1.0))
