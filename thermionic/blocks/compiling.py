"""Compiling a design to a netlist.

One channel is compiled, with the HT supply that all channels share. Where a stage hangs on a rail, a Feed
stands for the other channel, which is taken to be identical and driven alike.

Designators run in signal order: R1, C1, V1 (tubes), RV (volume), T1 (output transformer), LS1; the supply follows.
Nodes are named after the blocks: ``driver_anode``, ``output_cathode``, ``ht1``, ``reservoir``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from typing import Any, TypeVar

from thermionic import devices
from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.design import document as doc
from thermionic.design.document import Design

Component = TypeVar("Component", doc.Resistor, doc.Capacitor)

RESERVOIR = "reservoir"
SOURCE, WINDING = "VIN", "T2"


@dataclass(frozen=True)
class Compiled:
    """A netlist with the way back to the design: ``by_path`` maps a part's path to its designator."""

    design: Design
    netlist: Netlist
    by_path: dict[str, str]

    def warming(self) -> Compiled:
        """The same with tubes that come to temperature as theirs do, for a run from switch-on."""
        netlist = self.netlist
        for stage in self.design.stages:
            name = self.by_path[f"chain/{stage.id}"]
            netlist = netlist.with_device(name, self.design.tube(stage.tube).triode(warming=True))
        return replace(self, netlist=netlist)

    def designator(self, path: str) -> str:
        """The designator of the part that a design path, or a value within it, belongs to. Raises KeyError."""
        while path not in self.by_path:
            path, _, rest = path.rpartition("/")
            if not rest:
                raise KeyError(path)
        return self.by_path[path]

    def components(self, kind: type[Component]) -> Iterator[tuple[str, Component]]:
        """Every part of the design of one kind, a Resistor or a Capacitor, with its path, in netlist order."""
        for path in self.by_path:
            at: Any = self.design
            for name in path.split("/"):
                at = next(item for item in at if item.id == name) if isinstance(at, tuple) else getattr(at, name)
            if isinstance(at, kind):
                yield path, at


@dataclass
class _Build:
    """The netlist as it grows."""

    design: Design
    signal: str = ""
    parts: list[Part] = field(default_factory=list)
    by_path: dict[str, str] = field(default_factory=dict)
    counts: dict[str, int] = field(default_factory=dict)

    def add(self, prefix: str, device: devices.Device, *nodes: str, path: str = "") -> str:
        """Add a part with the next designator of its kind."""
        self.counts[prefix] = self.counts.get(prefix, 0) + 1
        return self.add_named(f"{prefix}{self.counts[prefix]}", device, *nodes, path=path)

    def add_named(self, name: str, device: devices.Device, *nodes: str, path: str = "") -> str:
        """Add a part whose name is given."""
        self.parts.append(Part(name, device, nodes, path))
        if path:
            self.by_path[path] = name
        return name

    def resistor(self, part: doc.Resistor | None, a: str, b: str, path: str) -> None:
        """A resistor, if the design has one there."""
        if part:
            self.add("R", devices.Resistor(part.ohm), a, b, path=path)

    def capacitor(self, part: doc.Capacitor | None, a: str, b: str, path: str) -> None:
        """A capacitor, if the design has one there."""
        if part:
            self.add("C", devices.Capacitor(part.farad), a, b, path=path)


def compile_design(design: Design) -> Compiled:
    """The netlist of a design. Raises UnknownTube."""
    build = _Build(design)
    for block in design.chain:
        _COMPILERS[type(block)](build, block)
    _supply(build, design.supply)
    return Compiled(design, Netlist(design.name, tuple(build.parts)), build.by_path)


def _input(build: _Build, block: doc.Input) -> None:
    tone = block.source_volt * 2**0.5
    build.add_named(SOURCE, devices.VoltageSource(0.0, tone), "source", GROUND, path=f"chain/{block.id}")
    build.signal = block.id
    build.add("R", devices.Resistor(block.source_ohm), "source", block.id,
              path=f"chain/{block.id}/source_ohm")  # fmt: skip


def _volume(build: _Build, block: doc.VolumeControl) -> None:
    pot = devices.Potentiometer(block.track_ohm, block.travel)
    build.add("RV", pot, build.signal, block.id, GROUND, path=f"chain/{block.id}")
    build.signal = block.id


