"""Wrong lines in a netlist: each is refused by its number, with what is wrong and what would do; and none, however it
is spoilt, comes out as anything but a result or a sentence."""

import random
import re

import pytest

from thermionic import budget
from thermionic.circuit import spice
from thermionic.errors import NetlistRefused, ThermionicError

GOOD = """t
V1 a 0 DC 1 AC 1 SIN(0 1 1k)
R1 a b 1k
D1 b 0 DM
.model DM D
R2 b 0 10k
L1 b c 1m
RL c 0 1k
.param q=3
.tran 10u 1m
"""
LINE = GOOD.count("\n") + 1
# What is put after the good lines, and what is said of it.
REFUSED = [
    ("R9 a b", "R9 wants two nodes and a resistance."),
    ("R9 a b 1k 2k", "“2k” is not expected after the value of R9."),
    ("R9 a b 1k foo=2", "foo= is not known here; known is r, resistance, ic, tc,"),
    ("R9 a b 1k ic=2", "a resistor has no ic=."),
    ("R9 a b 1k m=0", "R9: m must be above zero."),
    ("R9 a b 1k tc=", "R9: tc wants one coefficient of temperature or two."),
    ("R9 a b 1k tc=1,2,3", "R9: tc wants one coefficient of temperature or two."),
    ("R9 a b DM", "R9 uses the model dm, which is of kind d."),
    ("R9 a b 1k1k", "“1k” is not expected in “1k1k”."),
    ("R9 a b {q", "a parenthesis, brace or quote is not closed."),
    ("R9 a b {q/0}", "“q/0” has no value."),
    ("R9 a b {nothing}", "“nothing” is no parameter that is known"),
    ("R9 = 5", "“R9 = 5” is no element: one begins with its name and its nodes."),
    ("q=5", "“q=5” is no element"),
    ("C9 a 0 0", "a capacitance must be more than nothing; 0 is 0."),
    ("C9 a 0 -1n", "a capacitance must be more than nothing; -1n is -1e-09."),
    ("L9 a 0 0", "an inductance must be more than nothing."),
    ("K9 L1 0.5", "K9 wants two or more inductors and a coupling."),
    ("K9 L1 L1 2", "K9: a coupling is between 0 and 1; this is 2."),
    ("V9 a", "V9 wants two nodes."),
    ("V9 d 0 DC", "V9: DC wants a value."),
    ("V9 d 0 SIN(0 1 0)", "SIN wants a frequency above zero."),
    ("V9 d 0 SIN(0)", "SIN wants 2 to 6 numbers; there are 1."),
    ("V9 d 0 EXP(0 1 0 0)", "EXP wants time constants above zero."),
    ("V9 d 0 PULSE(0 1 0 1m 1m 5m 2m)", "PULSE: the period is shorter than rise, width and fall."),
    ("V9 d 0 PWL(0 0 1m)", "PWL wants pairs of time and value, the times rising."),
    ("V9 d 0 PWL(0 0 0 1)", "PWL wants pairs of time and value, the times rising."),
    ("V9 d 0 SIN(0 1 1k) r=0", "r= is for PWL."),
    ("V9 d 0 AM(1 2 3)", "“AM(1 2 3)” is not known for a source; read are DC, AC, SIN"),
    ("V9 d 0 rser=5", "V9: rser= is not known; put the part into the netlist."),
    ("D9 a", "D9 wants two nodes and a model, and if need be an area."),
    ("D9 a 0 NODM", "there is no .model NODM."),
    ("D9 a 0 DM 1 2", "D9 wants two nodes and a model, and if need be an area."),
    ("Q9 a b 0 DM", "Q9 uses the model dm, which is of kind d, not npn."),
    ("Q9 a b", "Q9 wants collector, base, emitter and a model"),
    ("M9 a b 0 0 DM", "M9 uses the model dm, which is of kind d, not nmos."),
    ("M9 a b 0", "M9 wants drain, gate, source, bulk and a model."),
    ("S9 a b a 0", "S9 wants two nodes, two controlling nodes and a model."),
    ("W9 a b V1", "W9 wants two nodes, the part that it goes by and a model."),
    ("B9 a 0 X=3", "B9 wants two nodes and I= or V= with an expression."),
    ("B9 a 0 I=v(a)+", "a value is wanted at the end of “v(a)+”."),
    ("B9 a 0 I=(v(a)*2", "“)” is wanted at the end of “(v(a)*2”."),
    ("B9 a 0 I=max(v(a) 1)", "“)” is wanted before “1” in “max(v(a) 1)”."),
    ("B9 a 0 I=nofunction(v(a))", "nofunction() with 1 argument is not known. There are abs, acos,"),
    ("B9 a 0 I=i(VX)", "the current of VX is wanted, but there is no such part."),
    ("E9 e 0 a 0", "E9 wants two nodes, two controlling nodes and a gain, or POLY, TABLE or VALUE"),
    ("E9 e 0 POLY(2) a 0 1 2", "E9: POLY(2) wants 4 names and one or more coefficients."),
    ("F9 e 0 VX 2", "the current of VX is wanted, but there is no such part."),
    ("F9 e 0 V1", "F9 wants two nodes, the part that it goes by and a gain"),
    ("X9 a b nosub", "there is no .subckt nosub."),
    ("X9 a", "X9 wants nodes and the name of a subcircuit."),
    ("Z9 a b 1", "“Z9” begins with Z, which is no element that is known. Read are R C L"),
    (".model MX NPN(BF=)", "“BF=” makes no sense in a .model."),
    (".model MX ABC(A=1)", "the model kind ABC is not known; there are d, npn,"),
    (".model MX NPN(XX=1)", "the parameter XX of model MX is not known; there are is, bf,"),
    (".model MX", "a .model wants a name, a kind and parameters."),
    (".ac dec 10 0 1k", ".ac wants at least one point and 0 < first frequency ≤ last."),
    (".ac dec 10 1k", ".ac wants dec, oct or lin, a number of points, and the first and last frequency."),
    (".ac list -5", ".ac wants frequencies above zero."),
    (".ac oct 100000 1 1e9", "that is more than 100,000 frequencies."),
    (".tran 1u 1m", "this is a second .tran; one is run."),
    (".four 1k", ".four wants a frequency and one or more of v(node), v(a,b) and i(part)."),
    (".four 0 v(a)", ".four wants a frequency above zero, not 0."),
    (".four 1k 500 v(a)", ".four is done for 1 to 100 harmonics."),
    (".dc", ".dc wants what to change, and from where to where."),
    (".dc V1 0 1", ".dc wants a name, a first and a last value and a step, or a list."),
    (".dc V1 dec 0 1 5", ".dc: dec wants 0 < first ≤ last and points."),
    (".dc V1 list", ".dc: a list holds 1 to 1000 values."),
    (".dc V1 0 1 1u", ".dc sweeps one thing or two, at up to 20000 points."),
    (".step param nosuch 1 2 1", "A .step changes a parameter, a part or temp; there is no nosuch."),
    (".step param q 1 2 1 4", "“4” is not expected after the .step."),
    (".step param q 0 1 1u", ".step is run up to 1000 times, for three things at most."),
    (".meas tran m1", ".meas wants an analysis, a name and what to measure."),
    (".meas tran param='2*3'", ".meas wants an analysis, a name and what to measure."),
    (".meas tran m1 max", ".meas m1: MAX wants what it is of, as in v(out)."),
    (".meas tran m1 find", ".meas m1: FIND wants what it is of, as in v(out)."),
    (".meas tran m1 find v(a)", ".meas m1 wants AT=, or WHEN and a quantity=value."),
    (".meas tran m1 when", ".meas m1 wants AT=, or WHEN and a quantity=value."),
    (".meas tran m1 trig v(a) val=1", ".meas m1 wants TRIG and TARG."),
    (".meas tran m1 trig v(a) targ v(b) val=1", ".meas m1: TRIG and TARG want a quantity and VAL=, or AT=."),
    (".meas tran m1 trig v(a) val=0 rise1 targ v(b) val=0", "“rise1” cannot be looked at"),
    (".meas tran m1 max v(a) from=1 to=2", ".meas m1: nothing lies from 1 to"),
    (".meas tran m1 when v(a)=0 rise=0", ".meas m1: rise counts from 1."),
    (".meas tran m1 max v(nowhere)", "v(nowhere) is asked for, but there is no such node."),
    (".ic v(a)", ".ic wants v(node)=value."),
    (".ic a=1", ".ic wants v(node)=value."),
    (".thd 1k out", ".thd wants a frequency, v(node) or v(a,b)"),
    (".thd 1k v(a) 1 harmonics=1", ".thd is done with 2 to 64 harmonics."),
    (".startup", ".startup wants how long to follow it, s"),
    (".startup 1 off=2", ".startup runs for up to an hour, and off= lies within it."),
    (".temp x", "“x” is not a number."),
    (".param", "a .param line gives name=value pairs."),
    (".param p=", "a value is wanted where there is nothing."),
    (".func f", "a .func wants a name, its arguments and an expression: .func f(x,y) {x*y}."),
    (".include", ".include wants the name of a file beside this one."),
    (".ends", ".ends without a .subckt."),
    (".subckt s1 a b", "this .subckt has no .ends."),
    (".foo", ".foo is not known. Read are .op .ac .tran"),
]


