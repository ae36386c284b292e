"""Which section of which envelope a tube position has: free ones, new ones, and envelopes that nothing uses."""

from __future__ import annotations

from typing import Any

from thermionic.blocks import KINDS
from thermionic.design.document import Design

NEW = "new"  # typed for a section: one of an envelope of its own


def allot(design: Design, raw: dict[str, Any], types: list[str], taken: list[str] | None = None) -> list[str]:
    """A free section for each type: of an envelope of the document that has one left, else of one put into it.

    ``taken`` are sections that are spoken for besides those in the document. Raises UnknownTube.
    """
    result: list[str] = []
    for name in types:
        used = _used(raw) | {*result, *(taken or ())}
        wanted = design.tube_type(name)
        section = next(
            (
                f"{envelope['id']}.{letter}"
                for envelope in raw["envelopes"]
                if envelope["type"] == wanted.type and envelope.get("split") != "channels"
                for letter in wanted.section_letters
                if f"{envelope['id']}.{letter}" not in used
            ),
            None,
        )
        result.append(section or _new_envelope(raw, wanted.type))
    return result


def _new_envelope(raw: dict[str, Any], type_name: str) -> str:
    taken = {envelope["id"] for envelope in raw["envelopes"]}
    new = next(f"v{number}" for number in range(1, 100) if f"v{number}" not in taken)
    raw["envelopes"].append({"id": new, "type": type_name})
    return f"{new}.a"


def moved(design: Design, raw: dict[str, Any], now: str, typed: list[str]) -> list[str]:
    """What was typed for a position that had the section ``now``, with an envelope put in for every "new"."""
    type_name = design.envelope(now.partition(".")[0]).type
    return [_new_envelope(raw, type_name) if one.lower() == NEW else one for one in typed]


def choices(design: Design, sections: tuple[str, ...]) -> tuple[str, ...]:
    """What a position with a single section may have instead: any that is free and does the same, or one of a new
    envelope. Empty for a position with several."""
    if len(sections) != 1:
        return ()
    envelope, _, letter = sections[0].partition(".")
    kind = design.tube_of(envelope).section(letter).kind
    used = {section for block in design.blocks for section in block.sections} - set(sections)
    free = [
        f"{one.id}.{other}"
        for one in design.envelopes
        for other in design.tube_of(one.id).section_letters
        if one.split != "channels" or one.id == envelope
        if f"{one.id}.{other}" not in used and design.tube_of(one.id).section(other).kind == kind
    ]
    alone = not any(section.partition(".")[0] == envelope for section in used)
    return (*free, *(() if alone else (NEW,)))


def drop_unused(raw: dict[str, Any]) -> None:
    """Take out envelopes that no position uses."""
    used = {section.partition(".")[0] for section in _used(raw)}
    raw["envelopes"] = [envelope for envelope in raw["envelopes"] if envelope["id"] in used]


def _used(raw: dict[str, Any]) -> set[str]:
    return {
        section
        for block in raw["blocks"]
        for name in KINDS[block["kind"]].section_fields()
        for section in block.get(name) or ()
    }
