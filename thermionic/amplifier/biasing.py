"""Which tubes have fixed bias: those whose grids hang, for direct current, on a bias rail, whichever way."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator
from dataclasses import replace
from typing import Any

from thermionic.blocks.facets import Bias, Rail, TubeUse
from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.design import Design
from thermionic.devices import Feed, Inductor, Potentiometer, Resistor, Transformer


def with_bias_found(design: Design, netlist: Netlist, facets: Iterable[Any]) -> list[Any]:
    """The facets with every tube section whose grid returns to a bias rail, through a winding, a choke or resistors,
    as one with fixed bias, set by that rail's trimmer."""
    facets = list(facets)
    rails = {rail.node: rail for rail in facets if isinstance(rail, Rail)}
    if not any(rail.bias for rail in rails.values()):
        return facets
    joined = _joined(netlist)

    def biased(use: TubeUse) -> TubeUse:
        if use.bias is Bias.FIXED:
            return use
        rail = _rail_behind(use.grid, joined, rails)
        if rail is None or not rail.bias:
            return use
        knob = design.block(rail.block).knob(rail.port)
        return replace(use, bias=Bias.FIXED, knob=f"blocks/{rail.block}/{knob}" if knob else use.knob)

    return [biased(facet) if isinstance(facet, TubeUse) else facet for facet in facets]


def _rail_behind(grid: str, joined: dict[str, set[str]], rails: dict[str, Rail]) -> Rail | None:
    """The nearest rail that a grid hangs on; None where it is earth, or nothing."""
    seen, pending = {grid}, [grid]
    while pending:
        node = pending.pop(0)
        if node in rails:
            return rails[node]
        for other in sorted(joined[node] - seen):
            seen.add(other)
            pending.append(other)
    return None


def _joined(netlist: Netlist) -> dict[str, set[str]]:
    """The nodes that direct current can go to from each, tubes and other semiconductors left out; not by way of
    earth."""
    result: dict[str, set[str]] = defaultdict(set)
    for part in netlist.parts:
        for first, second in _conducting(part):
            if GROUND not in (first, second):
                result[first].add(second)
                result[second].add(first)
    return result


def _conducting(part: Part) -> Iterator[tuple[str, str]]:
    """The pairs of a part's nodes between which it conducts."""
    nodes, device = part.nodes, part.device
    if isinstance(device, (Resistor, Inductor, Feed)):
        yield nodes[0], nodes[1]
    elif isinstance(device, Potentiometer):
        yield nodes[0], nodes[1]
        yield nodes[1], nodes[2]
    elif isinstance(device, Transformer):
        yield from zip(nodes[::2], nodes[1::2], strict=True)
