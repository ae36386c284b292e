"""What kinds of work there are; each is registered by the app that it belongs to."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Protocol

from bold_anode.tasks.models import Work


class Report(Protocol):
    """Told how far a piece of work is; raises where it is to stop."""

    def __call__(self, part: float, said: str = "") -> None: ...


Doing = Callable[[Work, Report], Any]
_kinds: dict[str, Doing] = {}
_long: set[str] = set()


def register(kind: str, doing: Doing, *, long: bool = False) -> None:
    """Name a kind of work. ``doing`` does it and returns its result as plain data; it raises ThermionicError where
    it is refused. It may be begun again from the start after a worker has died. What is ``long`` can take minutes,
    and an owner's other work goes before it."""
    assert kind not in _kinds, f"two kinds of work are called {kind}"
    _kinds[kind] = doing
    if long:
        _long.add(kind)


def names() -> list[str]:
    """Every kind of work."""
    return sorted(_kinds)


def is_long(kind: str) -> bool:
    """Whether a kind of work can take minutes."""
    return kind in _long


def doing(kind: str) -> Doing:
    """What does a kind of work. Raises KeyError."""
    return _kinds[kind]
