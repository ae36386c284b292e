"""Compiling a design to a netlist, with what its blocks say of themselves."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any, TypeVar

from thermionic.amplifier.biasing import with_bias_found
from thermionic.blocks import Block, Component, Flow
from thermionic.blocks.build import Bench
from thermionic.blocks.building import Build
from thermionic.blocks.facets import (
    ConverterUse,
    Load,
    Loop,
    Rail,
    RectifierUse,
    Source,
    TransformerUse,
    TubeUse,
)
from thermionic.blocks.nodes import renamed
from thermionic.circuit.netlist import Netlist
from thermionic.design import Design, find, route
from thermionic.devices.base import Device
from thermionic.devices.triode import Cathode
from thermionic.errors import DesignRefused
from thermionic.lazily import lazily

Kind = TypeVar("Kind", bound=Component)
Said = TypeVar("Said")


@dataclass(frozen=True)
class Compiled:
    """A netlist with the way back to the design: ``by_path`` maps a path to the designators of its parts (a pair, or
    tubes side by side, have several), ``facets`` is what the blocks say of themselves."""

    design: Design
    netlist: Netlist
    by_path: dict[str, tuple[str, ...]]
    facets: tuple[Any, ...]
    aliases: dict[str, str]

    def said(self, kind: type[Said]) -> tuple[Said, ...]:
        """All facets of one sort, in the document's order."""
        return tuple(facet for facet in self.facets if isinstance(facet, kind))

    @lazily
    def tubes(self) -> tuple[TubeUse, ...]:
        """Every section at work as an amplifier."""
        return self.said(TubeUse)

    @lazily
    def rails(self) -> tuple[Rail, ...]:
        """Every rail."""
        return self.said(Rail)

    @lazily
    def loads(self) -> tuple[Load, ...]:
        """Everything that is driven."""
        return self.said(Load)

    @lazily
    def sources(self) -> tuple[Source, ...]:
        """Every signal source."""
        return self.said(Source)

    @lazily
    def transformers(self) -> tuple[TransformerUse, ...]:
        """Every signal transformer."""
        return self.said(TransformerUse)

    @lazily
    def rectifier_tubes(self) -> tuple[RectifierUse, ...]:
        """Every vacuum rectifier."""
        return self.said(RectifierUse)

    @lazily
    def loops(self) -> tuple[Loop, ...]:
        """Every feedback path."""
        return self.said(Loop)

    def like(self, other: Compiled) -> Compiled:
        """The same with the devices of a similar one where they are equal."""
        return replace(self, netlist=self.netlist.like(other.netlist))

    def tubes_of(self, block_id: str) -> tuple[TubeUse, ...]:
        """The sections of one block."""
        return tuple(use for use in self.tubes if use.block == block_id)

    def node(self, node: str) -> str:
        """A node's name in the netlist, where two were made one."""
        while node in self.aliases:
            node = self.aliases[node]
        return node

    @lazily
    def load(self) -> Load:
        """The load that the amplifier is judged at: that at the end of the longest way. Raises DesignRefused if there
        is none."""
        if not self.loads:
            raise DesignRefused(
                f"{self.design.name} drives nothing: it needs a loudspeaker, headphones or a line load."
            )
        return max(self.loads, key=lambda load: len(route(self.design, load.block)))

    @property
    def source(self) -> Source:
        """The source that drives it: the first. Raises DesignRefused if there is none."""
        if not self.sources:
            raise DesignRefused(f"{self.design.name} has no input: it needs a signal source.")
        return self.sources[0]

    def warming(self) -> Compiled:
        """The same with tubes that come to temperature as theirs do, and converters that come up, for a run from
        switch-on."""
        netlist = self.netlist
        heated = {use.part: use.type for use in self.tubes} | {use.part: use.type for use in self.rectifier_tubes}
        for name, type_ in heated.items():
            netlist = netlist.with_device(name, _warming(netlist[name].device, type_))
        for converter in self.said(ConverterUse):
            device: Any = netlist[converter.part].device
            netlist = netlist.with_device(converter.part, replace(device, rises_second=converter.rises_second))
        return replace(self, netlist=netlist)

    def designators(self, path: str, side: str = "") -> tuple[str, ...]:
        """The designators of the parts that a path, or a value within it, belongs to; of one side. Raises
        KeyError."""
        while path not in self.by_path:
            path, _, rest = path.rpartition("/")
            if not rest:
                raise KeyError(path)
        names = self.by_path[path]
        return tuple(name for name in names if self.netlist[name].side == side) or names if side else names

    def designator(self, path: str) -> str:
        """The first designator of a path. Raises KeyError."""
        return self.designators(path)[0]

    def components(self, kind: type[Kind]) -> Iterator[tuple[str, Kind]]:
        """Every part of the design of one kind, a Resistor or a Capacitor, with its path, in netlist order."""
        return ((path, value) for path, value in self._values if isinstance(value, kind))

    @lazily
    def _values(self) -> tuple[tuple[str, object], ...]:
        """What of the design each part came from, by its path."""
        return tuple((path, find(self.design, path).value) for path in self.by_path)


def _warming(device: Device, type_: Any) -> Device:
    assert isinstance(device, Cathode)
    return replace(device, warmup=type_.heater.warmup) if type_.heater else device  # type: ignore[type-var]


def compile_design(design: Design) -> Compiled:
    """The netlist of a design. Raises UnknownTube, and DesignRefused where blocks do not fit together."""
    used = Counter(section.partition(".")[0] for block in design.blocks for section in block.sections)
    taken = frozenset(reference for block in design.blocks for reference in block.references.values())
    build = Build(design, sections_used=dict(used), taken=taken)
    # A winding reads what its transformer is, and a rectifier what its winding is.
    for block in sorted(design.blocks, key=_mains_first):
        block.compile(Bench(build, block))
    return _finished(design, build)


_MAINS_SIDE = (Flow.MAINS, Flow.CORE, Flow.WINDING)


def _mains_first(block: Block) -> int:
    flows = block.ports().values()
    return next((place for place, flow in enumerate(_MAINS_SIDE) if flow in flows), len(_MAINS_SIDE))


def _finished(design: Design, build: Build) -> Compiled:
    """The netlist with the nodes that were joined under one name, and the facets with it."""
    aliases = build.aliases

    def name(node: str) -> str:
        while node in aliases:
            node = aliases[node]
        return node

    parts, facets = tuple(build.parts), build.facets
    if aliases:
        parts = tuple(replace(part, nodes=tuple(name(node) for node in part.nodes)) for part in parts)
        facets = [renamed(facet, name) for facet in facets]
    netlist = Netlist(design.name, parts)
    by_path = {path: tuple(names) for path, names in build.by_path.items()}
    return Compiled(design, netlist, by_path, tuple(with_bias_found(design, netlist, facets)), dict(aliases))
