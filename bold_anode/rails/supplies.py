"""The supply as a tree, from the mains to every point of use, its parts edited in place."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from bold_anode.amps.rooms import Shown
from bold_anode.frame.requests import Request
from thermionic import design as documents
from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks import Block
from thermionic.supplies.selenium import replacement, selenium_blocks
from thermionic.supplies.tree import Branch, supply_tree
from thermionic.values import Quantity, display


@dataclass(frozen=True)
class Chip:
    """A part that can be opened: its path, the value that the arrow keys step, its designator, what it is and its
    value."""

    path: str
    main: str
    designator: str
    name: str
    text: str


@dataclass(frozen=True)
class Draw:
    """One consumer of a rail and what it takes."""

    name: str
    text: str


@dataclass
class Node:
    """One block of the tree. ``forks`` are the branches behind it where there are several, ``next`` the one behind it
    where there is one."""

    block_id: str
    name: str
    kind: str
    volt: str
    ripple: str
    ampere: str
    chips: list[Chip]
    draws: list[Draw]
    ac: bool = False
    changed: bool = False
    forks: list[list[Node]] = field(default_factory=list)


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The tab."""
    amplifier = shown.solved.amplifier
    before = _figures(shown.before.amplifier) if shown.before else {}
    chains = [_chain(amplifier, root, before) for root in supply_tree(amplifier)]
    return "rails/supplies.html", {"chains": chains, "selenium": _selenium(amplifier)}


def _selenium(amplifier: SolvedAmplifier) -> list[dict[str, str]]:
    """What stands in for each selenium rectifier."""
    result = []
    for block_id in selenium_blocks(amplifier):
        one, _ = replacement(amplifier, block_id)
        result.append({
            "block": block_id,
            "name": amplifier.design.block(block_id).label,
            "selenium": display(one.selenium_volt, Quantity.VOLTAGE),
            "silicon": display(one.silicon_volt, Quantity.VOLTAGE),
            "restored": display(one.restored_volt, Quantity.VOLTAGE),
            "ohm": display(one.ohm, Quantity.RESISTANCE),
            "usual": display(one.usual_watt, Quantity.POWER),
            "high": display(one.high_watt, Quantity.POWER),
            "rating": f"{one.rating_watt:g} W",
            "reverse": f"{one.reverse_volt:g} V",
        })  # fmt: skip
    return result


def _figures(amplifier: SolvedAmplifier) -> dict[str, str]:
    """What stood at each branch, to mark what is another now."""
    result: dict[str, str] = {}
    pending = supply_tree(amplifier)
    while pending:
        branch = pending.pop()
        result[branch.block.id] = _volt(branch) + _ampere(branch)
        pending += branch.behind
    return result


def _chain(amplifier: SolvedAmplifier, root: Branch, before: dict[str, str]) -> list[Node]:
    """A branch and what follows it one by one, up to where it forks."""
    nodes = []
    branch = root
    while True:
        node = _node(amplifier, branch)
        node.changed = branch.block.id in before and before[branch.block.id] != _volt(branch) + _ampere(branch)
        nodes.append(node)
        if len(branch.behind) != 1:
            node.forks = [_chain(amplifier, one, before) for one in branch.behind]
            return nodes
        branch = branch.behind[0]


def _node(amplifier: SolvedAmplifier, branch: Branch) -> Node:
    block = branch.block
    behind = {one.block.id for one in branch.behind}
    draws = [
        Draw(amplifier.design.block(one.block).label, display(one.ampere, Quantity.CURRENT))
        for one in branch.draws
        if one.block not in behind
    ]
    return Node(
        block.id,
        block.label,
        "" if type(block).title == block.label else type(block).title,
        _volt(branch),
        branch.ripple,
        _ampere(branch),
        _chips(amplifier, block),
        draws,
        branch.rms,
    )


def _volt(branch: Branch) -> str:
    if branch.volt is None:
        return ""
    return display(branch.volt, Quantity.VOLTAGE) + (" AC" if branch.rms else "")


def _ampere(branch: Branch) -> str:
    if branch.ampere is None:
        return ""
    return display(abs(branch.ampere), Quantity.CURRENT) + (" rms" if branch.rms else "")


def _chips(amplifier: SolvedAmplifier, block: Block) -> list[Chip]:
    """The block as a whole, then each of its parts."""
    path = f"blocks/{block.id}"
    result = [Chip(path, "", "", "", block.in_words or "settings")]
    for name, part in block.components.items():
        own = f"{path}/{name}"
        try:
            designator = amplifier.compiled.designator(own)
        except KeyError:
            designator = ""
        main = documents.field(amplifier.design, f"{own}/{part.main}")
        value = display(main.value, main.quantity) if main.quantity else main.text
        title = documents.find(amplifier.design, own).title
        result.append(Chip(own, f"{own}/{part.main}", designator, title, value))
    return result
