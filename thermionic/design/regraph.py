"""Changing the graph of a design: blocks put in, taken out, moved, copied and swapped for another kind.

Every function returns a whole, validated design or raises DesignRefused with what stands in the way; nothing is left
dangling. What a removal would leave dangling can be taken out with it.
"""

from __future__ import annotations

from typing import Any

from thermionic.blocks import KINDS, Block, Flow, Group, split
from thermionic.design import sections
from thermionic.design.document import Design
from thermionic.design.graph import consumers, signal_inputs
from thermionic.design.paths import fitted
from thermionic.design.reading import dump, validate
from thermionic.errors import DesignRefused


def insert(design: Design, kind: str, near: str, *, before: bool = False) -> Design:
    """A new block of ``kind`` in the signal's way before or after the block ``near``; a supply behind another.

    Feeds and windings are taken from where ``near`` has them, else the last there is.
    """
    cls = _kind(kind)
    at = design.block(near)
    raw = dump(design)
    block = _new(design, raw, cls, at)
    name = _main(cls)
    if name:
        reference = _reference_at(design, at, before, cls.reference_fields()[name])
        if reference:
            block[name] = reference
        out = _output(cls, block)
        if out and reference:
            _divert(raw, design, reference, out, only=near if before else "")
    place = next(index for index, one in enumerate(raw["blocks"]) if one["id"] == near)
    raw["blocks"].insert(place + (0 if before else 1), block)
    return validate(raw)


def remove(design: Design, block_id: str, *, along: bool = False) -> Design:
    """The design without a block; what took its signal takes what it took. What would dangle otherwise is named in
    the refusal, or taken out too with ``along``."""
    block = design.block(block_id)
    inputs = signal_inputs(block) or _rails_in(block)
    passed = next(iter(inputs.values()), "")
    raw = dump(design)
    dangling = _release(design, raw, block, passed)
    if dangling and not along:
        words = ", ".join(f"{other.id} ({type(other).model_fields[name].title})" for other, name in dangling)
        raise DesignRefused(
            f"Without {block_id} this would hang on nothing: {words}. Take that out too, or rewire it first."
        )
    gone = {block_id}
    raw["blocks"] = [block for block in raw["blocks"] if block["id"] != block_id]
    for other, name in dangling:
        if type(other).model_fields[name].is_required():
            gone.add(other.id)
            raw["blocks"] = [block for block in raw["blocks"] if block["id"] != other.id]
        else:
            next(block for block in raw["blocks"] if block["id"] == other.id).pop(name, None)
    left = {
        f"{block['id']}: {value}"
        for block in raw["blocks"]
        for value in block.values()
        if isinstance(value, str) and "." in value and value.partition(".")[0] in gone
    }
    if left:
        raise DesignRefused(
            f"Without {', '.join(sorted(gone))} this would hang on nothing: {', '.join(sorted(left))}."
        )
    sections.drop_unused(raw)
    return validate(raw)


def duplicate(design: Design, block_id: str) -> Design:
    """The same block again, right behind it, with sections of its own."""
    block = design.block(block_id)
    raw = dump(design)
    copied = dict(next(block for block in raw["blocks"] if block["id"] == block_id))
    copied["id"] = _free_id(design, block_id)
    taken: list[str] = []
    for name in type(block).section_fields():
        types = [design.envelope(section.partition(".")[0]).type for section in copied[name]]
        copied[name] = sections.allot(design, raw, types, taken)
        taken += copied[name]
    out = next((port for port, flow in block.ports().items() if flow in (Flow.SIGNAL, Flow.PAIR, Flow.RAIL)), "")
    name = _main(type(block))
    if name and out:
        if block.ports()[out] not in type(block).reference_fields()[name]:
            raise DesignRefused(f"{block_id} gives a {block.ports()[out].value}, which another like it cannot take.")
        _divert(raw, design, f"{block_id}.{out}", f"{copied['id']}.{out}")
        copied[name] = f"{block_id}.{out}"
    place = next(index for index, one in enumerate(raw["blocks"]) if one["id"] == block_id)
    raw["blocks"].insert(place + 1, copied)
    return validate(raw)


