"""What grows while a design is compiled: parts, and what the blocks say of themselves."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Protocol

from thermionic.blocks.base import Block
from thermionic.blocks.facets import (
    BiasTrim,
    ConverterUse,
    Copper,
    Core,
    GasUse,
    HeaterFeed,
    HeaterUse,
    Indicated,
    LinearUse,
    Load,
    Loop,
    MainsSide,
    PassUse,
    Rail,
    Rectified,
    RectifierUse,
    SeriesCapacitors,
    Smoothing,
    Source,
    Standby,
    TransformerUse,
    TubeUse,
    Wafer,
    Winding,
)
from thermionic.circuit.netlist import Part
from thermionic.errors import DesignRefused
from thermionic.tubes import TubeType

Facet = (
    TubeUse
    | RectifierUse
    | Rectified
    | Copper
    | PassUse
    | GasUse
    | HeaterUse
    | HeaterFeed
    | BiasTrim
    | Core
    | MainsSide
    | SeriesCapacitors
    | Smoothing
    | Indicated
    | LinearUse
    | ConverterUse
    | Standby
    | Rail
    | Load
    | Source
    | TransformerUse
    | Loop
    | Winding
    | Wafer
)


class DesignView(Protocol):
    """What compiling needs of a design."""

    @property
    def channels(self) -> int:
        """How many identical channels."""

    @property
    def mains(self) -> tuple[float, float]:
        """The house's mains, V rms and Hz."""

    def block(self, block_id: str) -> Block:
        """The block of that id."""

    def tube_of(self, envelope: str) -> TubeType:
        """The type of an envelope."""

    def serves_all(self, envelope: str) -> bool:
        """Whether one bottle of an envelope serves all channels."""


@dataclass
class Build:
    """Parts and facets as the blocks give them."""

    design: DesignView
    parts: list[Part] = field(default_factory=list)
    by_path: dict[str, list[str]] = field(default_factory=dict)
    facets: list[Any] = field(default_factory=list)
    windings: dict[str, Winding] = field(default_factory=dict)
    cores: dict[str, Core] = field(default_factory=dict)
    terminals: dict[tuple[str, int], str] = field(default_factory=dict)
    taken: frozenset[str] = frozenset()
    aliases: dict[str, str] = field(default_factory=dict)
    tap_ohms: dict[tuple[str, str], float] = field(default_factory=dict)
    _counts: dict[str, int] = field(default_factory=dict)
    _owners: dict[str, str] = field(default_factory=dict)
    _fed: dict[tuple[str, str], str] = field(default_factory=dict)
    sections_used: dict[str, int] = field(default_factory=dict)

    def own(self, node: str, block_id: str) -> str:
        """Claim a node for a block. Raises DesignRefused if another block has it."""
        owner = self._owners.setdefault(node, block_id)
        if owner != block_id:
            raise DesignRefused(
                f"{node} is the name of a node of both {owner} and {block_id}; call one of the two blocks otherwise."
            )
        return node

    def next_name(self, prefix: str) -> str:
        """The next designator of a kind."""
        taken = {part.name for part in self.parts}
        while True:
            self._counts[prefix] = self._counts.get(prefix, 0) + 1
            name = f"{prefix}{self._counts[prefix]}"
            if name not in taken:
                return name

    def add(self, part: Part) -> str:
        """Add a part. Returns its name. Raises DesignRefused for one with both ends on one node."""
        if len(part.nodes) == 2 and part.nodes[0] == part.nodes[1]:
            raise DesignRefused(f"{part.name} ({part.path}) has both ends in the same place, {part.nodes[0]}.")
        self.parts.append(part)
        if part.path:
            self.by_path.setdefault(part.path, []).append(part.name)
        return part.name
