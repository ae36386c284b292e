"""What each app puts into the demo workshop, and one of each thing that its addresses name: registered by the app."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

# Given the user and the demo's projects by the name of their example.
FillDemo = Callable[[Any, Mapping[str, Any]], None]
# Given a user and a project of theirs; stores one of each thing and returns what an address has in each place.
Addressed = Callable[[Any, Any], dict[str, Any]]

_demos: list[FillDemo] = []
_addressed: list[Addressed] = []


def register(*, demo: FillDemo | None = None, addressed: Addressed | None = None) -> None:
    """Add an app's; called once by each app that has any."""
    if demo:
        _demos.append(demo)
    if addressed:
        _addressed.append(addressed)


def fill_demo(user: Any, projects: Mapping[str, Any]) -> None:
    """Put into the demo workshop what the apps have for it."""
    for fill in _demos:
        fill(user, projects)


def addressed(user: Any, project: Any) -> dict[str, Any]:
    """One of each thing that is addressed, stored for a user, by the name of its place in an address. Raises
    AssertionError where two apps have other things for one place."""
    places: dict[str, Any] = {"project_id": project.pk}
    for app in _addressed:
        mine = app(user, project)
        for name in places.keys() & mine.keys():
            assert places[name] == mine[name], f"two apps fill {name} of an address"
        places |= mine
    return places