def move(design: Design, block_id: str, *, later: bool) -> Design:
    """The block changed over with the one after it, or before it, in the signal's way."""
    block = design.block(block_id)
    name = _main(type(block))
    if not name:
        raise DesignRefused(f"{block_id} has no place in the signal's way that it could leave.")
    if later:
        following = [other for other, field, _ in consumers(design, block_id) if field == _main(type(other))]
        if len(following) != 1:
            raise DesignRefused(f"{block_id} cannot be moved later: {len(following)} blocks take from it.")
        return move(design, following[0].id, later=False)
    before = design.block(split(getattr(block, name))[0])
    over = _main(type(before))
    if not over:
        raise DesignRefused(f"{block_id} cannot be moved before {before.id}, where the signal begins.")
    out = next((port for port, flow in block.ports().items() if flow in (Flow.SIGNAL, Flow.PAIR)), "")
    if not out:
        raise DesignRefused(f"{block_id} is where the signal ends.")
    raw = dump(design)
    by_id = {block["id"]: block for block in raw["blocks"]}
    old = getattr(block, name)
    for other, field, reference in consumers(design, block_id):
        if field == _main(type(other)) and split(reference)[1] == out:
            by_id[other.id][field] = old
    by_id[block_id][name] = getattr(before, over)
    by_id[before.id][over] = f"{block_id}.{out}"
    order = [block["id"] for block in raw["blocks"]]
    a, b = order.index(before.id), order.index(block_id)
    raw["blocks"].insert(a, raw["blocks"].pop(b))
    return validate(raw)


def swap(design: Design, block_id: str, kind: str) -> Design:
    """Another kind in a block's place, with all that the two have in common kept."""
    return validate(_swapped(design, dump(design), block_id, kind))


def push_pull(design: Design, output_id: str, splitter: str = "cathodyne") -> Design:
    """A single-ended output stage made push-pull: a splitter before it, the stage a pair, its transformer with a
    centre tap and four times a single tube's share of load from anode to anode less a little, as is usual."""
    transformer = _single_ended(design, output_id)
    if transformer is None:
        raise DesignRefused(f"{output_id} is no single-ended output stage with a transformer of its own behind it.")
    stage, raw = design.block(output_id), dump(design)
    _swapped(design, raw, output_id, "common-cathode-pair")
    pair = next(block for block in raw["blocks"] if block["id"] == output_id)
    kinds = {envelope["id"]: envelope["type"] for envelope in raw["envelopes"]}
    types = [kinds[section.partition(".")[0]] for section in pair["tubes"]]
    pair["tubes_b"] = sections.allot(design, raw, types)
    if "cathode_resistor" in pair and "bias" not in pair:
        old = pair["cathode_resistor"]
        pair["cathode_resistor"] = {
            **old,
            "ohm": float(f"{old['ohm'] / 2:.3g}"),
            "rating_watt": 2 * old.get("rating_watt", 0.5),
        }
        pair["shared_cathode"] = True
    iron = next(block for block in raw["blocks"] if block["id"] == transformer.id)
    # The primary's inductance and copper are of twice the turns; the taps keep the loads they are called by.
    iron |= {"push_pull": True, "primary_ohm": 1.6 * iron["primary_ohm"], "primary_henry": 2 * iron["primary_henry"]}
    block = _new(design, raw, _kind(splitter), stage)
    block["input"] = getattr(stage, _main(type(stage)))
    pair["input"] = f"{block['id']}.out"
    place = next(index for index, one in enumerate(raw["blocks"]) if one["id"] == output_id)
    raw["blocks"].insert(place, block)
    return validate(raw)


def can_push_pull(design: Design, block_id: str) -> bool:
    """Whether a block is a single-ended output stage that ``push_pull`` takes."""
    return _single_ended(design, block_id) is not None


def _single_ended(design: Design, block_id: str) -> Block | None:
    """The transformer behind a single-ended output stage; None where a block is not that."""
    fields = type(design.block(block_id)).model_fields
    alone = "tubes" in fields and "tubes_b" not in fields and "anode_load" in fields
    if not alone or fields["anode_load"].is_required():
        return None
    behind = (other for other, _, _ in consumers(design, block_id) if "push_pull" in type(other).model_fields)
    transformer = next(behind, None)
    return None if transformer is None or fitted(design, f"blocks/{transformer.id}/push_pull") else transformer


# What they are made of.


def _kind(kind: str) -> type[Block]:
    if kind not in KINDS:
        raise DesignRefused(f"There is no kind of block called {kind[:40]}.")
    return KINDS[kind]


def _main(cls: type[Block]) -> str:
    """The reference by which a kind hangs on what comes before it; "" for what begins."""
    fields = cls.reference_fields()
    for flows in ({Flow.SIGNAL, Flow.PAIR}, {Flow.RAIL}, {Flow.WINDING}):
        for name, taken in fields.items():
            if set(taken) & flows and Flow.PLACE not in taken and cls.model_fields[name].is_required():
                return name
    return ""


def _output(cls: type[Block], raw: dict[str, Any]) -> str:
    """The port that a new block gives its signal or rail by."""
    made = cls.model_construct(**{name: info.get_default() for name, info in cls.model_fields.items()} | raw)
    for port, flow in made.ports().items() if "taps" not in cls.model_fields else ():
        if flow in (Flow.SIGNAL, Flow.PAIR, Flow.RAIL):
            return f"{raw['id']}.{port}"
    return ""


