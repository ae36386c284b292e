"""Every kind of block against an independent result: the other simulator, a closed form, or a published operation."""

import csv
from pathlib import Path
from typing import Literal

import numpy as np
import pytest

from tests.core import simulator
from thermionic import devices, examples
from thermionic.amplifier import compile_design, composite_diagram, solve, working_class
from thermionic.blocks import KINDS, Block, Group
from thermionic.blocks.fields import Resistor, named
from thermionic.blocks.ports import Flow, SignalRef
from thermionic.circuit import spice
from thermionic.design import changed, dump, field, fit_part, optional_parts, validate
from thermionic.design.regraph import insert, swap
from thermionic.devices.scatter import deviations
from thermionic.errors import DesignRefused, ThermionicError
from thermionic.powerup.devices import failures

REFERENCE = Path(__file__).parent / "reference"


def with_kind(kind):
    """An example with the block in it: one that has it, else one that it can be put into."""
    for name in examples.names():
        design = examples.example(name)
        if any(block.kind == kind for block in design.blocks):
            return design
    for name, near in (("lantern", "driver"), ("lantern", "ht3"), ("hurdle", "splitter"), ("saltpan", "output")):
        design = examples.example(name)
        for change in (
            lambda design, near=near: insert(design, kind, near),
            lambda design, near=near: insert(design, kind, near, before=True),
            lambda design, near=near: swap(design, near, kind),
        ):
            try:
                return change(design)
            except DesignRefused:
                continue
    raise AssertionError(f"no example takes a {kind}")


def with_all_parts(design, kind):
    """The design with every optional part of that kind of block that goes with the rest."""
    for block in design.blocks:
        for path, there in optional_parts(design).items():
            if block.kind == kind and path.startswith(f"blocks/{block.id}/") and not there:
                try:
                    design = fit_part(design, path, True)
                except ThermionicError:
                    continue
    return design


@simulator.needed
@pytest.mark.parametrize("whole", [False, True], ids=["as first put in", "with all parts"])
@pytest.mark.parametrize("kind", sorted(KINDS))
def test_a_block_has_the_voltages_and_the_response_of_the_other_simulator(kind, whole, tmp_path):
    design = with_kind(kind)
    if whole:
        design = with_all_parts(design, kind)
    ours = solve(design)
    text = spice.write(ours.netlist, state=ours.state, watch=ours.load.node)
    lines = [line for line in text.splitlines() if not line.startswith((".tran", ".four"))]
    plots = simulator.run("\n".join(lines) + "\n", tmp_path)
    op, ac = (next(plot for plot in plots if word in plot[0]) for word in ("Operating", "AC"))
    theirs = dict(zip(op[1], op[2][0], strict=True))
    for node in ours.netlist.nodes:
        assert ours.voltage(node) == pytest.approx(theirs[f"v({node})".lower()], rel=1e-3, abs=1e-3), node
    frequencies = ac[2][:, 0].real
    tone = np.abs(ours.small_signal.tone(frequencies))
    for node in (ours.load.node, *(use.anode for use in ours.compiled.tubes)):
        here = tone[:, ours.state.at.system.node(ours.compiled.node(node))]
        there = np.abs(ac[2][:, ac[1].index(f"v({ours.compiled.node(node)})".lower())])
        heard = there > 1e-7
        np.testing.assert_allclose(20 * np.log10(here[heard] / there[heard]), 0.0, atol=0.1, err_msg=node)


@pytest.mark.parametrize("kind", sorted(KINDS))
def test_every_device_of_a_block_differs_and_fails_in_its_own_way(kind):
    """Builds, bands and faults ask by class: one that is not registered raises TypeError."""
    design = with_all_parts(with_kind(kind), kind)
    for part in compile_design(design).netlist.parts:
        assert all(0 < deviation.tolerance < 1 for deviation in deviations(part.device)), part.name
        assert all(failure.weight > 0 for failure in failures(part.device, False)), part.name


def decibels(amplifier, hertz, node="", source=""):
    """Gain from the source to a node (the load by default) at frequencies, dB."""
    tone = amplifier.small_signal.tone(np.asarray(hertz, dtype=float))
    system, name = amplifier.state.at.system, amplifier.compiled.node
    at = (
        tone[:, system.node(name(node or amplifier.load.node))]
        / tone[:, system.node(name(source or amplifier.source_node))]
    )
    return 20 * np.log10(np.abs(at))