@pytest.mark.parametrize(("line", "says"), REFUSED, ids=[line for line, _ in REFUSED])
def test_a_wrong_line_is_refused_by_its_number(line, says):
    with pytest.raises(NetlistRefused) as refusal:
        spice.run(spice.read(f"{GOOD}{line}\n"))
    said = str(refusal.value)
    assert says in said
    assert said.startswith(f"Line {LINE}: ") or "nowhere" in line, said


@pytest.mark.parametrize(
    "line", ["", "R9 a b 1k tc=1m", ".step param q 1 2 1", ".thd 1k v(b) 1", ".meas tran m MAX v(b)"]
)
def test_what_stands_before_is_no_reason(line):
    spice.run(spice.read(f"{GOOD}{line}\n"))


def test_what_has_no_bends_has_no_distortion():
    text = "t\nV1 a 0 AC 2\nR1 a b 1k\nR2 b 0 3k\n.thd 1k v(b) 1 2 load=R2\n"
    (result,) = spice.run(spice.read(text))["thd"]
    assert result["thd"] == pytest.approx([0.0, 0.0], abs=1e-9)
    assert result["volt_rms"] == pytest.approx([1.5 / 2**0.5, 3.0 / 2**0.5])  # three quarters of 2 V peak, and of 4
    assert result["watt"] == pytest.approx([1.5**2 / 2 / 3e3, 3.0**2 / 2 / 3e3])


