"""What is worked out when it is first asked for, and then kept."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Generic, Self, TypeVar, overload

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