def replay(hertz):
    """The replay curve of IEC 60098 (time constants 3180, 318 and 75 µs), dB against 1 kHz."""
    s = 2j * np.pi * np.append(np.asarray(hertz, dtype=float), 1000.0)
    h = (1 + 318e-6 * s) / ((1 + 3180e-6 * s) * (1 + 75e-6 * s))
    level = 20 * np.log10(np.abs(h))
    return level[:-1] - level[-1]


def test_the_phono_preamplifier_follows_the_published_replay_curve():
    hertz = [30, 100, 300, 1000, 3000, 10_000, 20_000]
    plover = solve(examples.example("plover"))
    result = decibels(plover, hertz, source="cartridge")
    np.testing.assert_allclose(result - result[3], replay(hertz), atol=0.6)


def test_a_volume_control_has_its_law_and_a_pad_its_ratio():
    lantern = examples.example("lantern")
    unloaded = changed(lantern, "blocks/driver/grid_leak/ohm", "1M")
    for law, share in (("linear", 0.5), ("log", (81**0.5 - 1) / 80)):
        design = changed(changed(unloaded, "blocks/volume/law", law), "blocks/volume/travel", "0.5")
        track = 100e3
        below = 1 / (1 / (share * track) + 1 / 1e6)
        expected = below / (below + (1 - share) * track + 220.0)
        assert solve(design).gain("volume") == pytest.approx(expected, rel=1e-3)
    padded = solve(insert(lantern, "pad", "volume", before=True))
    assert padded.gain("pad", "input") == pytest.approx(1 / (1 + 47e3 / (1 / (1 / 10e3 + 1 / 1e5))), rel=0.02)


def test_splitters_split():
    """A cathodyne with equal loads gives both sides the same, just under one; a pair on a current source too."""
    hurdle = solve(examples.example("hurdle"))
    a, b = (hurdle.gain(node, "first_anode") for node in ("splitter_anode", "splitter_cathode"))
    # The splitter idles 0.4 V below its cathode, where its grid draws a little: half a percent of the anode's signal.
    assert a == pytest.approx(b, rel=0.01)
    assert a < b
    assert 0.9 < a < 1.0
    design = examples.example("saltpan")
    design = fit_part(fit_part_raw(design, "tail"), "blocks/splitter/anode_load_b", False)
    pair = solve(design)
    a, b = (pair.gain(f"splitter_anode_{side}") for side in "ab")
    assert a == pytest.approx(b, rel=0.01)


def fit_part_raw(design, name):
    """The splitter's tail resistor changed for a current source of the same current, in one go."""
    raw = dump(design)
    block = next(block for block in raw["blocks"] if block["id"] == "splitter")
    del block[name]
    block["tail_source"] = {"ampere": 1.3e-3}
    return validate(raw)


def test_a_current_source_gives_its_current_and_a_led_its_drop():
    design = fit_part_raw(examples.example("saltpan"), "tail")
    solved = solve(design)
    assert solved.part("blocks/splitter/tail_source").current == pytest.approx(1.3e-3, rel=0.02)
    raw = dump(examples.example("lantern"))
    driver = next(block for block in raw["blocks"] if block["id"] == "driver")
    del driver["cathode_resistor"], driver["cathode_bypass"]
    driver["cathode_led"] = {"count": 1}
    assert solve(validate(raw)).voltage("driver_cathode") == pytest.approx(1.6, abs=0.12)


def test_a_follower_has_the_output_impedance_of_its_tube():
    """1 / (gm + 1/ra) in parallel with its load, from the triode's slopes at its operating point."""
    sluice = solve(examples.example("sluice"))
    use = next(use for use in sluice.compiled.tubes if use.block == "follower")
    at = sluice.state.at
    place = at.system.place(use.part)
    slopes = at.port_slopes[place.injects, place.ports]
    expected = 1 / (slopes[1, 0] + slopes[1, 1] + 1 / 33e3)
    assert abs(sluice.small_signal.impedance(use.cathode, 1000.0)) == pytest.approx(expected, rel=0.02)


