"""From the bytes of a netlist file to its logical lines: what is read beside it put in, comments out, continuations
joined."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from thermionic.errors import NetlistRefused

_MOST_LINES, _MOST_FILES = 20_000, 50
# Lines of our own, which are comments to every other simulator.
OWN = (".thd", ".supply", ".startup")

# Gives the text of a file by the name that a netlist calls it; raises NetlistRefused for one that must not be read.
Files = Callable[[str], str]


@dataclass(frozen=True)
class Line:
    """A logical line and where it begins: ``12``, or ``12 of tubes.inc``."""

    number: str
    text: str


def decode(raw: bytes) -> str:
    """The text of a netlist file: UTF-8, UTF-16 where it says so, else Latin-1, in which old ones are."""
    if raw.startswith((b"\xff\xfe", b"\xfe\xff")):
        try:
            return raw.decode("utf-16")
        except UnicodeDecodeError:
            raise NetlistRefused("the file begins as UTF-16 text and is none.") from None
    if raw[1:2] == b"\0" and len(raw) % 2 == 0:
        return raw.decode("utf-16-le", errors="replace")
    if b"\0" in raw:
        raise NetlistRefused("this is no text: it holds zero bytes.")
    try:
        return raw.decode("utf-8-sig")
    except UnicodeDecodeError:
        return raw.decode("latin-1")


def logical(text: str, files: Files | None) -> list[Line]:
    """The logical lines after the title. Raises NetlistRefused."""
    lines: list[Line] = []
    for mark, raw in _raw(text.splitlines()[1:], "", 2, files, ()):
        if len(lines) > _MOST_LINES:
            raise NetlistRefused(f"The netlist has more than {_MOST_LINES} lines.")
        line = re.split(r";|\s\$\s", raw)[0].strip()
        if line[:1] == "*" and line[1:].split(" ")[0].lower() in OWN:
            line = line[1:]
        if not line or line[0] in "*#":
            continue
        if line[0] == "+":
            if not lines:
                raise NetlistRefused(f"Line {mark} continues nothing.")
            lines[-1] = Line(lines[-1].number, f"{lines[-1].text} {line[1:].strip()}")
        else:
            lines.append(Line(mark, line))
    return lines


def _raw(
    raw: list[str], file: str, first: int, files: Files | None, within: tuple[str, ...]
) -> Iterator[tuple[str, str]]:
    """Every line as written with where it stands, those of files that are included in their place."""
    for place, line in enumerate(raw, start=first):
        mark = f"{place} of {file}" if file else str(place)
        words = line.split(maxsplit=1)
        if not words or words[0].lower() not in (".include", ".inc", ".lib"):
            yield mark, line
            continue
        asked = re.findall(
            r"\"([^\"]*)\"|'([^']*)'|(\S+)", re.split(r";|\s\$\s", words[1])[0] if len(words) > 1 else ""
        )
        named = ["".join(one) for one in asked]
        if not 1 <= len(named) <= (2 if words[0].lower() == ".lib" else 1):
            raise NetlistRefused(f"Line {mark}: {words[0]} wants the name of a file beside this one.")
        if files is None:
            raise NetlistRefused(
                f"Line {mark}: nothing can be included here; put what {named[0]} holds into the netlist."
            )
        if named[0] in within or len(within) > _MOST_FILES:
            raise NetlistRefused(f"Line {mark}: {named[0]} includes itself.")
        try:
            body = files(named[0]).splitlines()
        except NetlistRefused as refusal:
            raise NetlistRefused(f"Line {mark}: {refusal}") from None
        begin, end = _section(body, named[1], mark) if len(named) == 2 else (0, len(body))
        yield from _raw(body[begin:end], named[0], begin + 1, files, (*within, named[0]))


def _section(body: list[str], name: str, mark: str) -> tuple[int, int]:
    """From where to where a section of a library file goes."""
    begin = None
    for place, line in enumerate(body):
        words = line.lower().split()
        if words[:1] == [".lib"] and words[1:] == [name.lower()]:
            begin = place + 1
        elif begin is not None and words[:1] == [".endl"]:
            return begin, place
    raise NetlistRefused(f"Line {mark}: there is no section {name} from .lib to .endl in that file.")