def _reference_at(design: Design, at: Block, before: bool, flows: tuple[Flow, ...]) -> str:
    """What a block put in before or after ``at`` takes: something of ``flows``; for a supply the last there is."""
    if before:
        name = _main(type(at))
        if not name:
            raise DesignRefused(f"Nothing can come before {at.id}: the signal begins there.")
        return str(getattr(at, name))
    for port, flow in at.ports().items():
        if (flow in (Flow.SIGNAL, Flow.PAIR) or flow in flows) and (flow in flows or Flow.SIGNAL in flows):
            return f"{at.id}.{port}"
    if not {Flow.SIGNAL, Flow.PAIR} & set(flows) and (result := _last(design, flows)):
        return result
    if not {Flow.SIGNAL, Flow.PAIR} & set(flows):
        raise DesignRefused(f"That takes a {flows[0].value}, and the design has none.")
    raise DesignRefused(f"Nothing can come after {at.id}: the signal ends there.")


def _divert(raw: dict[str, Any], design: Design, reference: str, to: str, only: str = "") -> None:
    """Whoever takes ``reference`` by their main field takes ``to`` instead; of ``only`` one block, if named."""
    flow = design.block(split(reference)[0]).ports()[split(reference)[1]]
    for other, field, taken in consumers(design, split(reference)[0]):
        # A signal goes through whatever is put in, and if that does not fit it is said; a winding does not.
        if taken == reference and field == _main(type(other)) and only in ("", other.id) and flow is not Flow.WINDING:
            next(block for block in raw["blocks"] if block["id"] == other.id)[field] = to


def _release(design: Design, raw: dict[str, Any], block: Block, passed: str) -> list[tuple[Block, str]]:
    """Rewire to ``passed`` whoever can take it in this block's stead. Returns who is left with which field."""
    flow = design.block(split(passed)[0]).ports()[split(passed)[1]] if passed else None
    dangling = []
    for other, field, _ in consumers(design, block.id):
        flows = type(other).reference_fields()[field]
        if flow is not None and flow in flows and Flow.PLACE not in flows:
            next(block for block in raw["blocks"] if block["id"] == other.id)[field] = passed
        else:
            dangling.append((other, field))
    return dangling


def _rails_in(block: Block) -> dict[str, str]:
    flows = type(block).reference_fields()
    return {
        name: ref
        for name, ref in block.references.items()
        if Flow.RAIL in flows[name] and block.group is Group.SUPPLY
    }


def _new(design: Design, raw: dict[str, Any], cls: type[Block], near: Block) -> dict[str, Any]:
    """A block as its kind is first put in, with tubes in envelopes and what feeds it found."""
    kind = str(cls.model_fields["kind"].default)
    block: dict[str, Any] = {"id": _free_id(design, kind.replace("-", "_")), "kind": kind, **cls.first}
    taken: list[str] = []
    for name in cls.section_fields():
        if name in block:
            block[name] = sections.allot(design, raw, block[name], taken)
            taken += block[name]
    for name, flows in cls.reference_fields().items():
        if name == _main(cls) or not _wanted(cls, name, block):
            continue
        own = getattr(near, name, None)
        result = own if isinstance(own, str) else _last(design, flows)
        if result is None:
            raise DesignRefused(f"A {cls.title.lower()} needs a {flows[0].value}, and the design has none.")
        block[name] = result
    return block


def _last(design: Design, flows: tuple[Flow, ...]) -> str | None:
    """The last port of the design that carries one of ``flows``."""
    ports = [f"{other.id}.{port}" for other in design.blocks for port, flow in other.ports().items() if flow in flows]
    return ports[-1] if ports else None


def _wanted(cls: type[Block], name: str, block: dict[str, Any]) -> bool:
    """Whether a new block needs a reference: a required one, or the feed of a load that it begins with."""
    return cls.model_fields[name].is_required() or (name == "feed" and "anode_load" in block)


def _free_id(design: Design, wanted: str) -> str:
    stem = wanted.rstrip("0123456789").rstrip("_") or "block"
    taken = {block.id for block in design.blocks}
    if wanted not in taken:
        return wanted
    return next(f"{stem}_{number}" for number in range(2, 100) if f"{stem}_{number}" not in taken)


def _swapped(design: Design, raw: dict[str, Any], block_id: str, kind: str) -> dict[str, Any]:
    cls = _kind(kind)
    place = next(index for index, one in enumerate(raw["blocks"]) if one["id"] == block_id)
    old = raw["blocks"].pop(place)
    kept = {name: value for name, value in old.items() if name in cls.model_fields and name != "kind"}
    new = {name: value for name, value in _new(design, raw, cls, design.block(block_id)).items() if name not in kept}
    # What the old kind could have had and did not stays left out.
    could = type(design.block(block_id)).model_fields
    required = {name for name, info in cls.model_fields.items() if info.is_required()}
    new = {name: value for name, value in new.items() if name in required or name not in could or name == "kind"}
    raw["blocks"].insert(place, {**new, **kept, "id": block_id, "kind": kind})
    sections.drop_unused(raw)
    return raw
