"""What parts are had for, how hard they are worked, and how long that leaves them."""

from __future__ import annotations

from math import ceil

from thermionic.blocks.fields import SmoothingCapacitor

RATINGS = (0.25, 0.5, 1.0, 2.0, 3.0, 5.0, 7.0, 10.0, 15.0, 25.0, 50.0, 100.0)
# Half the rating is the usual working limit inside a closed chassis: a rule of thumb of the trade, e.g.
# F. Langford-Smith, *Radiotron Designer's Handbook*, 4th ed. (1953), section 4.9.
COMFORTABLE = 0.5


def resistor_watt(heat: float) -> float:
    """The rating to buy for a resistor that gives off ``heat``, W: the next that is had; above all of them, tens."""
    enough = heat / COMFORTABLE
    return next((rating for rating in RATINGS if rating >= enough), 10.0 * ceil(enough / 10.0))


# Inside a closed chassis, °C, and how much warmer than it the core of a capacitor at its full ripple current is.
CHASSIS = 45.0
_CORE = {False: 10.0, True: 5.0}  # made for 85 °C, and for 105 °C
_LONGEST = 15 * 8760.0  # its seals do not last longer, whatever the sum says


def lasting_hours(part: SmoothingCapacitor, ripple_ampere: float, celsius: float = CHASSIS) -> float | None:
    """The hours that an electrolytic capacitor lasts in surroundings of ``celsius`` with ``ripple_ampere`` rms in it:
    twice as long for every ten kelvin cooler, and for every ten that its core is less warm than at the full ripple
    current, which goes as its square. None where its ripple rating is not known, or it is no electrolytic.

    The rule of ten kelvin is one of thumb; with the core's warmth in it: A. Albertsen, *Electrolytic Capacitor
    Lifetime Estimation* (2010). The core at its full ripple current is taken to be 10 K warmer in one made for 85
    °C, 5 K in one for 105 °C; unsure by a factor of two.
    """
    if part.made != "electrolytic" or part.ripple_ampere is None:
        return None
    core = _CORE[part.celsius > 95.0]
    cooler = part.celsius - celsius + core * (1 - (ripple_ampere / part.ripple_ampere) ** 2)
    return min(part.hours * 2 ** (cooler / 10.0), _LONGEST)
