"""Rails: every supply from the mains to where it is used."""

from __future__ import annotations

from typing import Any

from bold_anode.amps.rooms import Shown
from bold_anode.amps.tabs import Tab, draw_chosen
from bold_anode.frame.requests import Request
from bold_anode.rails import house, playing, schools, supplies, switching, worst

TABS = (
    Tab("supplies", "Supplies", supplies.draw),
    Tab("moments", "Worst moments", worst.draw),
    Tab("playing", "While it plays", playing.draw),
    Tab("switch", "Switch on, switch off", switching.draw),
    Tab("schools", "Schools", schools.draw),
    Tab("mains", "Mains", house.draw),
)


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The room, by the view that is looked at."""
    return draw_chosen(request, shown, TABS)
