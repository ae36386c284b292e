"""What is worked out when it is first asked for, and then kept."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Any, Concatenate, Generic, ParamSpec, Self, TypeVar, overload

Subject = TypeVar("Subject")
Given = ParamSpec("Given")
Value = TypeVar("Value")


class lazily(Generic[Value]):  # noqa: N801
    """A property that is computed once an instance and kept in its ``__dict__``.

    As the standard library's ``cached_property`` is from Python 3.12 on: before, that holds one lock over *all*
    instances while it computes, and one slow solve stops every other. Two threads that ask at once both compute.
    """

    def __init__(self, compute: Callable[[Any], Value]) -> None:
        self.compute = compute
        self.__doc__ = compute.__doc__

    def __set_name__(self, owner: type, name: str) -> None:
        self.name = name

    @overload
    def __get__(self, instance: None, owner: type) -> Self: ...
    @overload
    def __get__(self, instance: object, owner: type) -> Value: ...
    def __get__(self, instance: object | None, owner: type) -> Self | Value:
        if instance is None:
            return self
        value = vars(instance)[self.name] = self.compute(instance)
        return value


def remembered(
    function: Callable[Concatenate[Subject, Given], Value],
) -> Callable[Concatenate[Subject, Given], Value]:
    """A function of an object, and of names (hashable, by place), whose values are kept with the object itself.

    They go when it goes; a cache beside it would keep it alive.
    """

    @wraps(function)
    def recalling(subject: Subject, *names: Given.args, **others: Given.kwargs) -> Value:
        kept = vars(subject).setdefault("_remembered", {})
        key = (function, names, *others.items())
        if key not in kept:
            kept[key] = function(subject, *names, **others)
        value: Value = kept[key]
        return value

    return recalling  # type: ignore[return-value]
