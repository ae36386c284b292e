"""A number with its name, as rooms list them."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Figure:
    """One number with its name; ``was`` is what it was before the last change, "" if the same."""

    name: str
    text: str
    was: str = ""
