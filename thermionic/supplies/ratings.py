"""What resistors are had for, and how hard they are worked."""

from __future__ import annotations

from math import ceil

# A wirewound resistor is used at half its rating (see the resistor's rule).
_WATTS = (0.5, 1.0, 2.0, 3.0, 5.0, 7.0, 10.0, 15.0, 25.0, 50.0)


def resistor_watt(heat: float) -> float:
    """The rating to buy for a resistor that gives off ``heat``, W: the next that is had; above all of them, tens."""
    return next((one for one in _WATTS if one >= 2.0 * heat), 10.0 * ceil(heat / 5.0))
