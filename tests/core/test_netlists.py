"""Netlists as people have them, against the independent simulator, by hand, and refused in words."""

import json
import time
from pathlib import Path

import numpy as np
import pytest

from tests.core import simulator
from thermionic import budget, devices, examples, tubes
from thermionic.amplifier import solve
from thermionic.circuit import operating_point, spice
from thermionic.circuit.system import System
from thermionic.cli import main
from thermionic.errors import NetlistRefused, ThermionicError

FOLDER = Path(__file__).parent / "netlists"
TIGHT = ".options reltol=1e-6 abstol=1e-12 vntol=1e-9 gmin=1e-13 itl1=500\n"
MODELS = """.model QN NPN(IS=6.734f XTI=3 EG=1.11 VAF=74.03 BF=416.4 NE=1.259 ISE=6.734f IKF=66.78m XTB=1.5 BR=.7371
+ NC=2 ISC=0 IKR=0 RC=1 CJC=3.638p MJC=.3085 VJC=.75 FC=.5 CJE=4.493p MJE=.2593 VJE=.75 TR=239.5n TF=301.2p
+ ITF=.4 VTF=4 XTF=2 RB=10)
.model QP PNP(IS=1.41f VAF=18.7 BF=180.7 NE=1.5 IKF=80m BR=4.977 RC=2.5 CJC=9.728p MJC=.5776 VJC=.75 CJE=8.063p
+ MJE=.3677 VJE=.75 TR=33.42n TF=179.3p ITF=.4 VTF=4 XTF=6 RB=10)
.model QB NPN(IS=7.05E-15 BF=375 NF=0.9925 VAF=62.37 IKF=0.1371 ISE=6.676E-14 NE=1.541 BR=2.886 NR=0.9961 VAR=23.68
+ IKR=0.144 ISC=1.66E-14 NC=1.763 RB=25.48 IRB=0.001 RBM=3.5 RE=0.5 RC=0.2 CJE=1.335E-11 VJE=0.6 MJE=0.32 TF=6.5E-10
+ XTF=70 VTF=4 ITF=0.12 CJC=4.1E-12 VJC=0.55 MJC=0.28 XCJC=0.6 TR=1E-7)
.model DS D(IS=2.5n N=1.75 RS=.57 CJO=4p M=.33 VJ=.75 TT=6n BV=100 IBV=100u)
.model DP D(IS=7n N=1.8 RS=.034 CJO=18p M=.33 VJ=.75 TT=4u IKF=1)
.model DZ D(IS=1f N=1 RS=2 BV=6.2 IBV=5m NBV=1.5 CJO=80p)
.model JN NJF(BETA=1.3m VTO=-2.3 LAMBDA=2m IS=33f RD=1 RS=1 CGD=1.6p CGS=2.4p)
.model JP PJF(BETA=1m VTO=-1.5 LAMBDA=4m IS=33f CGD=1.6p CGS=2.4p)
.model MN NMOS(LEVEL=1 VTO=2 KP=.1 LAMBDA=.02 GAMMA=.4 PHI=.65 RD=.1 RS=.2 IS=1e-14 CBD=20p CBS=20p CGSO=1n CGDO=.5n)
.model MP PMOS(LEVEL=1 VTO=-1.5 KP=20u LAMBDA=.01)
.model M3 NMOS(LEVEL=3 VTO=3.2 KP=20.8u THETA=.08 VMAX=2e5 UO=600 GAMMA=0 PHI=.6 KAPPA=0 RD=.2 RS=.05 IS=1e-14)
.model VN VDMOS(RG=3 VTO=3.8 RD=30m RS=15m RB=10m KP=25 LAMBDA=.01 MTRIODE=1.2 CGDMAX=1.5n CGDMIN=.1n A=.6 CGS=1n
+ CJO=1n M=.5 VJ=.8 IS=1p N=1 TT=100n KSUBTHRES=.12 BV=200 RDS=1e7)
.model VP VDMOS(PCHAN VTO=-3.5 KP=8 RD=.1 RS=.05 LAMBDA=.01 CGS=.8n CGDMAX=1n CGDMIN=50p A=.5 CJO=.5n IS=1p
+ KSUBTHRES=.1)
.model SM SW(VT=2 VH=0 RON=1 ROFF=1meg)
"""
DIALECTS = {
    "a transistor with its base charge": """VCC c 0 12\nVIN i 0 0 AC 1\nCI i b 1u\nR1 c b 47k\nR2 b 0 10k
RC c o 2.2k\nQ1 o b e QN\nRE e 0 470\nCE e 0 100u""",
    "a PNP transistor": """VCC c 0 12\nVIN i 0 0 AC 1\nCI i b 1u\nR1 c b 10k\nR2 b 0 47k\nRC o 0 2.2k\nQ1 o b e QP
RE c e 470""",
    "a base that is crowded": "VCC c 0 12\nVB b 0 .72 AC 1\nRC c o 220\nQ1 o b 0 QB",
    "a transistor backwards": "VB b 0 .7\nRE e 0 1k\nVE e2 e 3\nQ1 0 b e2 QB",
    "diodes": """V1 a 0 5 AC 1\nR1 a b 1k\nD1 b 0 DS\nR2 a c 100\nD2 c 0 DP\nV4 f 0 12\nR4 f g 1k\nD4 0 g DZ""",
    "junction FETs": """VD d 0 15\nVG g 0 0 AC 1\nRD d o 1k\nJ1 o g s JN\nRS s 0 220\nVP p 0 -10\nJ2 p g2 s2 JP
VG2 g2 0 0 AC 1\nRS2 s2 0 470""",
    "MOSFETs with a bulk": """VD d 0 20\nVG g 0 5 AC 1\nRD d o 10\nM1 o g s 0 MN W=1 L=1\nRS s 0 4.7
M2 0 g2 d2 d2 MP W=1m L=10u\nVG2 g2 0 3 AC 1\nRS2 d d2 1k""",
    "a level 3 MOSFET": "VD d 0 20\nVG g 0 4.2 AC 1\nRD d o 10\nM1 o g s s M3 W=.1 L=2u\nRS s 0 1",
    "power MOSFETs": """VD d 0 50\nVG g 0 4.4 AC 1\nRD d o 20\nM1 o g 0 VN\nM2 0 g2 s2 VP\nVG2 g2 0 40 AC 1
RS2 d s2 50""",
    "POLY": """V1 a 0 2 AC 1\nV2 b 0 3 AC .5\nE1 o 0 POLY(2) a 0 b 0 1 2 3 .1 .2 .3\nR1 o 0 1k
G1 q 0 POLY(1) (a,0) 0 1m 1m\nR3 q 0 1k\nF1 r 0 POLY(1) V1 0 2\nR4 r 0 10\nRL a 0 1k""",
    "TABLE and pwl": """V1 a 0 3.5 AC 1\nE1 o 0 TABLE {v(a)} = (0,0) (1,2) (3,3)\nR1 o 0 1k
B1 p 0 V=pwl(v(a),0,0,1,2,3,3)\nR2 p 0 1k""",
    "VALUE, vol, functions and currents": """.param k=3 m={k*2}\n.func sq(x) {x*x}\nV1 a 0 1.5 AC 1
E1 o 0 VALUE={sq(v(a))*m}\nR1 o 0 1k\nG2 0 p value={v(a)*1m}\nR2 p 0 1k\nE3 q 0 vol='v(a)*2'\nR3 q 0 1k
RB a 0 {k*1k}\nB5 s 0 V=i(V1)*1k\nR5 s 0 1k""",
    "60 °C": """.temp 60\nV1 a 0 5 AC 1\nR1 a b 1k tc1=0.001 tc2=1e-5\nD1 b 0 DS\nQ1 a2 b2 0 QN\nRC a a2 1k
RB a b2 300k\nR9 a z 1k\nRZ z 0 1k tc1=2m""",
    "a global node and an .if": """.param x=2\n.global vcc\nVCC vcc 0 10\n.if (x==2)\nR1 vcc a 1k\n.else\nR1 vcc a 2k
.endif\nX1 a S\n.subckt S p\nR1 vcc p 5k\nR2 p 0 1k\n.ends""",
    "switches": "V1 a 0 5\nVC c 0 5\nS1 a b c 0 SM\nR1 b 0 1k\nVD d 0 0\nS2 a e d 0 SM\nR2 e 0 1k",
    "K before its L": "K1 L1 L2 .99\nV1 a 0 0 AC 1\nR1 a b 10\nL1 b 0 1\nL2 c 0 .1\nR2 c 0 8",
    "several side by side": """V1 a 0 5 AC 1\nR1 a b 1k m=2\nC1 b 0 1n m=3\nD1 b 0 DS m=4\nQ1 a2 b2 0 QN m=2
RC a a2 1k\nRB a b2 300k""",
    "names with signs": "V1 in:1 0 5 AC 1\nR1 in:1 x/y 1k\nR2 x/y n[3] 1k\nR3 n[3] 0 1k",
}  # fmt: skip


