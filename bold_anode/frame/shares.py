"""Who is served when, in one process: a few requests abreast, a few of each account, edits before what can wait."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Hashable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from threading import Condition


@dataclass(frozen=True, eq=False)
class _Place:
    """A place in the line, of an account."""

    who: Hashable


class Turn:
    """A request at work. For its first moments it is at the front; then it goes on beside the others."""

    def __init__(self, shares: Shares) -> None:
        self._shares = shares
        self._until = time.monotonic() + shares.front_seconds
        self._in_front = True

    def make_room(self) -> None:
        """Leave the front if its time is up; called now and then from what takes long."""
        if self._in_front and time.monotonic() > self._until:
            self.leave()

    def leave(self) -> None:
        """Leave the front."""
        if self._in_front:
            self._in_front = False
            self._shares.left()


class Shares:
    """Requests at work in this process: ``at_once`` and ``waiting`` are the most of one account, ``abreast`` the most
    at the front, which one keeps for ``front_seconds``.

    Few at the front are answered sooner, each of them, than if all were worked on at once; what takes long makes
    room, so that one heavy design does not stop everybody else.
    """

    def __init__(self, at_once: int, waiting: int, abreast: int, front_seconds: float) -> None:
        self.at_once, self.waiting = at_once, waiting
        self.abreast, self.front_seconds = abreast, front_seconds
        self._change = Condition()
        self._at_work: Counter[Hashable] = Counter()
        self._line: list[_Place] = []
        self._in_front = 0
        self._edits = 0

    @contextmanager
    def turn(self, who: Hashable, seconds: float, *, edit: bool) -> Iterator[Turn | None]:
        """Within, a request of that account is at work; None is given where it could not be within ``seconds``, or
        has too many before it."""
        if not self._wait(who, seconds, edit):
            yield None
            return
        turn = Turn(self)
        token = _turn.set(turn)
        try:
            yield turn
        finally:
            _turn.reset(token)
            turn.leave()
            with self._change:
                self._at_work[who] -= 1
                if not self._at_work[who]:
                    del self._at_work[who]
                self._edits -= edit
                self._change.notify_all()

    def _wait(self, who: Hashable, seconds: float, edit: bool) -> bool:
        """Wait in line; whether the turn came."""
        place = _Place(who)
        with self._change:
            if sum(other.who == who for other in self._line) >= self.waiting:
                return False
            self._line.append(place)
            self._edits += edit
            came = self._change.wait_for(lambda: self._next() is place, seconds)
            self._line.remove(place)
            if came:
                self._at_work[who] += 1
                self._in_front += 1
            else:
                self._edits -= edit
            self._change.notify_all()
            return came

    def _next(self) -> _Place | None:
        """Whose turn it is: the first in line whose account may have another at work."""
        if self._in_front >= self.abreast:
            return None
        return next((place for place in self._line if self._at_work.get(place.who, 0) < self.at_once), None)

    def left(self) -> None:
        """A request has left the front."""
        with self._change:
            self._in_front -= 1
            self._change.notify_all()

    def edits_first(self) -> None:
        """Wait while anybody's edit is at work or waits in this process; called from what can wait."""
        if self._edits:
            turn = _turn.get()
            if turn is not None:
                turn.leave()
            with self._change:
                self._change.wait_for(lambda: not self._edits, 1.0)


_turn: ContextVar[Turn | None] = ContextVar("turn", default=None)
# A workshop page asks for a dozen cards, and who leaves it leaves those behind in the line.
SHARES = Shares(at_once=2, waiting=18, abreast=2, front_seconds=0.5)
