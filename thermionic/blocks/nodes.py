"""Fields of facets that hold nodes: marked where they are declared, so that they follow when nodes are joined."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import fields, is_dataclass, replace
from functools import cache
from typing import Annotated, Any, TypeVar, get_args, get_type_hints

Said = TypeVar("Said")
_IS_NODE = object()
# A node of the netlist: fields of this type follow where nodes are joined, alone, in a tuple or as a dict's values.
Node = Annotated[str, _IS_NODE]


def renamed(facet: Said, name: Callable[[str], str]) -> Said:
    """A facet, a dataclass, with every node that it holds under the name that ``name`` gives it."""
    thing: Any = facet
    kind: Any = type(thing)
    marked = _node_fields(kind)
    changes: dict[str, Any] = {}
    for part in fields(thing):
        value = getattr(thing, part.name)
        if part.name not in marked:
            inner: Any = type(value)
            if inner.__module__ == kind.__module__ and is_dataclass(value):  # a facet within this one
                changes[part.name] = renamed(value, name)
        elif isinstance(value, str):
            changes[part.name] = name(value)
        elif isinstance(value, dict):
            changes[part.name] = {key: name(node) for key, node in value.items()}
        else:
            changes[part.name] = tuple(name(node) for node in value)
    made: Said = replace(thing, **changes) if changes else thing
    return made


@cache
def _node_fields(cls: Any) -> tuple[str, ...]:
    hints = get_type_hints(cls, include_extras=True)
    return tuple(name for name, hint in hints.items() if _holds_nodes(hint))


def _holds_nodes(hint: Any) -> bool:
    if _IS_NODE in getattr(hint, "__metadata__", ()):
        return True
    return any(_holds_nodes(inner) for inner in get_args(hint))
