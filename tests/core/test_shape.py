"""What keeps the code readable, counted: functions' arguments and lines, files' lines, what is asked of a body."""

import ast
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parents[2]
MOST_ARGUMENTS, MOST_LINES, LONGEST = 8, 60, 400


@pytest.mark.parametrize("half", ["thermionic", "bold_anode"])
def test_no_function_takes_over_8_arguments_or_60_lines(half):
    long = []
    for path in sorted((ROOT / half).rglob("*.py")):
        if "migrations" in path.parts:
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.FunctionDef):
                given = node.args
                arguments = len(given.posonlyargs) + len(given.args) + len(given.kwonlyargs)
                lines = node.end_lineno - node.lineno + 1
                if arguments > MOST_ARGUMENTS or lines > MOST_LINES:
                    long.append(f"{path.relative_to(ROOT)}:{node.lineno} {node.name}: {arguments}, {lines}")
    assert long == []


def test_no_file_of_code_has_over_400_lines():
    files = [path for half in ("thermionic", "bold_anode", "tools") for path in (ROOT / half).rglob("*.py")]
    sizes = {path.relative_to(ROOT): len(path.read_text().splitlines()) for path in files}
    assert len(sizes) > 400
    assert {path: size for path, size in sizes.items() if size > LONGEST and "migrations" not in path.parts} == {}


@pytest.mark.parametrize("half", ["thermionic", "bold_anode"])
def test_nobody_asks_a_body_for_its_family_by_name(half):
    asked = []
    for path in sorted((ROOT / half).rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            looked = node.args if isinstance(node, ast.Call) else [getattr(node, "left", None)]
            asks = isinstance(node, ast.Compare) or (isinstance(node, ast.Call) and "get" in ast.dump(node.func))
            if asks and any(isinstance(one, ast.Attribute) and one.attr == "family" for one in looked):
                asked.append(f"{path.relative_to(ROOT)}:{node.lineno}")
    assert asked == []