def _grid_and_cathode(build: _Build, stage: doc.TriodeStage | doc.TriodeOutput) -> tuple[str, str]:
    """The parts around a stage's grid and cathode. Returns the nodes of grid and cathode."""
    path = f"chain/{stage.id}"
    if stage.coupling:
        before, build.signal = build.signal, f"{stage.id}_in"
        build.capacitor(stage.coupling, before, build.signal, f"{path}/coupling")
    build.resistor(stage.grid_leak, build.signal, GROUND, f"{path}/grid_leak")
    grid = f"{stage.id}_grid" if stage.grid_stopper else build.signal
    build.resistor(stage.grid_stopper, build.signal, grid, f"{path}/grid_stopper")
    cathode = f"{stage.id}_cathode"
    build.resistor(stage.cathode_resistor, cathode, GROUND, f"{path}/cathode_resistor")
    build.capacitor(stage.cathode_bypass, cathode, GROUND, f"{path}/cathode_bypass")
    return grid, cathode


def _feed(build: _Build, stage: doc.TriodeStage | doc.TriodeOutput) -> str:
    """The wire from the shared rail into this channel. Returns the node at its channel end."""
    node = f"{stage.id}_ht"
    build.add("F", devices.Feed(build.design.channels), stage.feed, node, GROUND)
    return node


def _tube(build: _Build, stage: doc.TriodeStage | doc.TriodeOutput, grid: str, cathode: str) -> str:
    """The tube itself. Returns its anode's node."""
    anode = f"{stage.id}_anode"
    build.add("V", build.design.tube(stage.tube).triode(), anode, grid, cathode, path=f"chain/{stage.id}")
    return anode


def _triode_stage(build: _Build, stage: doc.TriodeStage) -> None:
    grid, cathode = _grid_and_cathode(build, stage)
    anode = _tube(build, stage, grid, cathode)
    build.resistor(stage.anode_load, _feed(build, stage), anode, f"chain/{stage.id}/anode_load")
    build.signal = anode


def _triode_output(build: _Build, stage: doc.TriodeOutput) -> None:
    grid, cathode = _grid_and_cathode(build, stage)
    build.signal = _tube(build, stage, grid, cathode)
    _feed(build, stage)


def _output_transformer(build: _Build, block: doc.OutputTransformer) -> None:
    device = devices.OutputTransformer(
        block.turns_ratio,
        block.primary_henry,
        block.leakage_henry,
        block.primary_copper_ohm,
        block.secondary_copper_ohm,
    )
    stage = build.design.output_stage
    speaker = build.design.loudspeaker.id
    build.add("T", device, f"{stage.id}_ht", build.signal, speaker, GROUND, path=f"chain/{block.id}")
    build.signal = speaker


def _loudspeaker(build: _Build, block: doc.Loudspeaker) -> None:
    build.add_named("LS1", devices.Resistor(block.ohm), block.id, GROUND, path=f"chain/{block.id}")


def _supply(build: _Build, supply: doc.HTSupply) -> None:
    brief = build.design.brief
    peak = supply.winding_volt * brief.mains_volt / supply.primary_volt * 2**0.5
    winding = devices.RectifiedWinding(peak, supply.winding_ohm, brief.mains_hertz)
    build.add_named(WINDING, winding, RESERVOIR, GROUND, path="supply")
    build.capacitor(supply.reservoir, RESERVOIR, GROUND, "supply/reservoir")
    build.resistor(supply.bleeder, RESERVOIR, GROUND, "supply/bleeder")
    before = RESERVOIR
    for section in supply.sections:
        path = f"supply/sections/{section.id}"
        build.resistor(section.resistor, before, section.id, f"{path}/resistor")
        build.capacitor(section.capacitor, section.id, GROUND, f"{path}/capacitor")
        before = section.id


_COMPILERS: dict[type, Callable[[_Build, Any], None]] = {
    doc.Input: _input,
    doc.VolumeControl: _volume,
    doc.TriodeStage: _triode_stage,
    doc.TriodeOutput: _triode_output,
    doc.OutputTransformer: _output_transformer,
    doc.Loudspeaker: _loudspeaker,
}
