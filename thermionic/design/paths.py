"""The one walker along a path to a value of a design.

A path is the names on the way, joined by slashes, with the members of a list by their id:
``blocks/output/cathode_resistor/ohm``, ``envelopes/v1/type``, ``brief/mains_volt``.
"""

from __future__ import annotations

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


def _nothing(design: BaseModel, path: str) -> DesignRefused:
    return DesignRefused(f"{getattr(design, 'name', 'The design')} has nothing at {path[:120]}.")


def put(raw: Any, path: str, value: Any) -> None:
    """Set the value at ``path`` of a plain document, which must lead somewhere."""
    *way, last = path.split("/")
    for step in way:
        raw = next(item for item in raw if item["id"] == step) if isinstance(raw, list) else raw[step]
    raw[last] = value
