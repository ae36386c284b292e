"""The demo amplifiers against an independent circuit simulator running the netlist that ``spice`` prints."""

import json
import re

import numpy as np
import pytest

from tests.core import simulator
from thermionic import cli, examples
from thermionic.amplifier import solve
from thermionic.design import changed, dump

pytestmark = simulator.needed
VOLTAGE, GAIN_DB, HARMONIC = 0.001, 0.1, 0.03
# The amplifiers are driven to this much of the source's level that gives full output.
DRIVE = 0.7

DESIGNS = {name: examples.example(name) for name in examples.names()}


def printed(design, tmp_path, capsys, *options):
    """The netlist as the command line prints it."""
    file = tmp_path / "design.json"
    file.write_text(json.dumps(dump(design)))
    assert cli.main(["spice", str(file), *options]) == 0
    return capsys.readouterr().out


@pytest.mark.parametrize("name", DESIGNS)
def test_operating_point_gain_and_distortion(name, tmp_path, capsys):
    design = DESIGNS[name]
    source = solve(design).compiled.source
    path = f"blocks/{source.block}/source_volt"
    design = changed(design, path, DRIVE * solve(design).full_output.source_volt)
    ours = solve(design)
    point = ours.at_source
    assert point is not None
    # Supplies and bias capacitors take seconds to come to where the drive holds them: the simulator starts there.
    row = ours.sweep.index(point)
    nodes = ours.state.at.system.nodes
    settled = " ".join(f"v({node})={ours.drive.x[row, k, 0].real:.9g}" for k, node in enumerate(nodes))
    text = printed(design, tmp_path, capsys).replace("\n.op\n", f"\n.ic {settled}\n.op\n")
    text = re.sub(r"\.tran (\S+) \S+ \S+ (\S+)", r".tran \1 0.15 0.14 \2", text)  # it need not settle first
    plots = simulator.run(text, tmp_path)
    op, ac, tran = (next(plot for plot in plots if word in plot[0]) for word in ("Operating", "AC", "Transient"))

    theirs = dict(zip(op[1], op[2][0], strict=True))
    for node in ours.netlist.nodes:
        assert ours.voltage(node) == pytest.approx(theirs[f"v({node})"], rel=VOLTAGE, abs=1e-4), node

    load, emf = ours.load.node, ours.source_node
    frequencies = ac[2][:, 0].real
    output = np.abs(ac[2][:, ac[1].index(f"v({load})")]) / np.abs(ac[2][:, ac[1].index(f"v({emf})")])
    tone = ours.small_signal.tone(frequencies)
    at = ours.state.at.system.node
    here = np.abs(tone[:, at(load)] / tone[:, at(emf)])
    heard = here > 1e-5 * here.max()
    np.testing.assert_allclose(20 * np.log10(here[heard]), 20 * np.log10(output[heard]), atol=GAIN_DB)

    time, wave = tran[2][:, 0], tran[2][:, tran[1].index(f"v({load})")]
    result = simulator.harmonics(time, wave, 1000.0, 5)
    assert point.output_volt == pytest.approx(np.sqrt(np.sum(result**2) / 2), rel=0.01)
    for order in (2, 3):
        theirs_at = result[order - 1] / result[0]
        assert point.harmonics[order - 2] == pytest.approx(theirs_at, rel=HARMONIC, abs=3e-5), order


@pytest.mark.parametrize("name", ["lantern", "beacon"])
def test_supply_over_the_mains_cycle(name, tmp_path, capsys):
    design = DESIGNS[name]
    ours = solve(design)
    ((_, names, data),) = simulator.run(printed(design, tmp_path, capsys, "--supply", "mains"), tmp_path)
    (copper,) = (part.device.ohm for part in ours.netlist.parts if part.name.startswith("RW"))
    time = data[:, 0]
    for node in (rail.node for rail in ours.compiled.rails):
        wave = data[:, names.index(f"v({node})")]
        mean = np.trapezoid(wave, time) / (time[-1] - time[0])
        assert ours.voltage(node) == pytest.approx(mean, rel=VOLTAGE), node
    reservoir = data[:, names.index("v(reservoir)")]
    assert ours.ripple("reservoir") == pytest.approx(np.ptp(reservoir), rel=0.03)
    winding = (data[:, names.index("v(winding_emf)")] - data[:, names.index("v(winding_end)")]) / copper
    (rectifier,) = ours.rectifiers
    assert rectifier.peak_ampere == pytest.approx(np.abs(winding).max(), rel=0.03)
    rms = np.sqrt(np.trapezoid(winding**2, time) / (time[-1] - time[0]))
    assert rectifier.winding_rms_ampere == pytest.approx(rms, rel=0.02)


def test_a_half_wave_rectifier_tube_over_the_mains_cycle(tmp_path, capsys):
    design = changed(DESIGNS["weir"], "blocks/rectifier/form", "half-wave")
    design = changed(design, "blocks/winding/winding_volt", "150 V")
    ours = solve(design)
    ((_, names, data),) = simulator.run(printed(design, tmp_path, capsys, "--supply", "mains"), tmp_path)
    time = data[:, 0]
    for rail in ours.compiled.rails:
        wave = data[:, names.index(f"v({rail.node})")]
        assert ours.voltage(rail.node) == pytest.approx(np.trapezoid(wave, time) / (time[-1] - time[0]), rel=2e-3)
        assert ours.ripple(rail.node) == pytest.approx(np.ptp(wave), rel=0.03, abs=1e-3)


@pytest.mark.parametrize(
    "edits",
    [
        {"envelopes/v1/type": "ECC83", "blocks/driver/cathode_resistor/ohm": "820", "channels": "1"},
        {
            "blocks/output/cathode_resistor/ohm": "330",
            "blocks/speaker/input": "transformer.4",
            "blocks/volume/travel": "0.2",
        },
        {
            "envelopes/v1/type": "6SN7GT",
            "blocks/driver/anode_load/ohm": "33k",
            "blocks/winding/winding_volt": "200 V",
        },
        {"envelopes/v1/type": "ECC88", "blocks/driver/anode_load/ohm": "22k", "blocks/speaker/ohm": "3R2"},
        {"envelopes/v2/type": "300B", "blocks/winding/winding_volt": "340 V", "brief/mains_hertz": "60 Hz"},
    ],
    ids=lambda edits: ", ".join(edits.values()),
)
def test_other_designs_too(edits, tmp_path, capsys):
    """Every tube type, hard drive and light, one channel and two."""
    design = DESIGNS["lantern"]
    for path, typed in edits.items():
        design = changed(design, path, typed)
    ours = solve(design)
    plots = simulator.run(printed(design, tmp_path, capsys), tmp_path)
    op, tran = (next(plot for plot in plots if word in plot[0]) for word in ("Operating", "Transient"))
    theirs = dict(zip(op[1], op[2][0], strict=True))
    for node in ours.netlist.nodes:
        assert ours.voltage(node) == pytest.approx(theirs[f"v({node})"], rel=1e-5, abs=1e-5), node
    point = ours.at_source
    if point is not None:
        time, wave = tran[2][:, 0], tran[2][:, tran[1].index(f"v({ours.load.node})")]
        result = simulator.harmonics(time, wave, 1000.0, 5)
        assert point.harmonics[0] == pytest.approx(result[1] / result[0], rel=HARMONIC)
        assert point.distortion == pytest.approx(np.sqrt(np.sum(result[1:] ** 2)) / result[0], rel=0.05)
