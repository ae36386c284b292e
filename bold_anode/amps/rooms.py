"""What every room of a project shares: the list of rooms, and the page that they are drawn into."""

from __future__ import annotations

import logging
from collections.abc import Callable
from dataclasses import dataclass
from enum import IntEnum
from typing import Any

from django.contrib import messages
from django.db import OperationalError
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse

from bold_anode.amps import operations
from bold_anode.amps.models import Project
from bold_anode.amps.solved import Solved, solved
from bold_anode.amps.strip import strip
from bold_anode.frame.parsing import whole_number
from bold_anode.frame.refusing import refuse
from bold_anode.frame.requests import Request
from bold_anode.frame.versioned import Stale
from thermionic.errors import ThermionicError
from thermionic.findings import Finding


class Group(IntEnum):
    """The parts of the work, in working order."""

    DESIGN = 1
    BUILD = 2
    BENCH = 3
    RECORD = 4


@dataclass(frozen=True)
class Room:
    """A room: its slug in addresses, its name, the question it answers, and what draws it.

    ``draw`` takes the request and what is Shown, and returns the template and the context of its own. Rooms stand in
    the order of their groups, and within a group by ``place``; a project opens in the ``main`` one, where the stages
    of the strip are.
    """

    slug: str
    title: str
    question: str
    draw: Callable[[Request, Shown], tuple[str, dict[str, Any]]]
    group: Group
    place: int
    main: bool = False


@dataclass(frozen=True)
class Shown:
    """The project a room is drawn for, its solution, and the solution before the last change."""

    project: Project
    solved: Solved
    before: Solved | None


_log = logging.getLogger("bold_anode.rooms")
_OUR_FAULT = "That is an error of ours, which the log describes. The other rooms may work."
# The page asks for the findings by itself, and shows those of before meanwhile.
_FINDINGS_DUE = {"are_findings_due": True, "wait": "1ms"}
_rooms: dict[str, Room] = {}


def register(room: Room) -> None:
    """Add a room; called once by each room's app. Raises AssertionError for a repeated slug."""
    assert room.slug not in _rooms, f"two rooms are called {room.slug}"
    _rooms[room.slug] = room


def rooms() -> list[Room]:
    """The rooms that there are, in working order."""
    return sorted(_rooms.values(), key=lambda room: (room.group, room.place, room.slug))


def main_room() -> Room:
    """The room that a project opens in: the one that says so, else the first."""
    return next((room for room in rooms() if room.main), rooms()[0])


def owned(request: Request, project_id: int) -> Project:
    """The user's own project. Raises Http404 for any other."""
    project = operations.owned(request.user, project_id)
    request.revision = project.at.number
    return project


def _solved_before(project: Project) -> Solved | None:
    """The solution before the last change, if there was one and it can still be solved."""
    if project.previous is None or project.previous_id == project.current_id:
        return None
    try:
        return solved(project.previous)
    except ThermionicError:
        return None


def _examined(project: Project, now: Solved) -> tuple[list[Finding], str]:
    """The findings; where they cannot be computed, none, and the reason as a sentence."""
    try:
        return now.findings, ""
    except ThermionicError as refusal:
        return [], str(refusal)
    except OperationalError:
        raise  # which says by itself what is missing
    except Exception:
        _log.exception("Findings of project %s, revision %s, fail", project.pk, project.at.number)
        return [], _OUR_FAULT


def _findings(project: Project, now: Solved, before: Solved | None) -> dict[str, Any]:
    """What the template of the findings needs; computes them where that has not been done."""
    findings, reason = _examined(project, now)
    known = {finding.key for finding in before.findings} if before and before.is_examined else None
    return {
        "findings": findings,
        "not_examined": reason,
        "new_findings": set() if known is None else {finding.key for finding in findings} - known,
        "wait": "" if reason or now.is_cured else "300ms",
    }


def draw_findings(request: Request, project: Project, slug: str) -> HttpResponse:
    """The findings, which an edit is answered without; asked for again, with their cures. Raises ThermionicError."""
    now = solved(project.at)
    is_searched = not now.is_examined or now.look_for_cures()
    context = {"project": project, "room": _rooms[slug], **_findings(project, now, _solved_before(project))}
    if not is_searched:
        context["wait"] = "3s"
    return render(request, "frame/findings.html", context)


class RoomInAddress:
    """The path converter for a room that there is; any other address is no page, whatever is posted to it."""

    regex = "[a-z-]+"

    def to_python(self, slug: str) -> str:
        """The slug. Raises ValueError where there is no such room."""
        if slug not in _rooms:
            raise ValueError(slug)
        return slug

    def to_url(self, slug: str) -> str:
        """The slug."""
        return slug


def _not_drawn(request: Request, project: Project, room: Room, reason: str, status: int) -> HttpResponse:
    """In a room's place: why it is not shown, with undo and the way to the other rooms."""
    context = {"project": project, "refusal": reason, "room": room, "rooms": rooms()}
    response = render(request, "amps/unsolved.html", context, status=status)
    response["HX-Refresh"] = "true"  # to htmx: this is a page, not a piece of one
    return response


def draw_room(request: Request, project: Project, slug: str, notice: str = "", status: int = 200) -> HttpResponse:
    """A room as a page, or as the fragment that htmx asked for; the strip comes along, and the
    findings where they are known already: an edit is answered before they are."""
    room = _rooms[slug]
    try:
        now = solved(project.at)
        before = _solved_before(project)
        template, context = room.draw(request, Shown(project, now, before))
    except ThermionicError as refusal:
        return _not_drawn(request, project, room, str(refusal), 422)
    except OperationalError:
        raise  # which says by itself what is missing
    except Exception:
        _log.exception("%s of project %s, revision %s, cannot be drawn", room.title, project.pk, project.at.number)
        return _not_drawn(request, project, room, _OUR_FAULT, 500)
    context |= {
        "frame": "frame/room_fragment.html" if request.htmx else "frame/room_page.html",
        "project": project,
        "room": room,
        "rooms": rooms(),
        "main": main_room().slug,
        "strip": strip(now.amplifier, before.amplifier if before else None),
        **(_FINDINGS_DUE if request.htmx and not now.is_examined else _findings(project, now, before)),
        "can_undo": project.can_undo(),
        "can_redo": project.can_redo(),
        "notice": notice,
    }
    response = render(request, template, context, status=status)
    response["Vary"] = "HX-Request"
    return response


def seen(request: Request) -> int | None:
    """The number of the revision that the page showed which asks."""
    return whole_number(request.POST.get("seen", ""))


def after(request: Request, project_id: int, slug: str, change: Callable[[], object], view: str = "") -> HttpResponse:
    """A room, at one of its views, after a change (which may give the project as it is then): its fragment for
    htmx, else the page afresh. What is refused is said in words; to a page that was behind, the room is shown as it
    stands now with the sentence that says so."""
    address = reverse("room", args=[project_id, slug]) + (f"?tab={view}" if view else "")
    try:
        changed = change()
    except Stale as reason:
        now = owned(request, project_id)
        if request.htmx:
            return draw_room(request, now, slug, notice=str(reason), status=422)
        messages.error(request, str(reason))
        return redirect(address)
    except ThermionicError as reason:
        return refuse(request, str(reason))
    if not request.htmx:
        return redirect(address)
    return draw_room(request, changed if isinstance(changed, Project) else owned(request, project_id), slug)
