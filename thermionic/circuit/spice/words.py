"""The words of a line: what is plain, what is name=value, and what scope their names are looked up in."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from thermionic.circuit.spice.expressions import Names, constant
from thermionic.circuit.spice.lines import Line
from thermionic.circuit.spice.models import Model
from thermionic.errors import NetlistRefused


@dataclass(frozen=True)
class Subcircuit:
    """A subcircuit as defined: its pins, its parameters' defaults, and its lines."""

    name: str
    pins: tuple[str, ...]
    defaults: tuple[tuple[str, str], ...]
    lines: list[Line]


@dataclass
class Scope:
    """Where names are looked up: parameters, models and subcircuits, the enclosing scope's after its own."""

    parameters: Names = field(default_factory=Names)
    models: dict[str, Model] = field(default_factory=dict)
    subcircuits: dict[str, Subcircuit] = field(default_factory=dict)

    def inner(self) -> Scope:
        return Scope(Names(self.parameters), dict(self.models), dict(self.subcircuits))


def bare(text: str) -> str:
    """Without the braces or quotes that mark an expression."""
    text = text.strip()
    if len(text) > 1 and (text[0], text[-1]) in (("{", "}"), ("'", "'"), ('"', '"')):
        return text[1:-1]
    return text


def split(text: str) -> list[str]:
    """Words, with what is in braces, quotes or parentheses kept together."""
    words: list[str] = []
    word, depth, quoted = "", 0, False
    for letter in text:
        if letter == "'":
            quoted = not quoted
        depth += (letter in "({") - (letter in ")}")
        if depth < 0:
            raise NetlistRefused(f"there is one “{letter}” too many.")
        if letter in " \t," and not depth and not quoted:
            if word:
                words.append(word)
            word = ""
        else:
            word += letter
    if depth or quoted:
        raise NetlistRefused("a parenthesis, brace or quote is not closed.")
    return [*words, word] if word else words


def pairs(text: str) -> tuple[list[str], list[tuple[str, str]]]:
    """The plain words of a line, and its name=value pairs (names in lower case)."""
    words = split(re.sub(r"\s*=\s*", "=", text))
    plain = [word for word in words if "=" not in word or word[0] in "({'"]
    given = []
    for word in words:
        if word not in plain:
            name, value = word.split("=", 1)
            given.append((name.lower(), bare(value)))
    return plain, given


def value_of(text: str, scope: Scope) -> float:
    """The number that a word stands for. Raises NetlistRefused."""
    return constant(bare(text), scope.parameters)


def no_more(given: list[tuple[str, str]], *known: str) -> dict[str, str]:
    """The pairs by name. Raises NetlistRefused for a name that is not known."""
    for name, _ in given:
        if name not in known:
            raise NetlistRefused(f"{name}= is not known here{'; known is ' + ', '.join(known) if known else ''}.")
    return dict(given)