def agree(result, plots, volt, decibel_part):
    """Every node's voltage at DC and over frequency, as parts of itself."""
    compared = 0
    for kind, names, data in plots:
        nodes = result["op" if "Operating" in kind else "ac"]
        nodes = nodes if "Operating" in kind else nodes["nodes"]
        own = {node.lower(): node for node in nodes}
        for column, name in enumerate(names):
            node = name.removeprefix("v(").removesuffix(")")
            if node not in own:
                continue
            compared += 1
            if "Operating" in kind:
                assert nodes[own[node]] == pytest.approx(data[0, column], rel=volt, abs=1e-5), node
            else:
                ours = np.array(nodes[own[node]]) @ [1, 1j]
                size = np.maximum(np.abs(data[:, column]), 1e-4)
                assert np.max(np.abs(ours - data[:, column]) / size) < decibel_part, node
    assert compared > 2


@simulator.needed
@pytest.mark.parametrize("name", DIALECTS)
def test_a_dialect_has_the_voltages_of_the_other_simulator(name, tmp_path):
    text = f"t\n{MODELS}{DIALECTS[name]}\n.op\n.ac dec 5 10 10meg\n"
    plots = simulator.run(text + TIGHT + ".end\n", tmp_path)
    agree(spice.run(spice.read(text)), plots, 1e-4, 5e-3)


