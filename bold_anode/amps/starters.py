"""The designs that a new project can start from."""

from __future__ import annotations

from thermionic import examples
from thermionic.design import Design
from thermionic.errors import DesignRefused
from thermionic.examples import Starter


def starters() -> tuple[Starter, ...]:
    """What can be chosen."""
    return examples.starters()


def starter(key: str) -> Design:
    """A starting design. Raises DesignRefused for a key that is not among them."""
    if key not in {choice.key for choice in starters()}:
        raise DesignRefused("Choose one of the starting designs.")
    return examples.starter(key)
