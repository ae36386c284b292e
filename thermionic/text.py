"""What may be in a text that comes from outside."""

from __future__ import annotations

import re
from typing import Any

from thermionic.errors import TextRefused

# Control characters but the tab and ends of lines, lone surrogates, and what is no character at all.
_UNREADABLE = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1f\x7f-\x9f\ud800-\udfff\ufffe\uffff]")


def readable(text: str) -> str:
    """The text itself. Raises TextRefused if there is a character in it that nobody can read, saying where."""
    match = _UNREADABLE.search(text)
    if match:
        raise TextRefused(
            f"Character {match.start() + 1} of “{_UNREADABLE.sub('·', text[:40])}” (U+{ord(match[0]):04X}) is no "
            "readable text; letters, digits, signs, tabs and new lines are accepted."
        )
    return text


def all_readable(data: Any) -> None:
    """Raise TextRefused if any text in plain data (lists, dicts, also their keys) is not readable."""
    if isinstance(data, str):
        readable(data)
    elif isinstance(data, dict):
        for key, value in data.items():
            all_readable(key)
            all_readable(value)
    elif isinstance(data, list):
        for value in data:
            all_readable(value)