# Netlists spoilt at random: a word left out, put in, or put in the place of another.

MORE = """RT b d 2k tc=1m,2u
CT d 0 10n ic=1
KT L1 LT 0.9
LT d e 1
RE e 0 1k
VP f 0 PULSE(0 1 1u 1u 1u 1m 2m)
RP f 0 1k
VW g 0 PWL(0 0 1m 1 2m 0) r=0
RW g 0 1k
Q1 d b e QM
.model QM NPN(BF=100 VAF=80 CJE=1p)
M1 d b e 0 MM W=10u L=1u
.model MM NMOS(LEVEL=1 VTO=1 KP=1m)
S1 a d b 0 SM on
.model SM SW(VT=1 VH=.1 RON=1 ROFF=1Meg)
E1 h 0 POLY(2) a 0 b 0 0 1 2 3
R3 h 0 1k
E2 i 0 TABLE {V(a)} = (0,0) (1,2) (3,4)
R4 i 0 1k
B1 b 0 I=V(a)*1m+pwl(V(b),0,0,1,1)
X1 a b sub params: p=2
.subckt sub x y p=1
R9 x y {p*1k}
.ends
.func f(x) {x*x+q}
.ic v(d)=1
.ac dec 3 10 100k
.four 1k 5 v(b) i(V1)
.dc V1 0 5 1
.step param q 1 3 1
.meas tran m1 max v(b)
.meas tran m2 find v(b) when v(a)=0.5 rise=1
.meas tran m4 trig v(a) val=0.5 rise=1 targ v(b) val=0.1 rise=1
.meas tran m5 param='m1*2'
.if (q>2)
R20 a 0 1k
.else
R20 a 0 2k
.endif
*.thd 1k v(b) 0.5 1 harmonics=5""".splitlines()
SCRAPS = (
    "", "0", "-1", "1e400", "nan", "inf", "{", "}", "{q", "(", ")", "()", "v()", "i(zz)", "zz", "1k1", "=", "x=",
    "=1",
    "'", '"', ",", "*", "1e-400", "-5k", "{1/0}", "{q**1000}", "V1", "time", "v(a,,b)", "dec", "list", "uic", "é",
    "\x00", "1" * 400, "{" * 50, "((",
)  # fmt: skip


def spoilt(dice):
    lines = [*GOOD.splitlines()[1:], *MORE]
    for _ in range(dice.choice((1, 1, 2, 3))):
        at = dice.randrange(len(lines))
        words = re.split(r"(\s+|[(),={}])", lines[at])
        place, way = dice.randrange(len(words)), dice.randrange(4)
        if way == 0:
            words[place] = dice.choice(SCRAPS)
        elif way == 1:
            del words[place]
        elif way == 2:
            words.insert(place, dice.choice(SCRAPS))
        else:
            words[place] = dice.choice(re.split(r"(\s+|[(),={}])", dice.choice(lines)))
        lines[at] = "".join(words)
    if dice.random() < 0.5:
        lines = [line for line in lines if dice.random() < 0.9]
    return "t\n" + "\n".join(lines) + "\n"


@pytest.mark.parametrize("seed", range(8))
def test_a_spoilt_netlist_is_run_or_refused_in_a_sentence(seed):
    dice, refused = random.Random(seed), []
    for _ in range(150):
        text = spoilt(dice)
        try:
            with budget.limit(2.0):
                spice.run(spice.read(text))
        except ThermionicError as refusal:
            refused.append(str(refusal))
    assert 20 < len(refused) < 145
    assert all(len(sentence) > 15 and sentence[-1] in ".…" for sentence in refused)
