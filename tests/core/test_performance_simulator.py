"""What the Chain says of the whole amplifier, against an independent circuit simulator on the printed netlist."""

import re
from functools import cache

import numpy as np
import pytest

from tests.core import simulator
from thermionic import examples
from thermionic.amplifier import solve
from thermionic.amplifier.loop import loop_gain
from thermionic.circuit.spice.writer import write
from thermionic.performance.burst import BACK, BURST_SECONDS, burst
from thermionic.performance.power import level_sweeps
from thermionic.performance.response import square_wave, sweep
from thermionic.supplies.sagging import sag

pytestmark = simulator.needed
AMPLIFIERS = ("hurdle", "lantern", "saltpan", "wicket")
DB, DEGREES = 0.1, 1.0


@cache
def solved(name):
    return solve(examples.example(name))


def netlist(amplifier, source="AC 0"):
    """The printed circuit without its analyses, its source as given."""
    text = write(amplifier.netlist, state=amplifier.state)
    name, nodes = amplifier.compiled.source.part, " ".join(amplifier.netlist[amplifier.compiled.source.part].nodes)
    return re.sub(rf"(?m)^{name} {nodes} .*$", f"{name} {nodes} DC 0 {source}", text).replace(".op\n.end\n", "")


def ac(text, tmp_path, first=1, last=1e6):
    _, names, data = simulator.run(f"{text}.ac dec 20 {first:g} {last:g}\n.end\n", tmp_path)[0]
    return names, data, data[:, 0].real


@pytest.mark.parametrize("name", AMPLIFIERS)
def test_response_phase_and_output_impedance(name, tmp_path):
    amplifier = solved(name)
    result, load = sweep(amplifier), amplifier.load
    names, data, hertz = ac(netlist(amplifier, "AC 1"), tmp_path)
    theirs = data[:, names.index(f"v({load.node})")]
    middle = np.argmin(np.abs(np.log(hertz / 1e3)))
    ours = np.interp(np.log(hertz), np.log(result.hertz), result.decibels)
    level = 20 * np.log10(np.abs(theirs / theirs[middle]))
    heard = level > -40
    np.testing.assert_allclose(ours[heard], level[heard], atol=DB)
    turned = np.degrees(np.unwrap(np.angle(theirs)))
    turned -= 180 * round(turned[middle] / 180)
    ours = np.interp(np.log(hertz), np.log(result.hertz), result.degrees)
    np.testing.assert_allclose(ours[heard], turned[heard], atol=DEGREES)

    # Without the load an ampere is pushed into where it was.
    text = re.sub(rf"(?m)^R{load.part} ", "RGONE nowhere 0 1\n*", netlist(amplifier))
    names, data, hertz = ac(f"{text}IPUSH 0 {load.node} DC 0 AC 1\n", tmp_path)
    theirs = np.abs(data[:, names.index(f"v({load.node})")])
    ours = np.exp(np.interp(np.log(hertz), np.log(result.hertz), np.log(np.abs(result.output_ohm))))
    np.testing.assert_allclose(ours, theirs, rtol=0.01)


