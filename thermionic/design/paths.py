"""The one walker along a path to a value of a design.

A path is the names on the way, joined by slashes, with the members of a list by their id:
``blocks/output/cathode_resistor/ohm``, ``envelopes/v1/type``, ``brief/mains_volt``.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from pydantic import BaseModel
from pydantic.fields import FieldInfo

from thermionic.errors import DesignRefused


@dataclass(frozen=True)
class Found:
    """What stands at a path: the value, the model that holds it (None for a member of a list), and its field."""

    path: str
    value: Any
    owner: BaseModel | None
    name: str
    info: FieldInfo | None

    @property
    def title(self) -> str:
        """What its field is called."""
        return str((self.info and self.info.title) or self.name.replace("_", " ").capitalize())


def find(design: BaseModel, path: str) -> Found:
    """What stands at ``path``. Raises DesignRefused if there is nothing there."""
    at: Any = design
    owner: BaseModel | None = None
    info: FieldInfo | None = None
    step = ""
    for step in path.split("/"):
        if isinstance(at, tuple):
            owner, info = None, None
            at = next((item for item in at if getattr(item, "id", None) == step), None)
            if at is None:
                raise _nothing(design, path)
        elif isinstance(at, BaseModel) and step in (fields := type(at).__pydantic_fields__):
            owner, info = at, fields[step]
            at = getattr(at, step)
        else:
            raise _nothing(design, path)
    return Found(path, at, owner, step, info)


def has_field(design: BaseModel, path: str) -> bool:
    """Whether there is such a value or part to be set, fitted or not: a kind of block may have none of that name."""
    try:
        find(design, path)
    except DesignRefused:
        return False
    return True


def fitted(design: BaseModel, path: str) -> bool:
    """Whether something is fitted, set or switched on at a path; not so where there is no such field."""
    return has_field(design, path) and bool(find(design, path).value)


def values_within(design: BaseModel, path: str) -> Iterator[tuple[str, Any]]:
    """Every value that is set at a path or within it, by its own: numbers, words, and each list as one value. Raises
    DesignRefused if there is nothing there."""
    value = find(design, path).value
    if isinstance(value, BaseModel):
        for name in type(value).model_fields:
            yield from values_within(design, f"{path}/{name}")
    elif value is not None:
        yield path, value


def _nothing(design: BaseModel, path: str) -> DesignRefused:
    return DesignRefused(f"{getattr(design, 'name', 'The design')} has nothing at {path[:120]}.")


def put(raw: Any, path: str, value: Any) -> None:
    """Set the value at ``path`` of a plain document, which must lead somewhere."""
    *way, last = path.split("/")
    for step in way:
        raw = next(item for item in raw if item["id"] == step) if isinstance(raw, list) else raw[step]
    raw[last] = value