@pytest.fixture(scope="module")
def library():
    pieces = [
        spice.subcircuit(name, device)
        for tube in tubes.all_types().values()
        for name, device in _named(tube)
        if any(name in file.read_text().upper().split() for file in FOLDER.glob("*.cir"))
    ]
    return "* tubes\n" + "\n".join(pieces)


def _named(tube):
    """As the command line prints the library."""
    made = tube.devices()
    stem = f"T{tube.type}" if tube.type[0].isdigit() else tube.type
    for unit, device in made.items():
        lit = tube.regulator(lit=True) if isinstance(device, devices.GasRegulator) else device
        yield (f"{stem}_{unit.replace(' ', '_')}" if len(made) > 1 else stem).upper(), lit


def test_newton_takes_whole_steps_in_real_circuits(library, monkeypatch):
    """Junctions, gates and grids are held to where their laws may be taken, so nothing else has to be tried; of the
    examples, the one with a converter, which draws the more current the less it is given, is left to another way."""
    monkeypatch.setattr(operating_point, "_backtracking", lambda *_: pytest.fail("Newton did not settle"))
    for file in sorted(FOLDER.glob("*.cir")):
        operating_point.operating_point(System(spice.read(file.read_text(), lambda _: library).netlist))
    for name in set(examples.names()) - {"sedge"}:
        solve(examples.example(name))


@simulator.needed
@pytest.mark.parametrize("file", sorted(FOLDER.glob("*.cir")), ids=lambda file: file.stem)
def test_a_real_circuit_has_the_voltages_of_the_other_simulator(file, library, tmp_path):
    """Thirty amplifiers and supplies that nothing was fitted or tuned to."""
    text = file.read_text()
    (tmp_path / "library.inc").write_text(library)
    tame = ".SUBCKT" not in text
    (tmp_path / ".spiceinit").write_text("" if tame else "set ngbehavior=psa\n")
    plots = simulator.run(text.replace(".op\n", TIGHT + ".op\n", 1), tmp_path, tame)
    agree(spice.run(spice.read(text, lambda _: library)), plots, 1e-4, 1e-3)


