"""Where an element's line is read to: the circuit being built, its scopes and places."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Protocol

from thermionic import devices
from thermionic.circuit.spice.lines import Line
from thermionic.circuit.spice.words import Scope


@dataclass(frozen=True)
class Place:
    """Where an element stands: in which instance, and what its pins are connected to."""

    prefix: str
    nodes: Mapping[str, str]
    depth: int


class Builder(Protocol):
    """The netlist as it grows: what an element's function may ask of the reader."""

    line: str
    celsius: float
    couplings: list[tuple[str, tuple[str, ...], float]]

    def node(self, name: str, place: Place) -> str:
        """A node's full name."""
        ...

    def add(self, name: str, device: devices.Device, nodes: tuple[str, ...], prefix: str = "") -> None:
        """Add a part under its full name."""
        ...

    def sense(self, part: str, place: Place) -> str:
        """The node that reads the current into a part's first terminal."""
        ...

    def clock(self) -> str:
        """The node that reads the time."""
        ...

    def definitions(self, lines: list[Line], scope: Scope) -> list[Line]:
        """Take what a scope defines out of its lines."""
        ...

    def element(self, text: str, scope: Scope, place: Place) -> None:
        """Read one element."""
        ...
