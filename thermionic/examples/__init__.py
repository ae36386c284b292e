"""Amplifiers of our own that solve: for the demo, the tests and the benchmarks; and, made whole and healthy by
``tools/starters``, the designs that a new project starts from."""

from __future__ import annotations

import json
from dataclasses import dataclass
from functools import cache
from importlib import resources

from thermionic.design import Design, load

_FOLDER = resources.files("thermionic.examples")


@dataclass(frozen=True)
class Starter:
    """A starting design: its key, a title with what it gives as solved, and a line about it."""

    key: str
    title: str
    about: str


def example(name: str) -> Design:
    """The example called ``name``, such as ``lantern``. Raises FileNotFoundError."""
    return load((_FOLDER / f"{name}.json").read_bytes())


def names() -> list[str]:
    """All examples by name."""
    return sorted(entry.name.removesuffix(".json") for entry in _FOLDER.iterdir() if entry.name.endswith(".json"))


@cache
def starters() -> tuple[Starter, ...]:
    """What a new project can start from."""
    return tuple(Starter(**one) for one in json.loads((_FOLDER / "starters" / "index.json").read_bytes()))


def starter(key: str) -> Design:
    """The starting design of that key. Raises FileNotFoundError."""
    return load((_FOLDER / "starters" / f"{key}.json").read_bytes())