def published(row):
    """A published output stage made of blocks on regulated rails."""
    pair, tube = row["class"] == "push-pull", row["type"]
    cathode = "resistor" in row["bias"]
    ohm = float(row["bias"].split()[-2]) if cathode else 0.0
    grid = 0.0 if cathode else float(row["bias"].split()[1])
    drive = float(row["drive_v_peak_grid_or_grid_to_grid"]) / (2 if pair else 1)
    # The published anode voltage is at the anode; with cathode bias it is the rail's.
    blocks = [
        {"id": "input", "kind": "input", "source_volt": drive / 2**0.5, "source_ohm": 1.0},
        {"id": "rail", "kind": "regulated-source", "volt": float(row["anode_v"]), "ohm": 0.01},
        {"id": "speaker", "kind": "loudspeaker", "input": "transformer.8", "ohm": 8.0},
        {
            "id": "transformer",
            "kind": "output-transformer",
            "input": "output.out",
            "feed": "rail.out",
            "push_pull": pair,
            "primary_ohm": float(row["load_ohm_anode_or_anode_to_anode"]),
            "primary_henry": 1000.0,
            "leakage_henry": 1e-6,
            "primary_copper_ohm": 0.1,
            "taps": [{"id": "8", "copper_ohm": 0.001}],
        },
    ]
    if grid:
        blocks.append({"id": "bias", "kind": "regulated-source", "volt": grid, "ohm": 1.0})
    stage = {
        "id": "output",
        "coupling": {"farad": 1e-5, "rating_volt": 400},
        "grid_leak": {"ohm": 1e5},
        "tubes": ["v1.a"],
    }
    stage |= (
        {"bias": "bias.out"}
        if grid
        else {
            "cathode_resistor": {"ohm": ohm, "rating_watt": 10},
            "shared_cathode": True,
            "cathode_bypass": {"farad": 0.1, "rating_volt": 63},
        }
    )
    if row["screen_v"]:
        stage["screen"] = "rail.out"
    envelopes = [{"id": "v1", "type": tube}]
    if pair:
        blocks.append(
            {
                "id": "split",
                "kind": "interstage-transformer",
                "input": "input.out",
                "split": True,
                "ratio": 1.0,
                "primary_henry": 1000.0,
                "leakage_henry": 1e-6,
                "primary_copper_ohm": 0.1,
                "secondary_copper_ohm": 0.1,
            }
        )
        envelopes.append({"id": "v2", "type": tube})
        stage |= {"kind": "common-cathode-pair", "input": "split.out", "tubes_b": ["v2.a"]}
    else:
        stage |= {"kind": "common-cathode", "input": "input.out"}
        stage.pop("shared_cathode", None)
    return validate({"name": "published", "version": 2, "envelopes": envelopes, "blocks": [*blocks, stage]})


ROWS = list(csv.DictReader((REFERENCE / "output_stage_operation.csv").read_text().splitlines()))


@pytest.mark.parametrize("row", ROWS, ids=lambda row: f"{row['class']} {row['type']}")
def test_published_output_stages_come_out_of_the_blocks(row):
    amplifier = solve(published(row))
    point = amplifier.at_source
    assert point is not None
    assert point.power_watt == pytest.approx(float(row["power_w"]), rel=0.12)
    assert 100 * point.distortion == pytest.approx(float(row["thd_percent"]), abs=3.0)
    tubes = amplifier.compiled.tubes
    idle = sum(amplifier.parts[use.part].current for use in tubes)
    assert idle == pytest.approx(float(row["anode_a_zero/max_total"].split("/")[0]), rel=0.12)
    # None is driven into grid current before its full output; the pair of EL84 leaves class A on the way.
    block = tubes[-1].block
    assert working_class(amplifier, block).letters == ("AB1" if row["bias"].startswith("common") else "A1")
    if row["class"] == "push-pull":
        composite = composite_diagram(amplifier, block)
        assert 4 * composite.load_ohm == pytest.approx(float(row["load_ohm_anode_or_anode_to_anode"]), rel=0.12)