@pytest.mark.parametrize("name", ["hurdle", "saltpan", "wicket"])
def test_loop_gain_and_margins(name, tmp_path):
    """A volt and then an ampere put in where the feedback leaves the transformer's tap."""
    amplifier = solved(name)
    (loop,) = amplifier.compiled.loops
    tap = amplifier.netlist[loop.part].nodes[0]
    text = netlist(amplifier)
    for part in loop.parts:
        text = re.sub(rf"(?m)^{part} {tap} ", f"{part} broken ", text)
    names, data, hertz = ac(f"{text}VT {tap} broken DC 0 AC 1\n", tmp_path, 0.1, 1e7)
    t_volt = -data[:, names.index(f"v({tap})")] / data[:, names.index("v(broken)")]
    names, data, hertz = ac(f"{text}VT {tap} broken DC 0 AC 0\nIT 0 {tap} DC 0 AC 1\n", tmp_path, 0.1, 1e7)
    carried = data[:, names.index("i(vt)")]  # on through the feedback; the rest goes back into the amplifier
    t_current = (1 - carried) / carried
    theirs = (t_volt * t_current - 1) / (2 + t_volt + t_current)
    result = loop_gain(amplifier, loop)
    ours = np.exp(np.interp(np.log(hertz), np.log(result.hertz), np.log(np.abs(result.gain))))
    near = np.abs(theirs) > 0.03
    np.testing.assert_allclose(20 * np.log10(ours[near]), 20 * np.log10(np.abs(theirs[near])), atol=DB)
    turned = np.degrees(np.unwrap(np.angle(theirs)))
    turned -= 360 * round(turned[np.argmin(np.abs(np.log(hertz / 1e3)))] / 360)
    ours = np.interp(np.log(hertz), np.log(result.hertz), result.degrees)
    np.testing.assert_allclose(ours[near], turned[near], atol=DEGREES)
    # The margins, read off theirs where the loop gain crosses 1.
    size = np.log(np.abs(theirs))
    below = [at for at in np.flatnonzero(np.signbit(size[1:]) != np.signbit(size[:-1])) if hertz[at] > 1e3]
    least = min(180 - abs(np.interp(0, *_rising(size[at : at + 2], turned[at : at + 2]))) for at in below)
    assert result.high.phase_degrees == pytest.approx(least, abs=DEGREES)
    assert result.is_stable


def _rising(x, y):
    return (x, y) if x[0] < x[1] else (x[::-1], y[::-1])


@pytest.mark.parametrize(
    ("name", "hertz", "periods"),
    [("lantern", 100.0, 50), ("hurdle", 1e3, 8), ("saltpan", 1e3, 8), ("saltpan", 10e3, 8), ("wicket", 10e3, 8)],
)
def test_square_waves(name, hertz, periods, tmp_path):
    """The simulator runs until the tops of its wave are alike; what drifts still, at a hertz or two, is taken off."""
    amplifier = solved(name)
    result = square_wave(amplifier, hertz)
    height = result.ideal_volt / amplifier.gain(amplifier.load.node)
    period, source = 1 / hertz, amplifier.compiled.source
    # Edges of a thousandth of the period: a sine 1000/pi times as large, clipped.
    tone = f"{1000 / np.pi:.6g}*sin({2 * np.pi * hertz:.16g}*time)"
    emf = f"BTONE {' '.join(amplifier.netlist[source.part].nodes)} V={height:.9g}*max(-1,min(1,{tone}))"
    text = re.sub(rf"(?m)^{source.part} .*$", emf, netlist(amplifier))
    end = periods * period
    (plot,) = simulator.run(f"{text}.tran {period / 2e3:g} {end:.9g} {end - period:.9g} {period / 2e3:g}\n.end\n",
                            tmp_path)  # fmt: skip
    _, names, data = plot
    time, wave = data[:, 0] - (end - period), data[:, names.index(f"v({amplifier.load.node})")]
    theirs = np.interp(result.seconds, time, wave)
    theirs, ours = theirs - theirs.mean(), result.volts - result.volts.mean()
    away_from_edges = np.minimum(result.seconds % (period / 2), -result.seconds % (period / 2)) > 0.006 * period
    np.testing.assert_allclose(ours[away_from_edges], theirs[away_from_edges], atol=0.02 * np.abs(theirs).max())


@pytest.mark.parametrize("name", ["lantern", "wicket", "beacon", "hurdle"])
def test_recovery_after_a_burst(name, tmp_path):
    amplifier = solved(name)
    result = burst(amplifier)
    slowest = result.recoveries[0]
    assert slowest.seconds
    peak = amplifier.full_output.source_volt * 2**0.5 * 10 ** (result.over_db / 20)
    nodes = amplifier.state.at.system.nodes
    idle = " ".join(f"v({node})={amplifier.voltage(node):.9g}" for node in nodes)
    use = next(use for use in amplifier.compiled.tubes if use.part == slowest.part)
    until = BURST_SECONDS + 1.5 * slowest.seconds
    # The tone through a switch that opens where the burst ends: a sine times a pulse.
    source = amplifier.compiled.source
    emf, earth = amplifier.netlist[source.part].nodes
    text = netlist(amplifier)
    tone = f"BTONE {emf} {earth} V={peak:.9g}*sin({2e3 * np.pi:.16g}*time)*(time<{BURST_SECONDS:g} ? 1 : 0)"
    text = re.sub(rf"(?m)^{source.part} .*$", tone, text)
    (plot,) = simulator.run(f"{text}.ic {idle}\n.tran 2e-5 {until:.6g} {BURST_SECONDS:g} 2e-5\n.end\n", tmp_path)
    _, names, data = plot

    def volt(node):
        return 0.0 if node == "0" else data[:, names.index(f"v({amplifier.compiled.node(node)})")]

    away = np.abs(volt(use.grid) - volt(use.cathode) - slowest.idle_volt)
    out = np.flatnonzero(away > BACK * abs(slowest.idle_volt))
    assert slowest.seconds == pytest.approx(data[out[-1], 0] - BURST_SECONDS, rel=0.05)


