"""What blocks say of themselves: nodes that follow when they are joined, and nobody who asks a block by name."""

import ast
from dataclasses import fields, is_dataclass
from pathlib import Path

import pytest

from thermionic.amplifier import compile_design
from thermionic.blocks import KINDS, Component
from thermionic.blocks.nodes import renamed
from thermionic.examples import example, names

ROOT = Path(__file__).resolve().parents[2]
BLOCKS = {"block", "winding", "source"}  # fields that name a block


def _texts(thing):
    """Every string of a facet that may be a node, with its field."""
    for field in fields(thing):
        value = getattr(thing, field.name)
        if is_dataclass(value) and type(value).__module__ == type(thing).__module__:
            yield from _texts(value)
        values = value.values() if isinstance(value, dict) else value if isinstance(value, tuple) else (value,)
        yield from ((field.name, value) for value in values if isinstance(value, str))


@pytest.mark.parametrize("name", names())
def test_every_node_of_a_facet_follows_where_nodes_are_joined(name):
    compiled = compile_design(example(name))
    nodes = {node for part in compiled.netlist.parts for node in part.nodes} - {"0"}
    for facet in compiled.facets:
        after = renamed(facet, lambda node: f"moved_{node}" if node in nodes else node)
        # A rail's node is called as its block.
        stayed = {field for field, text in _texts(after) if text in nodes and field not in BLOCKS}
        assert not stayed, (type(facet).__name__, stayed)


def test_nobody_asks_a_block_or_a_part_for_a_field_by_its_name():
    """What is read of a block is in a facet; the document is asked by path, in ``design``."""
    known = {name for kind in KINDS.values() for name in kind.model_fields}
    known |= {name for part in Component.__subclasses__() for name in part.model_fields}
    known -= {"id", "name", "kind", "input"}
    asked = []
    for path in sorted([*(ROOT / "thermionic").rglob("*.py"), *(ROOT / "bold_anode").rglob("*.py")]):
        if path.relative_to(ROOT).parts[:2] in (("thermionic", "blocks"), ("thermionic", "design")):
            continue
        for call in ast.walk(ast.parse(path.read_text())):
            if not isinstance(call, ast.Call) or getattr(call.func, "id", "") not in ("getattr", "hasattr"):
                continue
            what, field = call.args[0], call.args[1]
            named = isinstance(field, ast.Constant) and field.value in known
            if named or "block" in ast.unparse(what):
                asked.append(f"{path.relative_to(ROOT)}:{call.lineno} {ast.unparse(call)}")
    assert not asked, "\n".join(asked)
