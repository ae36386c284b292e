"""The circuits of bench/engine: amplifiers of every kind, with their test tone at ``in``, and supplies on the mains."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))

from thermionic import devices as d
from thermionic import examples, tubes
from thermionic.amplifier import solve
from thermionic.circuit import spice
from thermionic.circuit.netlist import Netlist, Part

Rows = list[tuple[str, d.Device, str]]
R, C, V = d.Resistor, d.Capacitor, d.VoltageSource


def make(title: str, rows: Rows) -> Netlist:
    """A netlist of (designator, device, nodes)."""
    return Netlist(title, tuple(Part(name, device, tuple(nodes.split())) for name, device, nodes in rows))


def output(ohm: float, load: float, taps: tuple[float, ...] = (0.57, 0.43), henry: float = 40.0) -> d.Transformer:
    """A push-pull output transformer: half primaries of two sections mirrored, and a secondary."""
    half = [d.Winding(share, 160 * share, 7e-3 * share) for share in taps]
    turns = (2.0**2 * load / ohm) ** 0.5
    return d.Transformer((*half, *reversed(half), d.Winding(turns, 0.3, 5e-6)), d.Core(henry))


def channel(k: int) -> Rows:
    """A gain stage, long-tailed pair, two EL84 in ultra-linear, feedback: 20 nodes."""
    small, power = tubes.get("ECC83").triode(), tubes.get("EL84").pentode()
    rows: Rows = [
        ("RS", R(10e3), "in g1"), ("RG", R(470e3), "g1 0"), ("V1", small, "a1 g1 k1"),
        ("RA", R(100e3), "h1 a1"), ("RK", R(1500.0), "k1 f1"), ("RF1", R(100.0), "f1 0"),
        ("C1", C(100e-9), "a1 g2"), ("RG2", R(1e6), "g2 t1"), ("V2", small, "a2 g2 k2"),
        ("V3", small, "a3 g3 k2"), ("RT", R(820.0), "k2 t1"), ("RT2", R(33e3), "t1 0"),
        ("RG3", R(1e6), "g3 t1"), ("C2", C(100e-9), "g3 0"), ("RA2", R(100e3), "h1 a2"), ("RA3", R(110e3), "h1 a3"),
        ("C3", C(220e-9), "a2 g4"), ("C4", C(220e-9), "a3 g5"), ("RG4", R(470e3), "g4 0"), ("RG5", R(470e3), "g5 0"),
        ("RS4", R(1e3), "g4 q4"), ("RS5", R(1e3), "g5 q5"),
        ("V4", power, "a4 s4 q4 k4"), ("V5", power, "a5 s5 q5 k4"), ("RK4", R(130.0), "k4 0"), ("CK4", C(470e-6), "k4 0"),
        ("T1", output(8000.0, 8.0), "a4 s4 s4 h0 h0 s5 s5 a5 0 o"),
        ("RL", R(8.0), "o 0"), ("RF", R(4700.0), "o f1"), ("CF", C(220e-12), "o f1"),
        ("RH", R(10e3), "h0 h1"), ("CH", C(47e-6), "h1 0"),
    ]  # fmt: skip
    shared = {"0", "h0", "in"}
    return [
        (f"{name}x{k}", device, " ".join(n if n in shared else f"{n}x{k}" for n in nodes.split()))
        for name, device, nodes in rows
    ]


def channels(count: int) -> Netlist:
    """So many of them on one supply."""
    rows: Rows = [("VIN", V(0.0, 0.5), "in 0"), ("VB", V(310.0), "h0 0")]
    for k in range(1, count + 1):
        rows += channel(k)
    return make(f"{count} channels with feedback", rows)


def chain(count: int) -> Netlist:
    """RC-coupled triodes one after another, each divided down to the level of the one before it."""
    tube = tubes.get("ECC82").triode()
    rows: Rows = [("VIN", V(0.0, 0.1), "in 0"), ("VB", V(300.0), "h0 0"), ("R0", R(1.0), "in o0")]
    for k in range(1, count + 1):
        rows += [
            (f"RH{k}", R(220.0), f"h{k - 1} h{k}"), (f"CH{k}", C(10e-6), f"h{k} 0"), (f"RA{k}", R(47e3), f"h{k} a{k}"),
            (f"V{k}", tube, f"a{k} g{k} k{k}"), (f"RK{k}", R(1200.0), f"k{k} 0"), (f"CK{k}", C(47e-6), f"k{k} 0"),
            (f"CC{k}", C(100e-9), f"a{k} c{k}"), (f"RD{k}", R(470e3), f"c{k} o{k}"), (f"RG{k}", R(39e3), f"o{k} 0"),
            (f"RS{k}", R(1e3), f"o{k - 1} p{k}"), (f"RT{k}", R(1e3), f"p{k} g{k}"),
        ]  # fmt: skip
    return make(f"chain of {count} triodes", rows)


def _push_pull(title: str, tube: d.Device, ohm: float, grid: float, volt: float, screen: float | None, drive: float,
               resistance: float) -> Netlist:  # fmt: skip
    """Two output tubes with fixed bias, driven from a centre-tapped source of ``resistance``."""
    at = "h0 {s}" if screen is None else "vs {s}"
    rows: Rows = [
        ("VIN", V(0.0, drive), "in 0"), ("E1", d.VoltageControlled(1.0), "u 0 in 0"), ("E2", d.VoltageControlled(-1.0), "w 0 in 0"),
        ("RU", R(resistance), "u c1"), ("RW", R(resistance), "w c2"), ("C1", C(1e-6), "c1 g1"), ("C2", C(1e-6), "c2 g2"),
        ("VG", V(grid), "b 0"), ("RG1", R(47e3), "b g1"), ("RG2", R(47e3), "b g2"), ("VB", V(volt), "h0 0"),
        ("T1", output(ohm, 8.0, (1.0,)), "a1 h0 h0 a2 0 o"), ("RL", R(8.0), "o 0"),
    ]  # fmt: skip
    if isinstance(tube, d.Pentode):
        rows += [("VS", V(screen or volt), "vs 0"), ("RS1", R(100.0), at.format(s="s1")), ("RS2", R(100.0), at.format(s="s2")),
                 ("V1", tube, "a1 s1 g1 0"), ("V2", tube, "a2 s2 g2 0")]  # fmt: skip
    else:
        rows += [("V1", tube, "a1 g1 0"), ("V2", tube, "a2 g2 0")]
    return make(title, rows)


def _feedback() -> Netlist:
    """A single-ended EL34 with 20 dB around it and its driver."""
    el34, ef86 = tubes.get("EL34").pentode(), tubes.get("EF86").pentode()
    trafo = d.Transformer((d.Winding(1, 120, 30e-3), d.Winding((8 / 3000) ** 0.5, 0.4, 60e-6)), d.Core(20.0))
    return make("single-ended EL34, 20 dB of feedback", [
        ("VIN", V(0.0, 1.0), "in 0"), ("VB", V(350.0), "h0 0"), ("RH", R(10e3), "h0 h1"), ("CH", C(47e-6), "h1 0"),
        ("RG", R(470e3), "g1 0"), ("CI", C(100e-9), "in g1"), ("V1", ef86, "a1 s1 g1 k1"), ("RA", R(100e3), "h1 a1"),
        ("RSC", R(390e3), "h1 s1"), ("CS", C(470e-9), "s1 k1"), ("RK", R(1e3), "k1 f"), ("RF1", R(100.0), "f 0"),
        ("CC", C(220e-9), "a1 g2"), ("RG2", R(470e3), "g2 0"), ("RGS", R(1e3), "g2 q2"),
        ("V2", el34, "a2 s2 q2 k2"), ("RS2", R(100.0), "h0 s2"), ("RK2", R(270.0), "k2 0"), ("CK2", C(220e-6), "k2 0"),
        ("T1", trafo, "h0 a2 o 0"), ("RL", R(8.0), "o 0"), ("RF", R(1e3), "o f"), ("CF", C(1e-9), "o f"),
    ])  # fmt: skip


def _pair(source: bool) -> Netlist:
    tube = tubes.get("ECC83").triode()
    rows: Rows = [
        ("VIN", V(0.0, 1.0), "in 0"), ("VB", V(350.0), "h 0"), ("CI", C(100e-9), "in g1"), ("RG1", R(1e6), "g1 r"),
        ("CG2", C(100e-9), "g2 0"), ("RG2", R(1e6), "g2 r"), ("V1", tube, "a1 g1 k"), ("V2", tube, "a2 g2 k"),
        ("RA1", R(100e3), "h a1"), ("RA2", R(100e3), "h a2"), ("RL1", R(470e3), "a1 0"), ("RL2", R(470e3), "a2 0"),
    ]  # fmt: skip
    if source:
        npn = d.BipolarTransistor(1e-14, 150.0, 2.0, 80.0, 0.1)
        rows += [("Q1", npn, "k b e"), ("RE", R(2200.0), "e n"), ("VN", V(-20.0), "n 0"), ("RB", R(6800.0), "b 0"),
                 ("D1", d.Zener(5.6), "n b"), ("VR", V(0.0), "r 0")]  # fmt: skip
    else:
        rows += [("RK", R(1000.0), "k r"), ("RT", R(47e3), "r 0")]
    return make("long-tailed pair, " + ("transistor source" if source else "resistor"), rows)


def _transformerless() -> Netlist:
    tube = tubes.get("6AS7G").triode()
    return make("output-transformerless pair", [
        ("VIN", V(0.0, 40.0), "in 0"), ("VP", V(150.0), "p 0"), ("VN", V(-150.0), "n 0"),
        ("E1", d.VoltageControlled(1.0), "u o in 0"), ("E2", d.VoltageControlled(-1.0), "w n in 0"),
        ("RU", R(10e3), "u c1"), ("RW", R(10e3), "w c2"), ("C1", C(470e-9), "c1 g1"), ("C2", C(470e-9), "c2 g2"),
        ("VB1", V(-62.0), "b1 o"), ("VB2", V(-62.0), "b2 n"), ("RG1", R(220e3), "b1 g1"), ("RG2", R(220e3), "b2 g2"),
        ("V1", tube, "p g1 o"), ("V2", tube, "o g2 n"), ("RL", R(32.0), "o 0"),
    ])  # fmt: skip


def _parallel() -> Netlist:
    tube = tubes.get("300B").triode()
    trafo = d.Transformer((d.Winding(1, 60, 10e-3), d.Winding((8 / 1000) ** 0.5, 0.4, 80e-6)), d.Core(15.0))
    rows: Rows = [("VIN", V(0.0, 60.0), "in 0"), ("VB", V(420.0), "h 0"), ("RD", R(5e3), "in d"), ("CC", C(470e-9), "d c"),
                  ("RG", R(100e3), "c 0"), ("T1", trafo, "h a o 0"), ("RL", R(8.0), "o 0")]  # fmt: skip
    for k in "123":
        rows += [(f"RS{k}", R(470.0), f"c g{k}"), (f"RA{k}", R(10.0), f"a a{k}"), (f"V{k}", tube, f"a{k} g{k} k{k}"),
                 (f"RK{k}", R(1000.0), f"k{k} 0"), (f"CK{k}", C(100e-6), f"k{k} 0")]  # fmt: skip
    return make("three single-ended 300B in parallel", rows)


def _regulated() -> Netlist:
    npn = d.BipolarTransistor(1e-14, 100.0, 2.0, 100.0, 1.0)
    tube = tubes.get("ECC88").triode()
    return make("line stage behind a transistor regulator", [
        ("VIN", V(0.0, 0.5), "in 0"), ("VB", V(260.0), "h 0"), ("RB", R(47e3), "h b"), ("D1", d.Zener(90.0), "0 z"),
        ("D2", d.Zener(91.0), "z b"), ("CB", C(10e-6), "b 0"), ("Q1", npn, "h b r"), ("CR", C(1e-6), "r 0"),
        ("V1", tube, "a g k"), ("RA", R(15e3), "r a"), ("RG", R(470e3), "g 0"), ("CI", C(220e-9), "in g"),
        ("RK", R(270.0), "k 0"), ("CO", C(2.2e-6), "a o"), ("RL", R(47e3), "o 0"),
    ])  # fmt: skip


def _totem(follower: bool) -> Netlist:
    tube = tubes.get("6SN7GT").triode()
    rows: Rows = [
        ("VIN", V(0.0, 0.5), "in 0"), ("VB", V(300.0), "h 0"), ("CI", C(100e-9), "in g1"), ("RG", R(470e3), "g1 0"),
        ("V1", tube, "a1 g1 k1"), ("RK", R(680.0), "k1 0"), ("CO", C(1e-6), "k2 o"), ("RL", R(100e3), "o 0"),
    ]  # fmt: skip
    if follower:
        rows += [("RA", R(22e3), "x a1"), ("RX", R(680.0), "k2 x"), ("V2", tube, "h g2 k2"), ("CG", C(100e-9), "a1 g2"),
                 ("RG2", R(1e6), "g2 x")]  # fmt: skip
    else:
        rows += [("RX", R(680.0), "k2 a1"), ("V2", tube, "h a1 k2")]
    return make("mu follower" if follower else "series-regulated pair", rows)


def _cascode() -> Netlist:
    tube = tubes.get("ECC88").triode()
    return make("cascode", [
        ("VIN", V(0.0, 0.2), "in 0"), ("VB", V(300.0), "h 0"), ("CI", C(100e-9), "in g1"), ("RG", R(470e3), "g1 0"),
        ("V1", tube, "m g1 k"), ("RK", R(220.0), "k 0"), ("CK", C(220e-6), "k 0"), ("V2", tube, "a g2 m"),
        ("R1", R(470e3), "h g2"), ("R2", R(150e3), "g2 0"), ("CG", C(470e-9), "g2 0"), ("RA", R(22e3), "h a"),
        ("CO", C(470e-9), "a o"), ("RL", R(470e3), "o 0"),
    ])  # fmt: skip


HAND_MADE: tuple[Callable[[], Netlist], ...] = (
    lambda: channels(1),
    lambda: channels(2),
    lambda: _pair(False),
    lambda: _pair(True),
    lambda: _push_pull("807 class AB2", tubes.get("807").pentode(), 6600.0, -32.0, 600.0, 300.0, 45.0, 500.0),
    lambda: _push_pull(
        "KT88 push-pull, pentodes", tubes.get("KT88").pentode(), 5000.0, -48.0, 450.0, 330.0, 40.0, 10e3
    ),
    lambda: _push_pull("300B push-pull", tubes.get("300B").triode(), 4000.0, -75.0, 350.0, None, 60.0, 5e3),
    _transformerless,
    _feedback,
    _parallel,
    _regulated,
    lambda: _totem(False),
    lambda: _totem(True),
    _cascode,
    lambda: chain(160),
)
EXAMPLES = (
    "beacon",
    "hurdle",
    "lantern",
    "lychgate",
    "mill",
    "plover",
    "reedbed",
    "saltpan",
    "sluice",
    "weir",
    "wicket",
)


def amplifiers() -> list[tuple[Netlist, str]]:
    """Each amplifier with what the simulator is given of it."""
    found = [(netlist, spice.circuit(netlist)) for netlist in (make_one() for make_one in HAND_MADE)]
    for name in EXAMPLES:
        amplifier = solve(examples.example(name))
        # The rectifiers are the straight lines that they were solved to be, for both.
        text = spice.write(amplifier.netlist, state=amplifier.state)
        netlist = Netlist(f"example {name}", amplifier.state.at.system.netlist.parts)
        found.append((netlist, text[: text.index("\n.op") + 1]))
    return found


def _core(*windings: d.Winding) -> d.Transformer:
    return d.Transformer(windings, d.Core(8.0))


def supplies() -> list[Netlist]:
    """Supplies from the mains to a load."""
    mains: Rows = [("VM", d.MainsSource(325.0, 50.0), "m 0")]
    one = [*mains, ("T1", _core(d.Winding(1, 12), d.Winding(0.9, 60)), "m 0 u w")]
    two = [*mains, ("T1", _core(d.Winding(1, 12), d.Winding(1.0, 60), d.Winding(1.0, 60)), "m 0 a1 0 0 a2")]
    ripple: Rows = [
        ("C1", C(47e-6), "k 0"),
        ("RH", R(220.0), "k b"),
        ("C2", C(100e-6), "b 0"),
        ("RL", R(3000.0), "b 0"),
    ]
    choke = d.choke(8.0, 150.0, 0.15, 0.6)
    bridge: Rows = [
        ("D1", d.Diode(), "u k"),
        ("D2", d.Diode(), "w k"),
        ("D3", d.Diode(), "0 u"),
        ("D4", d.Diode(), "0 w"),
    ]
    gz34 = tubes.get("GZ34").rectifier()
    return [
        make("vacuum full-wave, capacitor and choke", [
            *two, ("V1", gz34, "a1 a2 k"), ("C1", C(47e-6), "k 0"), ("L1", choke, "k b"), ("C2", C(100e-6), "b 0"),
            ("RL", R(3000.0), "b 0"),
        ]),
        make("vacuum full-wave, choke input", [
            *two, ("V1", gz34, "a1 a2 k"), ("L1", choke, "k b"), ("C2", C(100e-6), "b 0"), ("RL", R(2000.0), "b 0"),
        ]),
        make("bridge of four diodes", [*one, *bridge, *ripple]),
        make("bridge, and bias through a capacitor", [
            *one, *bridge, *ripple, ("CB", C(220e-9), "u p"), ("D5", d.Diode(), "p 0"), ("D6", d.Diode(), "n p"),
            ("C3", C(47e-6), "n 0"), ("RB", R(47e3), "n 0"),
        ]),
        make("hybrid bridge", [
            *one, ("V1", gz34, "u w k"), ("D3", d.Diode(), "0 u"), ("D4", d.Diode(), "0 w"), *ripple,
        ]),
        make("doubler", [
            *mains, ("T1", _core(d.Winding(1, 12), d.Winding(0.5, 20)), "m 0 u w"),
            ("D1", d.Diode(), "u k"), ("D2", d.Diode(), "0 u"), ("CD1", C(220e-6), "k w"), ("CD2", C(220e-6), "w 0"),
            ("RL", R(2000.0), "k 0"),
        ]),
        make("half-wave bias", [
            *mains, ("T1", _core(d.Winding(1, 12), d.Winding(0.2, 20)), "m 0 u 0"), ("D1", d.Diode(), "n u"),
            ("C1", C(100e-6), "n 0"), ("RB", R(1e3), "n b"), ("C2", C(100e-6), "b 0"), ("RL", R(15e3), "b 0"),
        ]),
        make("selenium bridge", [
            *one, *(("SD" + str(k), d.SeleniumRectifier(20), nodes) for k, nodes in enumerate(("u k", "w k", "0 u", "0 w"))),
            *ripple,
        ]),
    ]  # fmt: skip
