"""Who is served when, in one process: a few requests abreast, a few of each account, edits before what can wait."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Hashable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from threading import Condition, Lock


@dataclass(eq=False)
class _Place:
    """A place in the line, of an account; whoever makes room calls the one whose turn it is, and wakes no other."""

    who: Hashable
    change: Condition
    called: bool = False


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
        self._lock = Lock()
        self._no_edits = Condition(self._lock)
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
            with self._lock:
                self._at_work[who] -= 1
                if not self._at_work[who]:
                    del self._at_work[who]
                self._less_edits(edit)
                self._call()

    def _wait(self, who: Hashable, seconds: float, edit: bool) -> bool:
        """Wait in line; whether the turn came."""
        with self._lock:
            if sum(other.who == who for other in self._line) >= self.waiting:
                return False
            place = _Place(who, Condition(self._lock))
            self._line.append(place)
            self._edits += edit
            self._call()
            came = place.change.wait_for(lambda: place.called, seconds)
            if not came:
                self._line.remove(place)
                self._less_edits(edit)
            return came

    def _call(self) -> None:
        """Call whoever may come to the front."""
        while (place := self._next()) is not None:
            self._line.remove(place)
            self._at_work[place.who] += 1
            self._in_front += 1
            place.called = True
            place.change.notify()

    def _less_edits(self, edit: bool) -> None:
        self._edits -= edit
        if not self._edits:
            self._no_edits.notify_all()

    def _next(self) -> _Place | None:
        """Whose turn it is: the first in line whose account may have another at work."""
        if self._in_front >= self.abreast:
            return None
        return next((place for place in self._line if self._at_work.get(place.who, 0) < self.at_once), None)

    def left(self) -> None:
        """A request has left the front."""
        with self._lock:
            self._in_front -= 1
            self._call()

    def make_way(self) -> None:
        """Leave the front at once; called from what waits for something other than this process."""
        turn = _turn.get()
        if turn is not None:
            turn.leave()

    def edits_first(self) -> None:
        """Wait while anybody's edit is at work or waits in this process; called from what can wait."""
        if self._edits:
            self.make_way()
            with self._no_edits:
                self._no_edits.wait_for(lambda: not self._edits, 1.0)


_turn: ContextVar[Turn | None] = ContextVar("turn", default=None)
# A workshop page asks for a dozen cards, and who leaves it leaves those behind in the line. One at the front:
# two would take the interpreter from each other, and a tenth of the time went into that.
SHARES = Shares(at_once=2, waiting=18, abreast=1, front_seconds=0.3)