def test_a_kind_of_block_is_one_new_class_and_nothing_else():
    """A kind registered here can be put in, compiled, solved, drawn, edited and judged like any other."""
    from thermionic.findings import examine
    from thermionic.powerup import Step, plan
    from thermionic.schematic import signal_sheet

    class Snubber(Block):
        kind: Literal["test-snubber"] = "test-snubber"
        input: SignalRef = named("Input")
        shunt: Resistor = named("Shunt", Resistor(ohm=22e3))

        title = "Snubber"
        about = "For this test."
        group = Group.CONTROL
        suffixes = {"out": ""}

        def ports(self):
            return {"out": Flow.SIGNAL}

        def compile(self, bench):
            node = bench.node("out")
            bench.loose("R", devices.Resistor(1.0), bench.take("input"), node)
            bench.fit("shunt", node, "0")

        def sketch(self, pen):
            pen.start("input", 0, pen.level)
            pen.upright("shunt", 20, pen.level, pen.level + 50, pen.level + 90)
            pen.end("out", 40, pen.level)
            pen.width = 40

    try:
        design = insert(examples.example("lantern"), "test-snubber", "volume")
        amplifier = solve(changed(design, "blocks/test_snubber/shunt/ohm", "10k"))
        assert amplifier.gain("test_snubber") < 0.6 * solve(examples.example("lantern")).gain("volume")
        assert any(mark.path == "blocks/test_snubber/shunt" for mark in signal_sheet(design).marks)
        examine(amplifier)
        assert plan(design, Step.ALL_TUBES, 230.0).points
    finally:
        del KINDS["test-snubber"]


def test_an_incomplete_kind_fails_loudly():
    with pytest.raises(TypeError, match="lacks title, about, group, ports, compile, sketch"):

        class Nothing(Block):
            kind: Literal["test-nothing"] = "test-nothing"


def test_a_mismatched_pair_gives_less_current_on_side_b():
    """On fixed bias 10 % less emission is 10 % less current, but for the supply's and the screens' share."""
    pair = solve(changed(examples.example("saltpan"), "blocks/output/mismatch", "0.1"))
    a, b = (pair.parts[name].current for name in ("V3", "V4"))
    assert b / a == pytest.approx(0.9, abs=0.02)


def test_a_push_pull_primary_has_the_inductance_and_the_load_that_it_is_given():
    """From anode to anode: inductance by the square of all its turns, load by the square of the ratio to a tap's."""
    saltpan = solve(examples.example("saltpan"))
    device = saltpan.netlist[saltpan.compiled.designator("blocks/transformer")].device
    primary, secondary = device.windings[:4], device.windings[4:]
    turns = sum(winding.turns for winding in primary)
    assert device.core.henry * (turns / primary[0].turns) ** 2 == pytest.approx(80.0)
    assert 8.0 * (turns / sum(winding.turns for winding in secondary)) ** 2 == pytest.approx(6600.0)


def test_each_side_has_its_own_bias_and_it_is_negative():
    saltpan = examples.example("saltpan")
    before, after = solve(saltpan), solve(changed(saltpan, "blocks/bias/trim_b/travel", "0.7"))
    assert -45 < before.voltage("bias_out") < -25
    assert after.voltage("output_grid_b") < before.voltage("output_grid_b") - 1.0
    assert after.voltage("output_grid_a") == pytest.approx(before.voltage("output_grid_a"), abs=0.3)
    assert after.parts["V4"].current < 0.9 * before.parts["V4"].current
    assert after.parts["V3"].current == pytest.approx(before.parts["V3"].current, rel=0.05)


def test_two_diodes_on_a_centre_tap_drop_half_of_what_a_bridge_drops():
    lantern = examples.example("lantern")
    bridge = solve(lantern)
    raw = dump(lantern)
    for block in raw["blocks"]:
        if block["id"] == "winding":
            block["centre_tapped"] = True
        if block["id"] == "rectifier":
            block["form"] = "full-wave"
    assert 0.5 < solve(validate(raw)).voltage("reservoir") - bridge.voltage("reservoir") < 1.0


def test_a_rectifier_tube_conducts_on_both_halves():
    """So the ripple has twice the mains' frequency and next to nothing at the mains' own."""
    weir = solve(examples.example("weir"))
    mains = weir.state.mains
    assert mains.hertz == pytest.approx(50.0)
    ripple = np.abs(mains.x[mains.system.node("reservoir")])
    assert ripple[1] < 0.01 * ripple[2]


