"""The numbers that a device's law reads, by name.

Compiled code takes them as an array. Each law has a NamedTuple of what it reads: the device's ``numbers()`` fills it
in, and ``places`` of it says at which place of the array each stands.
"""

from __future__ import annotations

from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

Number = float | NDArray[np.float64]  # or one a variant
Numbers = TypeVar("Numbers", bound=tuple[Any, ...])


def places(kind: type[Numbers]) -> Numbers:
    """At which place each number of a NamedTuple stands."""
    return kind(*range(len(kind._fields)))  # type: ignore[attr-defined]
