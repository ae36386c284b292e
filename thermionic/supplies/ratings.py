"""What resistors are had for, and how hard they are worked."""

from __future__ import annotations

from math import ceil

RATINGS = (0.25, 0.5, 1.0, 2.0, 3.0, 5.0, 7.0, 10.0, 15.0, 25.0, 50.0, 100.0)
# Half the rating is the usual working limit inside a closed chassis: a rule of thumb of the trade, e.g.
# F. Langford-Smith, *Radiotron Designer's Handbook*, 4th ed. (1953), section 4.9.
COMFORTABLE = 0.5


def resistor_watt(heat: float) -> float:
    """The rating to buy for a resistor that gives off ``heat``, W: the next that is had; above all of them, tens."""
    enough = heat / COMFORTABLE
    return next((one for one in RATINGS if one >= enough), 10.0 * ceil(enough / 10.0))
