"""The graph that a design's references make: whether it hangs together, and in what order its blocks come."""

from __future__ import annotations

from collections.abc import Iterator
from graphlib import CycleError, TopologicalSorter

from thermionic.blocks import Block, Flow, split
from thermionic.design.document import Design
from thermionic.errors import DesignRefused, UnknownTube


def check(design: Design) -> None:
    """Raise DesignRefused, in a sentence a fault, unless every reference and section leads somewhere it may."""
    faults = [*_repeated(design), *_references(design), *_sections(design)]
    if not faults:
        faults = [*_circles(design), *_complaints(design), *_unfit(design)]
    if faults:
        more = f" And {len(faults) - 5} more faults." if len(faults) > 5 else ""
        raise DesignRefused(" ".join(faults[:5]) + more)


def _complaints(design: Design) -> Iterator[str]:
    takers: dict[str, list[Block]] = {}
    for block in design.blocks:
        for reference in block.references.values():
            takers.setdefault(split(reference)[0], []).append(block)
    for block in design.blocks:
        if reason := block.complaint(takers.get(block.id, [])):
            yield reason


def _unfit(design: Design) -> Iterator[str]:
    for block in design.blocks:
        if reason := block.unfit(design.tube_of):
            yield reason


def _repeated(design: Design) -> Iterator[str]:
    for names in ([block.id for block in design.blocks], [envelope.id for envelope in design.envelopes]):
        for name in dict.fromkeys(names):
            if names.count(name) > 1:
                yield f"Two of the design's parts are called {name}; every id must be its own."


def _references(design: Design) -> Iterator[str]:
    known = {block.id: block for block in design.blocks}
    for block in design.blocks:
        flows = type(block).reference_fields()
        for name, reference in block.references.items():
            producer_id, port = split(reference)
            producer = known.get(producer_id)
            given = producer.ports().get(port) if producer is not None else None
            if given is None:
                wanted, fitting = _wanted(design, block, name)
                yield (
                    f"{block.id}: its {_title(block, name)} is “{reference[:60]}”, which is no {wanted} of this "
                    f"design; there is {fitting}."
                )
            elif producer is block:
                yield f"{block.id}: its {_title(block, name)} cannot be the block itself."
            elif given not in flows[name]:
                wanted, fitting = _wanted(design, block, name)
                yield (
                    f"{block.id}: its {_title(block, name)} takes a {wanted}, and {reference[:60]} is a "
                    f"{given.value}; there is {fitting}."
                )
            elif block.scope == "shared" and known[producer_id].scope == "channel" and design.channels > 1:
                yield f"{block.id} belongs to both channels and cannot hang on {producer_id}, which each channel has."


def _title(block: Block, field_name: str) -> str:
    return str(type(block).model_fields[field_name].title or field_name).lower()


def _wanted(design: Design, block: Block, field_name: str) -> tuple[str, str]:
    """What a reference field takes and what there is of that, in words."""
    wanted = " or ".join(flow.value for flow in type(block).reference_fields()[field_name])
    return wanted, ", ".join(options(design, block, field_name)) or "nothing that fits"


def options(design: Design, block: Block, field_name: str) -> list[str]:
    """What the reference field of a block may be set to, in the document's order."""
    flows = type(block).reference_fields()[field_name]
    return [
        f"{other.id}.{port}"
        for other in design.blocks
        if other is not block
        for port, flow in other.ports().items()
        if flow in flows
    ]


def _sections(design: Design) -> Iterator[str]:
    known = {envelope.id: envelope for envelope in design.envelopes}
    for envelope in design.envelopes:
        try:
            design.tube_type(envelope.type)
        except UnknownTube as fault:
            yield f"envelopes, {envelope.id}, type: {fault}"
            return
    users: dict[str, str] = {}
    for block in design.blocks:
        for section in block.sections:
            name, _, letter = section.partition(".")
            if name not in known:
                yield (
                    f"{block.id} uses {section}, and there is no envelope {name}; there is "
                    f"{', '.join(known) or 'none'}."
                )
                continue
            try:
                design.tube_of(name).section(letter)
            except UnknownTube as fault:
                yield f"{block.id} uses {section}: {fault}"
            if section in users:
                yield f"{section} is used twice: by {users[section]} and by {block.id}."
            users[section] = block.id


def order(design: Design) -> list[Block]:
    """The blocks, each after those that it takes from; otherwise in the document's order. Raises DesignRefused."""
    sorter = _sorter(design)
    try:
        names = {name: place for place, name in enumerate(sorter.static_order())}
    except CycleError as fault:
        raise DesignRefused(f"The signal goes in a circle: {' to '.join(fault.args[1])}.") from None
    return sorted(design.blocks, key=lambda block: names[block.id])


def _sorter(design: Design) -> TopologicalSorter[str]:
    sorter: TopologicalSorter[str] = TopologicalSorter()
    for block in design.blocks:
        sorter.add(block.id, *_after(design, block))
    return sorter


def _after(design: Design, block: Block) -> list[str]:
    """The blocks that a block must come after."""
    result = []
    for name in type(block).reference_fields():
        reference = getattr(block, name)
        if not reference:
            continue
        producer, port = split(reference)
        flow = design.block(producer).ports().get(port)
        if flow is not None and flow.orders and not _goes_back(block, name):
            result.append(producer)
    return result


def _goes_back(block: Block, field_name: str) -> bool:
    """Whether a reference may go against the signal's way: feedback, extra parts, screens."""
    return Flow.PLACE in type(block).reference_fields()[field_name]


def _circles(design: Design) -> Iterator[str]:
    try:
        _sorter(design).prepare()
    except CycleError as fault:
        circle = fault.args[1]
        yield f"{circle[0]} takes from itself by way of {', '.join(circle[1:-1])}: the graph goes in a circle."


def signal_inputs(block: Block) -> dict[str, str]:
    """The references of a block by which its signal comes in: field to reference."""
    flows = type(block).reference_fields()
    return {
        name: reference
        for name, reference in block.references.items()
        if {Flow.SIGNAL, Flow.PAIR} & set(flows[name]) and Flow.PLACE not in flows[name]
    }


def route(design: Design, load_id: str) -> list[Block]:
    """The blocks that the signal goes through on its way to a load, from the source, the load last."""
    way = [design.block(load_id)]
    while True:
        inputs = signal_inputs(way[0])
        if not inputs:
            return way
        producer, _ = split(next(iter(inputs.values())))
        way.insert(0, design.block(producer))


def consumers(design: Design, block_id: str) -> list[tuple[Block, str, str]]:
    """Who takes from a block: the block, its field and the reference."""
    return [
        (block, name, reference)
        for block in design.blocks
        for name, reference in block.references.items()
        if split(reference)[0] == block_id
    ]
