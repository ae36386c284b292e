"""The views of the Chain: the circuit, and what the whole amplifier does."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any
from urllib.parse import parse_qs, urlsplit

from bold_anode.amps.rooms import Shown
from bold_anode.chain import circuit, feedback, levels, power, quiet, response, tolerance, variants
from bold_anode.frame.requests import Request


@dataclass(frozen=True)
class Tab:
    """One view: its name in the address, its title, and what draws it."""

    slug: str
    title: str
    draw: Callable[[Request, Shown], tuple[str, dict[str, Any]]]


TABS = (
    Tab("circuit", "Circuit", circuit.draw),
    Tab("levels", "Levels", levels.draw),
    Tab("response", "Response", response.draw),
    Tab("power", "Power", power.draw),
    Tab("quiet", "Noise and hum", quiet.draw),
    Tab("feedback", "Feedback", feedback.draw),
    Tab("tolerances", "Tolerances", tolerance.draw),
    Tab("variants", "Variants", variants.draw),
)


def chosen(request: Request) -> Tab:
    """The view that the address asks for; for a change made from a page, the one that the page shows."""
    wanted = request.GET.get("tab")
    if wanted is None and request.htmx and request.htmx.current_url:
        wanted = parse_qs(urlsplit(request.htmx.current_url).query).get("tab", [""])[0]
    return next((tab for tab in TABS if tab.slug == wanted), TABS[0])
