"""Iron: the output transformer in the middle of the amplifier."""

from __future__ import annotations

from typing import Any

from bold_anode.amps.rooms import Shown
from bold_anode.amps.tabs import Tab, draw_chosen
from bold_anode.frame.requests import Request
from bold_anode.iron import output, shelf

TABS = (Tab("output", "Output transformer", output.draw), Tab("shelf", "Shelf", shelf.draw))


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The room, by the view that is looked at."""
    return draw_chosen(request, shown, TABS)
