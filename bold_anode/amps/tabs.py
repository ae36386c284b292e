"""Views of a room beside each other, one shown at a time."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import parse_qs, urlsplit

from bold_anode.amps.rooms import Shown
from bold_anode.frame.requests import Request


@dataclass(frozen=True)
class Tab:
    """One view: its name in the address, its title, and what draws it."""

    slug: str
    title: str
    draw: Callable[[Request, Shown], tuple[str, dict[str, Any]]]


def chosen(request: Request, tabs: Sequence[Tab]) -> Tab:
    """The view that the address asks for; for a change made from a page, the one that the page shows."""
    wanted = request.GET.get("tab")
    if wanted is None and request.htmx and request.htmx.current_url:
        wanted = parse_qs(urlsplit(request.htmx.current_url).query).get("tab", [""])[0]
    return next((tab for tab in tabs if tab.slug == wanted), tabs[0])


def draw_chosen(request: Request, shown: Shown, tabs: Sequence[Tab]) -> tuple[str, dict[str, Any]]:
    """The view that is asked for, as a room draws itself."""
    tab = chosen(request, tabs)
    template, context = tab.draw(request, shown)
    return template, context | {"tab": tab, "tabs": tabs}
