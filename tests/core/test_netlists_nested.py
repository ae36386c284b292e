"""A semiconductor by one name in several places: in two instances, in a subcircuit of a subcircuit, and outside."""

import pytest

from tests.core import simulator
from tests.core.test_netlists import TIGHT, agree
from thermionic.circuit import spice

# Kind: its model, its line between an input and an output, and what feeds it.
KINDS = {
    "diode": (".model M D(is=2n rs=9 n=1.8 cjo=12p tt=4n bv=40 ibv=1u)", "D1 i o M"),
    "diode of recombination": (".model M D(is=1n rs=4 isr=3n nr=2.2 ikf=20m)", "D1 i o M"),
    "zener": (".model M D(is=1n rs=6 bv=5.1 ibv=1m cjo=50p)", "D1 o i M"),
    "bipolar": (".model M NPN(is=1e-14 bf=120 rb=90 rc=12 re=.6 cje=8p cjc=4p tf=.4n vaf=80)",
                "RC1 s c 2.2k\nQ1 c i e M\nRE1 e o 330"),
    "junction FET": (".model M NJF(vto=-2.4 beta=1.1m rd=30 rs=25 cgs=3p cgd=2p lambda=8m)", "J1 s i o M"),
    "MOSFET": (".model M NMOS(vto=1.2 kp=3m rd=14 rs=9 cbd=4p cbs=4p)", "M1 s i o o M w=100u l=10u"),
    "power MOSFET": (".model M VDMOS(vto=2.5 kp=1.4 rg=7 rd=.2 rs=.1 rb=.1 cgs=300p cgdmax=200p cgdmin=20p cjo=90p)",
                     "M1 s i o M"),
}  # fmt: skip


def netlist(kind):
    """The element in X1 and X2 of one subcircuit, in a subcircuit of another beside one of its own, and outside."""
    model, line = KINDS[kind]
    outside = _at(line, "in", "out5")
    return f"""one name in five places
{model}
VS s 0 12
VI in 0 4 AC 1
.global s
.subckt ONE i o
{line}
.ends
.subckt TWO i o
X1 i m ONE
{_at(line, "i", "m2")}
RM m2 m 100
RO m o 220
.ends
X1 in out1 ONE
R1 out1 0 1k
X2 in out2 ONE
R2 out2 0 4.7k
X3 in out3 TWO
R3 out3 0 680
X4 in out4 TWO
R4 out4 0 2.2k
{outside}
R5 out5 0 330
"""


def _at(line, i, o):
    """The element's line between two other nodes."""
    words = {"i": i, "o": o}
    return "\n".join(" ".join(words.get(word, word) for word in one.split()) for one in line.split("\n"))


@simulator.needed
@pytest.mark.parametrize("kind", KINDS)
def test_no_two_of_one_name_share_what_is_inside_them(kind, tmp_path):
    text = netlist(kind)
    plots = simulator.run(text + ".op\n.ac dec 4 10 10meg\n" + TIGHT + ".end\n", tmp_path)
    agree(spice.run(spice.read(text + ".op\n.ac dec 4 10 10meg\n.end\n")), plots, 2e-4, 5e-3)


@pytest.mark.parametrize("kind", KINDS)
def test_every_inner_node_is_of_one_element(kind):
    owners = {}
    for part in spice.read(netlist(kind) + ".op\n.end\n").netlist.parts:
        for node in part.nodes:
            if "__" in node:
                owners.setdefault(node, set()).add(part.name.split("__")[0].upper())
    assert all(len(names) == 1 for names in owners.values()), owners