def test_what_is_printed_of_a_tube_is_read_as_the_tube():
    for name in ("ECC83", "6V6GT", "EL84", "6SK7"):
        tube = tubes.get(name).device(tubes.get(name).units[0], scale=0.8)
        printed = spice.subcircuit("TUBE", tube)
        pins = " ".join(f"n{k}" for k in range(len(tube.terminals)))
        netlist = spice.read(f"t\nX1 {pins} TUBE\nR1 n0 0 1\n{printed}.end\n").netlist
        (result,) = (part.device for part in netlist.parts if type(part.device) is type(tube))
        assert result.scale == 0.8
        np.testing.assert_allclose(result.numbers(), tube.numbers(), rtol=1e-9)


def test_published_models_have_nothing_inside_to_be_solved_for():
    text = (FOLDER / "published_forms.cir").read_text()
    deck = spice.read(text, lambda _: "")
    kinds = [type(part.device) for part in deck.netlist.parts]
    assert kinds.count(devices.Triode) == 1
    assert devices.BehaviouralVoltage not in kinds
    assert not [node for part in deck.netlist.parts for node in part.nodes if node.lower().endswith(".7")]


def test_a_published_pentode_past_cut_off_draws_nothing():
    """Its screen's logarithm has no value there."""
    text = (FOLDER / "published_forms.cir").read_text()
    body = text[text.index(".SUBCKT PEN") : text.index("VB b 0 300")]
    result = spice.run(spice.read(f"t\n{body}VB b 0 300\nVG g 0 -60\nRS b s 1k\nRA b a 1k\nX1 a g 0 s PEN\n.op\n"))
    assert result["op"]["s"] == pytest.approx(300.0, abs=1e-3)
    assert result["op"]["a"] == pytest.approx(300.0, abs=1e-2)


@simulator.needed
def test_distortion_and_power_of_a_netlist(tmp_path):
    """``.thd`` against the other simulator's transient, of a published pentode's amplifier."""
    text = (FOLDER / "published_forms.cir").read_text().replace(".include library.inc\n", "")
    ours = spice.run(spice.read(text.replace(".op", "*.thd 1k v(o) 0.5 1 load=RL harmonics=16\n.op")))["thd"][0]
    (tmp_path / ".spiceinit").write_text("set ngbehavior=psa\n")
    driven = text.replace("VIN in 0 0 AC .5", "VIN in 0 SIN(0 .5 1k)").replace(".ac dec 5 10 1meg\n", "")
    loose = ".options reltol=1e-5 abstol=1e-10 vntol=1e-7\n"
    plots = simulator.run(driven.replace(".op\n", loose + ".tran 4u 250m 240m 4u\n"), tmp_path, tame=False)
    _, names, data = plots[-1]
    result = simulator.harmonics(data[:, 0], data[:, names.index("v(o)")], 1000.0, 5)
    np.testing.assert_allclose(ours["harmonics"][1][:3], result[:3], rtol=0.01)
    assert ours["volt_rms"][1] == pytest.approx(result[0] / 2**0.5, rel=5e-3)
    assert ours["watt"][1] == pytest.approx(ours["volt_rms"][1] ** 2 / 8, rel=1e-9)
    assert ours["thd"][0] < ours["thd"][1]


# By hand: an RC lowpass of 1 kΩ and 100 nF, fed by a sine, by DC and by a test tone.
LOWPASS = """t
V1 in 0 SIN(0 1 1k) AC 1
R1 in out {r}
C1 out 0 100n
.param r=1k
"""


def test_measures_of_a_lowpass():
    text = (
        LOWPASS
        + """.ac dec 40 10 100k
.tran 2u 10m
.meas ac corner WHEN vdb(out)=-3.0103 fall=1
.meas ac turn FIND vp(out) AT=1591.549
.meas tran top MAX v(out) from=5m to=10m
.meas tran size RMS v(out) from=5m to=10m
.meas tran late TRIG v(in) VAL=0 FALL=5 TARG v(out) VAL=0 FALL=5
.meas tran twice PARAM='top*2'
.meas tran never WHEN v(out)=5
.four 1k 3 v(out) v(in,out) i(R1)
"""
    )
    result = spice.run(spice.read(text))
    measures = result["measures"]
    assert measures["corner"] == pytest.approx(1591.549, rel=2e-3)
    assert measures["turn"] == pytest.approx(-45.0, abs=0.1)
    w = 2 * np.pi * 1e-4 * 1e3  # omega R C
    size = 1 / np.hypot(1, w)
    assert measures["top"] == pytest.approx(size, rel=2e-3)
    assert measures["size"] == pytest.approx(size / 2**0.5, rel=2e-3)
    assert measures["late"] == pytest.approx(np.arctan(w) / (2e3 * np.pi), rel=5e-3)
    assert measures["twice"] == pytest.approx(2 * measures["top"])
    assert measures["never"] is None
    four = {name: one["harmonics"][0]["magnitude"] for name, one in result["fourier"].items()}
    assert len(result["fourier"]["out"]["harmonics"]) == 3
    assert four["out"] == pytest.approx(size, rel=1e-3)
    assert four["v(in,out)"] == pytest.approx(size * w, rel=1e-3)
    assert four["i(r1)"] == pytest.approx(size * w / 1e3, rel=1e-3)


