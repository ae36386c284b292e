"""The command line's contract: what it prints, and how it refuses."""

import json

import pytest

from thermionic import cli, examples, tubes
from thermionic.design import dump
from thermionic.report import ANALYSES


@pytest.fixture
def lantern(tmp_path):
    file = tmp_path / "lantern.json"
    file.write_text(json.dumps(dump(examples.example("lantern"))))
    return str(file)


def printed(capsys, *arguments):
    assert cli.main(list(arguments)) == 0
    return json.loads(capsys.readouterr().out)


def test_solve(capsys, lantern):
    result = printed(capsys, "solve", lantern)
    assert {"nodes", "parts", "signal", "findings"} <= set(result)
    assert {"current", "voltage", "dissipation"} <= set(result["parts"]["R8"])
    assert result["nodes"]["output_cathode"] / 910 == pytest.approx(result["parts"]["R8"]["current"], rel=1e-6)
    assert {"gain", "response", "power", "distortion"} <= set(result["signal"])
    assert result["findings"] == []
    netlist = cli.main(["spice", lantern]) or capsys.readouterr().out
    for node in result["nodes"]:
        assert f" {node} " in netlist or f" {node}\n" in netlist


@pytest.mark.parametrize("name", examples.names())
def test_every_example_goes_through_every_command_and_its_netlist_comes_back(name, capsys, tmp_path):
    file, netlist = tmp_path / f"{name}.json", tmp_path / f"{name}.cir"
    file.write_text(json.dumps(dump(examples.example(name))))
    result = printed(capsys, "solve", str(file))
    assert all(part["path"] == "" or part["path"].startswith("blocks/") for part in result["parts"].values())
    asked = [f"--{analysis}" for analysis in ANALYSES]
    assert set(printed(capsys, "solve", str(file), *asked)) >= set(ANALYSES)
    assert cli.main(["spice", str(file)]) == 0
    netlist.write_text(capsys.readouterr().out)
    again = printed(capsys, "solve", str(netlist))
    for node, volt in result["nodes"].items():
        assert again["op"][node] == pytest.approx(volt, rel=2e-3, abs=2e-3), node


def test_tube_and_tubes(capsys):
    point = printed(capsys, "tube", "12ax7", "--anode", "250", "--grid", "-2")
    assert set(point) == {"anode_a", "grid_a", "gm_s", "mu", "ra_ohm"}
    assert point["mu"] == pytest.approx(point["gm_s"] * point["ra_ohm"])
    assert printed(capsys, "tube", "2A3", "--anode", "-5", "--grid", "-200")["ra_ohm"] is None
    assert [tube["type"] for tube in printed(capsys, "tubes")] == list(tubes.all_types())
    assert printed(capsys, "schema")["title"] == "Design"


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["tube", "12AX", "--anode", "250", "--grid", "-2"], "not in the tube library"),
        (["tube", "ECC83", "--anode", "nan", "--grid", "-2"], "finite"),
        (["solve", "nowhere.json"], "nowhere.json"),
        (["solve", "."], "."),
    ],
)
def test_refusals_go_to_stderr_with_exit_code_2(capsys, arguments, says):
    assert cli.main(arguments) == 2
    captured = capsys.readouterr()
    assert says in captured.err
    assert captured.out == ""
    with pytest.raises(SystemExit) as usage:
        cli.main(["nonsense"])
    assert usage.value.code == 2


def test_a_broken_file_is_refused(capsys, tmp_path):
    file = tmp_path / "broken.json"
    file.write_text('{"chain": [')
    assert cli.main(["solve", str(file)]) == 2
    assert "not complete JSON" in capsys.readouterr().err
