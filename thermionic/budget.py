"""A limit on how long an analysis may take: nothing hangs, and what stops says so.

Every loop of every analysis calls ``check``. A caller gives the budget by ``with limit(seconds):``; without one
an analysis has DEFAULT_SECONDS from where it begins. What else is to be done now and then meanwhile (let
somebody else go first, look whether the result is still wanted) is given along with it.
"""

from __future__ import annotations

from collections.abc import Callable
from contextlib import AbstractContextManager, nullcontext
from contextvars import ContextVar
from dataclasses import dataclass, replace
from typing import ParamSpec, TypeVar

from thermionic import clock
from thermionic.errors import BudgetSpent

DEFAULT_SECONDS = 60.0
Given = ParamSpec("Given")
Value = TypeVar("Value")


@dataclass(frozen=True)
class _Budget:
    seconds: float
    until: float
    meanwhile: Callable[[], None] | None = None


_current: ContextVar[_Budget | None] = ContextVar("budget", default=None)
_AS_IT_IS = nullcontext()


def _both(first: Callable[[], None] | None, second: Callable[[], None] | None) -> Callable[[], None] | None:
    if first is None or second is None:
        return first or second

    def call() -> None:
        first()
        second()

    return call


class limit:  # noqa: N801
    """Everything solved inside stops, with BudgetSpent, ``seconds`` from now; an outer limit still holds.

    ``meanwhile`` is called at every check, very often, and may wait or raise; so is that of the outer limit.
    """

    def __init__(self, seconds: float, meanwhile: Callable[[], None] | None = None) -> None:
        self._seconds, self._meanwhile = seconds, meanwhile

    def __enter__(self) -> None:
        until = clock.seconds() + self._seconds
        outer = _current.get()
        if outer is None:
            inner = _Budget(self._seconds, until, self._meanwhile)
        else:
            meanwhile = _both(outer.meanwhile, self._meanwhile)
            first = outer if outer.until < until else _Budget(self._seconds, until)
            inner = _Budget(first.seconds, first.until, meanwhile)
        self._token = _current.set(inner)

    def __exit__(self, *_: object) -> None:
        _current.reset(self._token)


def share(part: float) -> limit:
    """Like ``limit``, with so large a part of the whole budget in force: for what may be left undone."""
    outer = _current.get()
    return limit(part * (outer.seconds if outer else DEFAULT_SECONDS))


def at_most() -> AbstractContextManager[None]:
    """The budget in force, or the usual one where none is."""
    return _AS_IT_IS if _current.get() else limit(DEFAULT_SECONDS)


def carried(work: Callable[Given, Value]) -> Callable[Given, Value]:
    """The work as another thread may do it: within the budget in force here, with nothing called meanwhile."""
    budget = _current.get()

    def there(*args: Given.args, **others: Given.kwargs) -> Value:
        token = _current.set(replace(budget, meanwhile=None) if budget else None)
        try:
            return work(*args, **others)
        finally:
            _current.reset(token)

    return there


def check(doing: str) -> None:
    """Raise BudgetSpent if the time is up; ``doing`` says in words what was being done."""
    budget = _current.get()
    if budget and budget.meanwhile:
        budget.meanwhile()
    if budget and clock.seconds() > budget.until:
        raise BudgetSpent(
            f"Stopped after {budget.seconds:g} s while {doing}. Allow more time, or ask for less at once.",
            tried=(doing,),
        )


def spent() -> bool:
    """Whether the time is up."""
    budget = _current.get()
    return bool(budget and clock.seconds() > budget.until)
