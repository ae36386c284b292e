"""A design as a row of a table, beside what it is compared with."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.blocks.facets import Load
from thermionic.performance.comparing import Comparison
from thermionic.values import Quantity, display

HEADS = (
    "Full output", "Distortion, low", "Damping", "Gain", "-3 dB", "Highest rail", "From wall", "Tubes, parts",
    "Findings",
)  # fmt: skip
_TOGETHER = "\u00a0"


@dataclass(frozen=True)
class Cell:
    """One number: its column's name, its text, and what it is against the other (``better``, ``worse`` or "")."""

    head: str
    text: str
    against: str = ""


def cells(load: Load, numbers: Comparison, other: Comparison | None = None) -> list[Cell]:
    """The row, in the order of ``HEADS``; against another design's where one is given."""
    result = sum(numbers.findings.values())
    words = ", ".join(f"{count} {name}" for name, count in numbers.findings.items()) if result else "none"
    texts: tuple[str, ...] = (
        load.written(numbers.full),
        f"{numbers.distortion:.2%}",
        f"{numbers.damping:.3g}",
        f"{20 * np.log10(numbers.gain):.1f} dB" if numbers.gain > 0 else "none",
        " to ".join([_hertz(numbers.low_hertz, "<2 Hz"), _hertz(numbers.high_hertz, ">1 MHz")]),
        display(numbers.highest_rail, Quantity.VOLTAGE),
        display(numbers.wall_watt, Quantity.POWER),
        f"{numbers.bottles}, {numbers.parts}",
    )
    # A number stays with its unit.
    texts = (*(text.replace(" ", _TOGETHER).replace(f"{_TOGETHER}to{_TOGETHER}", " to ") for text in texts), words)
    if other is None:
        return [Cell(head, text) for head, text in zip(HEADS, texts, strict=True)]
    against = (
        _more(numbers.full, other.full),
        _more(other.distortion, numbers.distortion),
        _more(numbers.damping, other.damping),
        "", "", "",
        _more(other.wall_watt, numbers.wall_watt),
        "", "",
    )  # fmt: skip
    return [Cell(head, text, how) for head, text, how in zip(HEADS, texts, against, strict=True)]


def _more(one: float, other: float) -> str:
    """Better where it is more by a twentieth, worse where it is less by that."""
    if one > 1.05 * other:
        return "better"
    return "worse" if one < other / 1.05 else ""


def _hertz(value: float | None, beyond: str) -> str:
    return display(value, Quantity.FREQUENCY, 2) if value else beyond