def test_a_step_runs_it_all_again_and_dc_sweeps_a_source():
    text = LOWPASS.replace("SIN(0 1 1k) AC 1", "0") + "R2 out 0 1k\n.step param r list 1k 3k\n.dc V1 0 4 2\n"
    steps = spice.run(spice.read(text))["steps"]
    assert [step["values"] for step in steps] == [{"r": 1e3}, {"r": 3e3}]
    assert steps[0]["dc"]["V1"] == [0.0, 2.0, 4.0]
    assert steps[0]["dc"]["nodes"]["out"] == pytest.approx([0, 1, 2], abs=1e-6)
    assert steps[1]["dc"]["nodes"]["out"] == pytest.approx([0, 0.5, 1], abs=1e-6)
    by_part = spice.run(spice.read(text.replace("param r list 1k 3k", "R1 1k 3k 2k")))["steps"]
    assert [step["dc"]["nodes"]["out"][2] for step in by_part] == pytest.approx([2.0, 1.0])


def test_a_transient_begins_as_it_is_told():
    """A charged capacitor and a flowing inductor decay from where .ic and ic= put them."""
    held = "t\nV1 in 0 0\nR1 in out 1k\nC1 out 0 1u\n.ic v(out)=2\n.tran 10u 2m\n"
    free = "t\nR1 a 0 10\nL1 a 0 10m ic=0.3\nC1 b 0 1u ic=-4\nR2 b 0 1k\n.tran 10u 2m uic\n"
    for text, node, first in ((held, "out", 2.0), (free, "a", -3.0), (free, "b", -4.0)):
        tran = spice.run(spice.read(text))["tran"]
        wave = np.array(tran["nodes"][node])
        np.testing.assert_allclose(
            wave[1:], first * np.exp(-np.array(tran["time"][1:]) / 1e-3), atol=2e-3 * abs(first)
        )


def test_time_and_repeats():
    text = "t\nB1 a 0 V=time*1k\nR1 a 0 1\nV2 b 0 PWL(0 0 1m 1 2m 0) r=0\nR2 b 0 1\n.tran 10u 5m\n"
    tran = spice.run(spice.read(text))["tran"]
    at = np.array(tran["time"])
    np.testing.assert_allclose(tran["nodes"]["a"], 1e3 * at, atol=1e-6)
    np.testing.assert_allclose(tran["nodes"]["b"], 1 - np.abs(at * 1e3 % 2 - 1), atol=1e-6)


