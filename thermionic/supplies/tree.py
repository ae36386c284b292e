"""The supply as a tree from the mains to every point of use, with what flows in each branch."""

from __future__ import annotations

from dataclasses import dataclass, field

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks import Block, Flow, Group, split
from thermionic.blocks.facets import Copper, HeaterUse, Rail, Rectified
from thermionic.circuit.netlist import GROUND
from thermionic.devices import Feed, Resistor
from thermionic.supplies.ripple import written_ripple

_SUPPLY = {Flow.MAINS, Flow.CORE, Flow.WINDING, Flow.RAIL, Flow.BIAS}


@dataclass(frozen=True)
class Draw:
    """One consumer of a rail: the block, the field by which it hangs there, and the steady current that it takes, A,
    of all channels."""

    block: str
    field: str
    ampere: float


@dataclass
class Branch:
    """One block of a supply: what it gives and takes, who draws from it, and the supply blocks behind it.

    Volts are DC of a rail or bias, rms of a winding or of the mains; the ripple is as it is shown, "" where it is no
    rail; its current is the mean of a rail, rms of a winding or of the mains, A.
    """

    block: Block
    volt: float | None = None
    ripple: str = ""
    ampere: float | None = None
    rms: bool = False
    draws: list[Draw] = field(default_factory=list)
    behind: list[Branch] = field(default_factory=list)


def supply_tree(amplifier: SolvedAmplifier) -> list[Branch]:
    """The supplies, each from its first block. Raises NoSolution."""
    design = amplifier.design
    supplies = [block for block in design.blocks if block.group is Group.SUPPLY]
    branches = {block.id: _branch(amplifier, block) for block in supplies}
    roots = []
    for block in supplies:
        producer = next(
            (
                split(reference)[0]
                for name, reference in block.references.items()
                if set(type(block).reference_fields()[name]) & _SUPPLY and split(reference)[0] in branches
            ),
            None,
        )
        if producer is None:
            roots.append(branches[block.id])
        else:
            branches[producer].behind.append(branches[block.id])
    return roots


def _branch(amplifier: SolvedAmplifier, block: Block) -> Branch:
    compiled, state = amplifier.compiled, amplifier.state
    branch = Branch(block)
    rail = next((rail for rail in compiled.rails if rail.block == block.id), None)
    if rail is not None:
        branch.volt, branch.ripple = amplifier.voltage(rail.node), written_ripple(amplifier, rail.node)
        branch.draws = _draws(amplifier, rail)
        branch.ampere = sum(draw.ampere for draw in branch.draws)
        return branch
    use = next((use for use in compiled.said(Rectified) if use.block == block.id), None)
    if use is not None and state.mains is not None:
        branch.ampere = sum(state.of(name).mean_ampere for name in use.parts) / len(use.parts)
        plus, minus = (0.0 if node == GROUND else state.at.voltage(node) for node in (use.plus, use.minus))
        branch.volt = plus - minus
        return branch
    branch.rms = True
    coppers = [copper for copper in compiled.said(Copper) if copper.block == block.id]
    if coppers:
        branch.ampere = sum(copper.share**0.5 * amplifier.rms_ampere(copper.part) for copper in coppers)
        emf = amplifier.netlist[coppers[0].part].nodes[0]
        branch.volt = _rms(amplifier, emf)
        return branch
    heaters = [use for use in compiled.said(HeaterUse) if use.block == block.id]
    if heaters:
        chains = {use.chain: use for use in heaters}
        branch.ampere = sum(amplifier.rms_ampere(use.part) for use in chains.values())
        return branch
    for port, flow in block.ports().items():
        if flow in (Flow.MAINS, Flow.CORE):
            node = compiled.node(block.node(port))
            branch.volt = _rms(amplifier, node)
            own = compiled.by_path.get(f"blocks/{block.id}", ())
            series = next((name for name in own if _is_resistor(amplifier, name)), None)
            if series is not None:
                branch.ampere = amplifier.rms_ampere(series)
    return branch


def _is_resistor(amplifier: SolvedAmplifier, name: str) -> bool:
    return isinstance(amplifier.netlist[name].device, Resistor)


def _rms(amplifier: SolvedAmplifier, node: str) -> float | None:
    mains = amplifier.state.mains
    if mains is None or node not in mains.system.nodes:
        return None
    return float((mains.node_waveform(node) ** 2).mean() ** 0.5)


def _draws(amplifier: SolvedAmplifier, rail: Rail) -> list[Draw]:
    """Who takes what from a rail: everything at its node that belongs to a block that refers to it."""
    compiled, at = amplifier.compiled, amplifier.state.at
    node = compiled.node(rail.node)
    inner: dict[str, float] = {node: 1.0}
    for part in amplifier.netlist.parts:
        if isinstance(part.device, Feed) and part.nodes[0] == node:
            inner[part.nodes[1]] = float(part.device.channels)
    heaters = {use.part: use.block for use in compiled.said(HeaterUse)}
    draws = []
    for block in amplifier.design.blocks:
        for name, reference in block.references.items():
            if reference != f"{rail.block}.{rail.port}":
                continue
            total = 0.0
            for part in amplifier.netlist.parts:
                own = part.path == f"blocks/{block.id}" or part.path.startswith(f"blocks/{block.id}/")
                if not own and heaters.get(part.name) != block.id:
                    continue
                for place, end in enumerate(part.nodes):
                    if end in inner:
                        total += inner[end] * float(at.terminal_currents[part.name][place])
            draws.append(Draw(block.id, name, total))
    return draws
