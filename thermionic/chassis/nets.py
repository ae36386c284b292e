"""The netlist as it is wired: every channel's copy of it, and the nodes that are one piece of copper.

The netlist has one channel, and what stands for the other (``devices.Feed``). On the chassis both are there: a net is
a node, of one channel where no shared part touches it.
"""

from __future__ import annotations

from dataclasses import dataclass

from thermionic.amplifier import Compiled
from thermionic.blocks.facets import HeaterFeed, Loop, Rail
from thermionic.blocks.ports import block_at
from thermionic.circuit.netlist import GROUND, Part
from thermionic.devices import Feed
from thermionic.lazily import lazily, remembered


@dataclass(frozen=True)
class Net:
    """A node of the netlist as wired; ``channel`` is 1 or 2, 0 for what is shared or where there is one channel."""

    node: str
    channel: int = 0

    @property
    def name(self) -> str:
        """It in words."""
        words = self.node.replace("_", " ") if self.node != GROUND else "signal earth"
        return f"{words} ({'left' if self.channel == 1 else 'right'})" if self.channel else words


EARTH = Net(GROUND)
PROTECTIVE = Net("protective earth")  # is on no node of the netlist


@dataclass(frozen=True, eq=False)
class Nets:
    """The nets of a compiled design."""

    compiled: Compiled

    @property
    def channels(self) -> tuple[int, ...]:
        """The numbers of the channels: (1, 2), or (0,) for one alone."""
        return (1, 2) if self.compiled.design.channels == 2 else (0,)

    @lazily
    def shared(self) -> frozenset[str]:
        """The ids of blocks that all channels share."""
        return frozenset(block.id for block in self.compiled.design.blocks if block.scope == "shared")

    def copies(self, block: str) -> tuple[int, ...]:
        """The channels that a block has a copy in."""
        return (0,) if block in self.shared else self.channels

    @lazily
    def _one(self) -> dict[str, str]:
        """Nodes that are the same copper as another: the two sides of what stands for the other channel."""
        return {part.nodes[1]: part.nodes[0] for part in self.compiled.netlist.parts if isinstance(part.device, Feed)}

    @lazily
    def _common(self) -> frozenset[str]:
        """Nodes that a shared part touches."""
        return frozenset(
            self._copper(node)
            for part in self.compiled.netlist.parts
            if block_of(part) in self.shared or isinstance(part.device, Feed)
            for node in part.nodes
        )

    def _copper(self, node: str) -> str:
        node = self.compiled.node(node)
        return self._one.get(node, node)

    def of(self, node: str, channel: int = 0) -> Net:
        """The net of a node, as a part of that channel touches it."""
        own = self._copper(node)
        return Net(own, 0 if own == GROUND or own in self._common else channel)

    @lazily
    def rails(self) -> dict[Net, Rail]:
        """The nets that are rails."""
        return {self.of(rail.node): rail for rail in self.compiled.rails}

    @lazily
    def loops(self) -> frozenset[str]:
        """The parts that carry feedback."""
        return frozenset(part for loop in self.compiled.said(Loop) for part in loop.parts)

    @lazily
    def heater_blocks(self) -> frozenset[str]:
        """The blocks that feed heaters."""
        return frozenset(feed.block for feed in self.compiled.said(HeaterFeed))


@remembered
def nets_of(compiled: Compiled) -> Nets:
    """The nets of a compiled design, found once."""
    return Nets(compiled)


def block_of(part: Part) -> str:
    """The block that a part belongs to, "" for one that no value stands for."""
    return block_at(part.path)
