"""What the wires of a layout are: terminals, wires of a class, pairs, and all of them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

import numpy as np

from thermionic.chassis.body import Attached, Body, Pin
from thermionic.chassis.nets import Net
from thermionic.devices.base import Array

Kind = Literal["mains", "HT AC", "heater", "HT", "bias", "signal", "feedback", "output", "earth", "protective earth"]


KINDS: tuple[Kind, ...] = (
    "mains", "HT AC", "heater", "HT", "bias", "signal", "feedback", "output", "earth", "protective earth",
)  # fmt: skip


# How deep under the sheet each class lies, m; which go along the edges; the usual cross-section, mm².
DEPTH: dict[Kind, float] = {
    "mains": 0.006, "HT AC": 0.006, "heater": 0.006, "HT": 0.022, "bias": 0.018, "signal": 0.012, "feedback": 0.014,
    "output": 0.026, "earth": 0.010, "protective earth": 0.008,
}  # fmt: skip


GAUGE: dict[Kind, float] = {
    "mains": 0.75, "HT AC": 0.5, "heater": 1.0, "HT": 0.5, "bias": 0.25, "signal": 0.25, "feedback": 0.25,
    "output": 0.75, "earth": 0.75, "protective earth": 1.5,
}  # fmt: skip


FRAME = "frame"


HEATER_SPACING, MAINS_SPACING = 0.0025, 0.003


UNTWISTED = 0.012  # m of a twisted pair that is open at either end


@dataclass(frozen=True, eq=False)
class Terminal:
    """A pin where wires of a net end: its body, its pin's name, its place in the room, m."""

    body: Body
    pin: Pin
    at: Array

    @property
    def key(self) -> str:
        """Its body's key and its pin's name."""
        return f"{self.body.key}.{self.pin.name}"

    @property
    def name(self) -> str:
        """It in words."""
        return f"{self.body.short} {self.pin.name}"


@dataclass(frozen=True, eq=False)
class Wire:
    """A wire between two terminals of a net: its class, its way in the room (points, 3), its shield."""

    key: str
    kind: Kind
    net: Net
    ends: tuple[Terminal, Terminal]
    points: Array
    shielded: bool = False
    drawn: bool = False

    @property
    def length(self) -> float:
        """m."""
        return length_of(self.points)


@dataclass(frozen=True, eq=False)
class Pair:
    """Two wires side by side that carry a current there and back, from one body to the next: what of (the block of a
    winding, "mains", or "heaters" that no winding of the design feeds), its class, its way, the distance between the
    two, how they are twisted (pitch, m, 0 for not), and the bottles that lie behind it, by body."""

    key: str
    kind: Kind
    of: str
    points: Array
    spacing: float
    pitch: float
    ends: tuple[str, str]
    behind: tuple[Body, ...] = ()

    @property
    def length(self) -> float:
        """m, of the two together as they lie, the twist left out."""
        return length_of(self.points)


@dataclass(frozen=True, eq=False)
class Wiring:
    """All wires of a layout; ``earths`` are the terminals of signal earth, ``frames`` mains transformers where they
    are bolted to the sheet, ``protective`` the inlet's earth pin and the bolt of protective earth, if both are
    there."""

    wires: tuple[Wire, ...]
    pairs: tuple[Pair, ...]
    earths: tuple[Terminal, ...]
    frames: tuple[Terminal, ...] = ()
    protective: tuple[Terminal, Terminal] | None = None


def length_of(points: Array) -> float:
    """The length of a polyline, m."""
    return float(np.sqrt((np.diff(points, axis=0) ** 2).sum(axis=1)).sum())


def attached(terminals: Iterable[Terminal]) -> list[Attached]:
    """All part terminals that meet at some pins."""
    return [one for terminal in terminals for one in terminal.pin.attached]
