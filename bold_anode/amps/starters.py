"""The designs that a new project can start from."""

from __future__ import annotations

from dataclasses import dataclass

from thermionic import examples
from thermionic.design import Design
from thermionic.errors import DesignRefused


@dataclass(frozen=True)
class Starter:
    """A starting design with a line about it."""

    key: str
    title: str
    about: str


_STARTERS = (
    Starter("lantern", "2A3, 4 W", "Single-ended 2A3 driven by a 6SL7GT; 3.5 kΩ transformer, silicon rectifier."),
    Starter("beacon", "300B, 8 W", "Single-ended 300B with two 6SN7GT stages; 3 kΩ transformer, silicon rectifier."),
)


def starters() -> tuple[Starter, ...]:
    """What can be chosen."""
    return _STARTERS


def starter(key: str) -> Design:
    """A starting design. Raises DesignRefused for a key that is not among them."""
    if key not in {choice.key for choice in _STARTERS}:
        raise DesignRefused("Choose one of the starting designs.")
    return examples.example(key)