def test_loudspeakers_in_series_and_in_parallel():
    for connection, ohm in (("series", 16.0), ("parallel", 4.0)):
        design = changed(examples.example("lantern"), "blocks/speaker/connection", connection)
        amplifier = solve(changed(design, "blocks/speaker/count", "2"))
        assert amplifier.load.ohm == pytest.approx(ohm)
        assert amplifier.netlist[amplifier.load.part].device.ohm == pytest.approx(ohm)


def test_a_filament_off_balance_hums_by_what_its_pot_leaves():
    """A twentieth of 2.5 V off the middle: 0.18 V peak at 50 Hz in series with the cathode, and none in balance."""
    design = fit_part(examples.example("lantern"), "blocks/output/filament", True)
    hum = {}
    for travel in ("0.5", "0.45"):
        amplifier = solve(changed(design, "blocks/output/filament/travel", travel))
        wave = amplifier.state.mains.node_waveform(amplifier.load.node, 1024)
        hertz = amplifier.state.mains.hertz
        # The first harmonic of the mains; with the bridge alone everything repeats at twice that.
        hum[travel] = 2 * np.abs(np.fft.rfft(wave)[1]) / 1024 if hertz == 50.0 else 0.0
    assert hum["0.5"] == 0.0
    pot = next(part for part in amplifier.netlist.parts if part.path.endswith("/filament"))
    assert pot.device.ohm == pytest.approx(0.45 * 0.55 * 100.0)
    source = next(part for part in amplifier.netlist.parts if isinstance(part.device, devices.MainsSource))
    reach = amplifier.small_signal.from_source(source.name, np.array([50.0]))[0]
    gain = abs(reach[amplifier.state.at.system.node(amplifier.load.node)])
    # Grounded-grid from the cathode to the loudspeaker: some (mu + 1) / mu times what the grid has.
    grid = amplifier.gain(amplifier.load.node, amplifier.compiled.tubes_of("output")[0].grid)
    assert gain == pytest.approx(grid * (1 + 1 / 4.2), rel=0.15)
    assert hum["0.45"] == pytest.approx(0.05 * 2.5 * 2**0.5 * gain, rel=0.01)
    steady = solve(
        changed(changed(design, "blocks/output/filament/travel", "0.45"), "blocks/output/filament/fed", "DC")
    )
    assert steady.state.mains.hertz == 100.0


def test_a_tube_with_a_cathode_has_no_filament_supply():
    with pytest.raises(DesignRefused, match="the 6SL7GT has a cathode of its own; take out the filament supply"):
        fit_part(examples.example("lantern"), "blocks/driver/filament", True)


def test_a_cathode_winding_feeds_back_what_its_turns_say():
    """Kirchhoff and the turns: e = (1+b) R i, i = gm (vg - b e) - (1+b) e / rp."""
    plain = changed(examples.example("lantern"), "blocks/transformer/cathode_share", "0.1")
    plain = changed(plain, "blocks/output/cathode_bypass/farad", "10m")
    wound = changed(plain, "blocks/output/cathode_return", "transformer.cathode")
    before, after = solve(plain), solve(wound)
    place = before.state.at.system.place("V2")
    gm, ga = before.state.at.port_slopes[place.injects, place.ports][-1]
    use = before.compiled.tubes_of("output")[0]
    gain = before.gain(use.anode, use.grid)
    load = gain / (gm - gain * ga)
    b = 0.1
    expected = (1 + b) * load * gm / (1 + (1 + b) * load * (gm * b + (1 + b) * ga))
    assert after.gain(after.load.node, use.grid) / before.gain(before.load.node, use.grid) == pytest.approx(
        expected / gain, rel=0.02
    )
    ratio = after.phasor("transformer_cathode") / after.phasor(use.anode)
    assert ratio.real == pytest.approx(-0.1, rel=0.03)


def test_each_side_of_a_pair_has_its_cathode_winding_against_its_anode():
    design = changed(examples.example("hurdle"), "blocks/output/shared_cathode", "no")
    design = changed(design, "blocks/transformer/cathode_share", "0.1")
    amplifier = solve(changed(design, "blocks/output/cathode_return", "transformer.cathode"))
    for use in amplifier.compiled.tubes_of("output"):
        winding = amplifier.phasor(f"transformer_cathode_{use.side}")
        assert (winding / amplifier.phasor(use.anode)).real == pytest.approx(-0.1, rel=0.05)
    with pytest.raises(DesignRefused, match="each cathode returns to a winding of its own"):
        changed(amplifier.design, "blocks/output/shared_cathode", "yes")


