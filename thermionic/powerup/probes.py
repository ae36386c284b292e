"""Where to measure in each step of the first power-up: what a probe is on, as it is found on the drawing."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from enum import Enum

from thermionic.amplifier import Compiled, compile_design
from thermionic.blocks import Group
from thermionic.blocks.facets import Rail
from thermionic.circuit.netlist import GROUND, Netlist
from thermionic.design import Capacitor, Design
from thermionic.devices import Potentiometer


class Step(Enum):
    """How far the power-up has come."""

    NO_TUBES = "no-tubes"
    ALL_TUBES = "all-tubes"

    @property
    def title(self) -> str:
        """As it is said to the builder."""
        return {"no-tubes": "No tubes fitted", "all-tubes": "All tubes in"}[self.value]

    def title_for(self, design: Design) -> str:
        """As it is said of a design whose rectifier may be a tube itself, which stays in."""
        tube = self is Step.NO_TUBES and bool(compile_design(design).rectifier_tubes)
        return "No tubes but the rectifier" if tube else self.title


@dataclass(frozen=True)
class Probe:
    """Where to put the probes: ``node`` to earth, DC, or AC rms at 1 kHz with the test signal on; ``what`` it is the
    voltage of, in a word."""

    key: str
    title: str
    place: str
    node: str
    ac: bool = False
    what: str = "voltage"


def probes(compiled: Compiled, netlist: Netlist, step: Step) -> tuple[Probe, ...]:
    """The probes of a step, in the order to measure: rails with their capacitors, then each tube's electrodes, then
    the signal. Of points on one node the first is measured."""
    seen: set[str] = {GROUND}
    chosen = []
    for probe in (*_supply_probes(compiled, netlist), *_tube_probes(compiled)):
        if probe.node not in seen and probe.node in netlist.nodes:
            seen.add(probe.node)
            chosen.append(probe)
    if step is Step.ALL_TUBES:
        chosen += _signal_probes(compiled)
    return tuple(chosen)


def _supply_probes(compiled: Compiled, netlist: Netlist) -> Iterator[Probe]:
    """Each rail, and before it each capacitor of its block that is from another point to earth."""
    for rail in compiled.rails:
        yield from _capacitor_probes(compiled, netlist, rail)
        title = f"{'Bias' if rail.bias else 'HT'} at {rail.name.replace('_', ' ')}"
        what = "bias" if rail.bias else "voltage"
        yield Probe(rail.name, title, place_of(compiled, netlist, rail), rail.node, what=what)


def _capacitor_probes(compiled: Compiled, netlist: Netlist, rail: Rail) -> Iterator[Probe]:
    block = compiled.design.block(rail.block)
    if block.group is not Group.SUPPLY:
        return
    for path, _ in compiled.components(Capacitor):
        if not path.startswith(f"blocks/{rail.block}/"):
            continue
        for name in compiled.designators(path):
            nodes = set(netlist[name].nodes) - {GROUND} if name in netlist else set()
            if len(nodes) == 1 and nodes != {rail.node}:
                (node,) = nodes
                field = type(block).model_fields[path.rpartition("/")[2]].title or "capacitor"
                yield Probe(node, f"{name}, {field.lower()} of {block.label.lower()}", f"across {name}", node)


def place_of(compiled: Compiled, netlist: Netlist, rail: Rail) -> str:
    """Where a rail's volts are found: across its capacitor if that is from there to earth, else at a wiper, else at a
    part that ends there."""
    capacitors = compiled.designators(rail.capacitor) if rail.capacitor else ()
    for name in capacitors:
        if name in netlist and set(netlist[name].nodes) == {rail.node, GROUND}:
            return f"across {name}"
    for part in netlist.parts:
        if isinstance(part.device, Potentiometer) and part.nodes[1] == rail.node:
            return f"wiper of {part.name} to earth"
    named = [part.name for part in netlist.parts if part.path and rail.node in part.nodes]
    return f"{named[0]} to earth" if named else "to earth"


def _tube_probes(compiled: Compiled) -> Iterator[Probe]:
    for use in compiled.tubes:
        for electrode in ("anode", "screen", "cathode", "grid"):
            if electrode in use.nodes:
                title = f"{use.part} {electrode}" + (f", {use.type.type}" if electrode == "anode" else "")
                place, what = f"{electrode} to earth at the socket", "bias" if electrode == "grid" else "voltage"
                yield Probe(use.nodes[electrode], title, place, use.nodes[electrode], what=what)


def _signal_probes(compiled: Compiled) -> Iterator[Probe]:
    last = compiled.tubes[-1].block if compiled.tubes else ""
    seen: set[str] = set()
    for use in compiled.tubes:
        if (use.block != last or not compiled.load.power) and use.output not in seen:
            seen.add(use.output)
            place = "AC, through 100 nF rated 630 V"
            where = "anode" if use.output == use.anode else "output"
            yield Probe(f"{use.output}_ac", f"{use.part} {where}, signal", place, use.output, ac=True)
    load = compiled.load
    title = compiled.design.block(load.block).label
    title = "Loudspeaker" if load.power else title
    place = "AC, across the dummy load" if load.power else "AC, across the load"
    yield Probe(f"{load.block}_ac", f"{title}, signal", place, load.node, ac=True)