def test_files_beside_a_netlist_are_read_and_no_others(tmp_path, capsys):
    inner = tmp_path / "work" / "parts"
    inner.mkdir(parents=True)
    (tmp_path / "secret.inc").write_text("R9 a 0 1\n")
    (inner / "some.lib").write_text("* library\n.lib one\nR1 a 0 1k\n.endl\n.lib two\nR1 a 0 3k\n.endl\n")
    (inner.parent / "more.inc").write_bytes("R2 in a 1k ; Größe\n".encode("latin-1"))
    netlist = inner.parent / "main.cir"
    body = "t\nV1 in 0 4\n.include 'more.inc'\n.lib parts/some.lib two\n.op\n"
    netlist.write_bytes(body.encode("utf-16"))
    assert main(["solve", str(netlist)]) == 0
    assert json.loads(capsys.readouterr().out)["op"]["a"] == pytest.approx(3.0)
    for wanted, says in (
        ("../secret.inc", "Line 3: ../secret.inc is outside the netlist's folder"),
        (str(tmp_path / "secret.inc"), "is outside the netlist's folder"),
        ("none.inc", "Line 3: there is no file none.inc"),
        ("main.cir", "includes itself"),
    ):
        netlist.write_text(body.replace("'more.inc'", wanted))
        assert main(["solve", str(netlist)]) == 2
        assert says in capsys.readouterr().err
    netlist.write_text(body.replace(".op", ".include bad.inc\n.op"))
    (inner.parent / "bad.inc").write_text("R5 a 0 1\nR6 a 0 huge\n")
    assert main(["solve", str(netlist)]) == 2
    assert "Line 2 of bad.inc" in capsys.readouterr().err


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("t\nR1 a 0 1\n.control\nrun\n.endc\n", "Line 3: a .control section"),
        ("t\nV1 a 0 1\nE1 b 0 POLY(1) a 0 5\nR1 b 0 1\n", "Line 3: E1: a POLY of one coefficient"),
        ("t\nV1 a 0 1\nE1 b 0 LAPLACE {v(a)} = {1/s}\n", "Line 3: E1 wants two nodes"),
        ("t\nT1 a 0 b 0 Z0=50\n", "Line 2: T1 is a transmission line"),
        ("t\n.if (1)\nR1 a 0 1\n", "Line 3: an .if has no .endif"),
        ("t\nR1 a 0 1\n.meas tran x MAX v(a)\n.op\n", "Line 3: .meas x is of a .tran"),
        ("t\nR1 a 0 1\n.meas tran x BEST v(a)\n", "Line 3: .meas x wants one of"),
        ("t\nV1 a 0 1\nM1 a a 0 0 MX\n.model MX NMOS(LEVEL=3 VTO=1 NFS=1e11)\n", "Line 4: nfs of model mx"),
        ("t\nV1 a 0 1\nM1 a a 0 0 MX\n.model MX NMOS(LEVEL=8)\n", "Line 4: model mx is level 8"),
        ("t\nV1 a 0 1\nR1 a 0 1\n.dc V1 0 1 -1\n", "Line 4: .dc: a step of -1"),
        ("t\nV1 a 0 1\nR1 a 0 1\n.supply\n", "there is no source V with SIN"),
        ("t\nV1 a 0 1\nR1 a 0 1\n.thd 1k v(a) 2 1\n", "Line 4: .thd wants"),
        ("t\nV1 a 0 1\nR1 a 0 1\n.four 1k 3 out\n", "Line 4: .four is done for"),
        ("t\nV1 a 0 1\nK1 L1 L2 .5\nL1 a 0 1\n", "Line 3: L2 is coupled, but there is no such inductor"),
        ("t\nV1 a 0 1\nR1 a 0 1 rser=2\n", "Line 3: R1: rser= is not known"),
        ("t\n.func f(x) {f(x)}\nV1 a 0 {f(1)}\n", "nested too deeply"),
        ("t\nV1 a 0 1\nS1 a b a 0 SX\nR1 b 0 1\n.model SX SW(RON=0)\n", "Line 3: the ron of S1 is 0"),
        ("t\nV1 a 0 PWL(0 0 1 1) r=.5\n", "Line 2: PWL repeats from its beginning"),
    ],
)
def test_what_is_not_read_is_refused_by_its_line(text, says):
    with pytest.raises(NetlistRefused) as refusal:
        spice.run(spice.read(text))
    assert says in str(refusal.value)


# At random: every device on a few nodes, with values over many decades, and an analysis.

_TUBES = ("ECC83", "ECC88", "300B", "6AS7G", "EL84", "6L6GC", "EF86", "6SK7")