def test_a_cut_between_two_places_takes_treble_as_its_parts_say():
    """A control and a capacitor across a source of known resistance: -3 dB where X equals both resistances."""
    design = insert(examples.example("lantern"), "extra-part", "driver")
    design = changed(design, "blocks/extra_part/a", "driver.anode")
    design = changed(design, "blocks/extra_part/capacitor/farad", "10n")
    design = fit_part(design, "blocks/extra_part/control", True)
    before = solve(changed(design, "blocks/extra_part/control/travel", "1"))
    after = solve(changed(design, "blocks/extra_part/control/travel", "0.02"))
    source = abs(solve(examples.example("lantern")).small_signal.impedance("driver_anode", 1000.0))
    hertz = np.array([8000.0])
    x = 1 / (2j * np.pi * hertz * 10e-9)
    wanted = [abs((ohm + x) / (ohm + x + source)) for ohm in (250e3, 5e3)]
    result = decibels(after, hertz, "driver_anode") - decibels(before, hertz, "driver_anode")
    assert result == pytest.approx(20 * np.log10(wanted[1] / wanted[0]), abs=0.3)


@pytest.mark.parametrize(("kind", "halves"), [("full-wave", 1), ("half-wave", 2)])
def test_a_rectifier_tube_has_a_half_of_its_winding_or_all_of_it(kind, halves):
    design = changed(examples.example("weir"), "blocks/rectifier/form", kind)
    netlist = solve(design).netlist
    (mains,) = (
        part.device.peak_volt for part in netlist.parts if part.path == "blocks/winding" and part.name[0] == "T"
    )
    assert mains == pytest.approx(halves * 340.0 * design.brief.mains_volt / 230.0 * 2**0.5)
    (copper,) = (part.device.ohm for part in netlist.parts if part.name.startswith("RW"))
    assert copper == pytest.approx(60.0 * halves)


def test_a_bridge_has_both_halves_of_a_tapped_winding():
    design = changed(examples.example("lantern"), "blocks/winding/centre_tapped", "yes")
    whole, half = (
        [p.device for p in solve(one).netlist.parts if p.path == "blocks/winding"]
        for one in (design, examples.example("lantern"))
    )
    assert whole[0].peak_volt == pytest.approx(2 * half[0].peak_volt)
    assert whole[1].ohm == pytest.approx(2 * half[1].ohm)


@pytest.mark.parametrize("ratio", [0.5, 2.0])
def test_an_interstage_transformer_steps_up_by_its_ratio(ratio):
    amplifier = solve(changed(examples.example("mill"), "blocks/interstage/ratio", ratio))
    assert amplifier.gain("interstage_out", "driver_anode") == pytest.approx(ratio, rel=0.05)


def test_no_direct_current_goes_through_what_mixes_a_paraphase():
    amplifier = solve(examples.example("lychgate"))
    assert amplifier.voltage("splitter_junction") == pytest.approx(0.0, abs=1e-3)
    # Two of 470k from the outputs and one of 1M to earth: Kirchhoff at the junction.
    both = amplifier.phasor("splitter_output_a") + amplifier.phasor("splitter_output_b")
    assert abs(amplifier.phasor("splitter_junction")) == pytest.approx(abs(both) / (2 + 0.47), rel=0.02)


def test_the_upper_tube_of_a_mu_follower_is_biased_by_its_own_resistor():
    amplifier = solve(with_kind("mu-follower"))
    upper, foot, output = (amplifier.voltage(f"mu_follower_{name}") for name in ("upper", "foot", "output"))
    assert upper == pytest.approx(foot, abs=0.05)
    ohm = field(amplifier.design, "blocks/mu_follower/upper_resistor/ohm").value
    use = next(use for use in amplifier.compiled.tubes_of("mu_follower") if use.cathode == "mu_follower_output")
    assert output - foot == pytest.approx(ohm * amplifier.parts[use.part].current, rel=0.02)