def test_a_saturating_core_limits_the_low_notes(tmp_path):
    """Where the core is rated for less than it is asked, distortion at that frequency is the simulator's."""
    from thermionic.design import changed, fit_part

    design = fit_part(examples.example("lantern"), "blocks/transformer/core", True)
    for path, typed in (("watt", "2 W"), ("hertz", "40 Hz"), ("ampere", "60 mA")):
        design = changed(design, f"blocks/transformer/core/{path}", typed)
    amplifier = solve(design)
    low, middle, _ = level_sweeps(amplifier)
    at = 2
    assert low.hertz == 40.0
    assert low.points[at].distortion > 3 * middle.points[at].distortion
    peak = low.points[at].source_volt * 2**0.5
    text = netlist(amplifier, f"SIN(0 {peak:.9g} 40)")
    idle = " ".join(f"v({node})={amplifier.voltage(node):.9g}" for node in amplifier.state.at.system.nodes)
    run = f"{text}.ic {idle}\n.tran 5e-5 2 1.8 5e-5\n.end\n"
    (plot,) = simulator.run(run, tmp_path)
    _, names, data = plot
    theirs = simulator.harmonics(data[:, 0], data[:, names.index(f"v({amplifier.load.node})")], 40.0, 5)
    for order in (2, 3):
        assert low.points[at].harmonics[order - 2] == pytest.approx(theirs[order - 1] / theirs[0], rel=0.04), order


def test_a_supply_sags_under_a_burst_as_the_whole_circuit_does(tmp_path):
    """From the idle at the beginning of a mains cycle, rectifier and mains and all."""
    amplifier = solved("hurdle")
    result = sag(amplifier, length=0.1)
    mains = amplifier.state.mains
    idle = " ".join(f"v({node})={mains.node_waveform(node)[0]:.9g}" for node in mains.system.nodes)
    source = amplifier.compiled.source.part
    nodes = " ".join(amplifier.netlist[source].nodes)
    peak = amplifier.full_output.source_volt * 2**0.5
    text = re.sub(
        rf"(?m)^{source} {nodes} .*$", f"{source} {nodes} DC 0 SIN(0 {peak:.9g} {result.hertz:g})",
        re.sub(r"(?m)^\.(tran .*|end|op)$", "", write(amplifier.netlist)),
    )  # fmt: skip
    (plot,) = simulator.run(f"{text}\n.ic {idle}\n.tran 2e-5 {result.length} 0 2e-5\n.end\n", tmp_path)
    _, names, data = plot
    time, last = data[:, 0], result.length - 0.02
    for rail in result.rails:
        wave = data[:, names.index(f"v({amplifier.compiled.node(rail.name)})")]
        kept = time >= last
        mean = np.trapezoid(wave[kept], time[kept]) / np.ptp(time[kept])
        assert rail.before - rail.under == pytest.approx(rail.before - mean, rel=0.05), rail.name
    volts = data[:, names.index(f"v({amplifier.load.node})")]
    kept = time >= last
    watt = np.trapezoid(volts[kept] ** 2, time[kept]) / np.ptp(time[kept]) / amplifier.load.ohm
    assert result.last_watt == pytest.approx(watt, rel=0.02)
    reservoir = result.rails[0]
    back = np.abs(reservoir.volts[result.seconds > result.length + reservoir.back] - reservoir.before)
    assert back.max() <= 0.1 * (reservoir.before - reservoir.under) * 1.02