def random_netlist(rng):
    nodes = [f"n{k}" for k in range(int(rng.integers(2, 9)))] + ["0"]
    subcircuits = {}

    def node():
        return str(rng.choice(nodes))

    def size(low, high):
        return f"{10 ** rng.uniform(np.log10(low), np.log10(high)):.4g}"

    def stiff(text, k, first, second):
        """What drives a voltage or holds a current, mostly with a resistor in series: a loop of them is refused."""
        if rng.uniform() < 0.05:
            return text.format(first, second)
        return text.format(first, f"m{k}") + f"\nRM{k} m{k} {second} {size(1, 1e4)}"

    def line(k):  # one element of any kind
        kind = str(rng.choice(list("RRRRCCLVVIDDQJMSBEGFHKXXX")))
        a, b = node(), node()
        if kind in "RC":
            return f"{kind}{k} {a} {b} {size(*{'R': (0.1, 1e7), 'C': (1e-12, 1e-3)}[kind])}"
        if kind == "L":
            return stiff(f"L{k} {{}} {{}} {size(1e-6, 50)}", k, a, b)
        wave = str(rng.choice(["", "", "AC 1", "SIN(0 5 1k)", "PULSE(0 10 1u 1u 1u 50u 200u)"]))
        if kind == "V":
            return stiff(f"V{k} {{}} {{}} {rng.uniform(-400, 400):.4g} {wave}", k, a, b)
        if kind == "I":
            return f"I{k} {a} {b} {rng.uniform(-0.05, 0.05):.4g} {wave}"
        if kind in "DQJMS":
            model = {"D": ("DS", "DP", "DZ"), "Q": ("QN", "QP", "QB"), "J": ("JN", "JP"),
                     "M": ("MN", "MP", "M3", "VN"), "S": ("SM",)}[kind]  # fmt: skip
            pins = {"D": 2, "Q": 3, "J": 3, "M": 4, "S": 4}[kind]
            return f"{kind}{k} {' '.join(node() for _ in range(pins))} {rng.choice(model)}"
        gain = f"{rng.uniform(-2, 2):.3g}"
        if kind == "G":
            return f"G{k} {a} {b} {node()} {node()} {rng.uniform(-0.01, 0.01):.3g}"
        if kind == "E":
            return stiff(f"E{k} {{}} {{}} {node()} {node()} {gain}", k, a, b)
        if kind == "F":
            return f"F{k} {a} {b} VANY {gain}"
        if kind == "H":
            return stiff(f"H{k} {{}} {{}} VANY {gain}", k, a, b)
        if kind == "B":
            law = f"tanh(v({node()})/3)*{size(1e-6, 1)}+0.01*v({node()})"
            return f"B{k} {a} {b} I={law}" if rng.uniform() < 0.5 else stiff(f"B{k} {{}} {{}} V={law}", k, a, b)
        if kind == "K":
            return f"K{k} LA LB {rng.uniform(0.1, 1):.3g}"
        name = str(rng.choice(_TUBES))
        tube = tubes.get(name).devices()[tubes.get(name).units[0].name]
        subcircuits[name] = spice.subcircuit(f"T{name}", tube)
        return f"X{k} {' '.join(node() for _ in tube.terminals)} T{name}"

    lines = [line(k) for k in range(int(rng.integers(4, 24)))]
    if rng.uniform() < 0.9:
        # Most circuits have a way to earth from everywhere; some have not.
        lines += [f"R{n} {n} 0 {size(100, 1e6)}" for n in nodes if n != "0"]
    lines += [
        stiff(f"VANY {{}} {{}} {rng.uniform(-300, 300):.4g} AC 1", "any", nodes[0], "0"),
        stiff("LA {} {} 1", "a", node(), "0"),
        stiff("LB {} {} 2", "b", node(), "0"),
    ]
    analysis = str(
        rng.choice([".op", ".ac dec 3 10 1meg", ".tran 20u 2m", ".op\n.tran 50u 1m uic", ".dc VANY 0 10 2"])
    )
    return "t\n" + MODELS + "\n".join([*lines, *subcircuits.values(), analysis]) + "\n.end\n"


@pytest.mark.parametrize("batch", range(8))
def test_netlists_at_random_are_solved_or_refused(batch):
    """Four hundred, over all devices: a result of numbers, or a sentence with the line or the node; never stuck."""
    solved, refused = 0, []
    for seed in range(50 * batch, 50 * batch + 50):
        text = random_netlist(np.random.default_rng(seed))
        began = time.monotonic()
        try:
            with budget.limit(2.0):
                result = spice.run(spice.read(text))
        except ThermionicError as refusal:
            refused.append(str(refusal))
        else:
            solved += 1
            flat = [value for volts in result.get("tran", {}).get("nodes", {}).values() for value in volts]
            assert np.all(np.isfinite([*result.get("op", {}).values(), *flat])), seed
        # Not a measure of speed: a machine may be slow, but nothing hangs.
        assert time.monotonic() - began < 30, (seed, text)
    assert all(len(sentence) > 20 for sentence in refused)
    assert solved >= 35
