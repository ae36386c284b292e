"""``.supply`` and ``.startup``, comments elsewhere, held here against a long transient of the other simulator."""

import numpy as np
import pytest

from tests.core import simulator
from thermionic.circuit import spice
from thermionic.errors import NetlistRefused

DIODE = ".model DR D(IS=7.02n N=1.81 RS=0.034)\n"
GZ34 = """.subckt GZ34 ANODE1 ANODE2 CATHODE
B1a ANODE1 CATHODE I=0.00321003*max(V(ANODE1,CATHODE),0)^1.5
B1b ANODE2 CATHODE I=0.00321003*max(V(ANODE2,CATHODE),0)^1.5
.ends GZ34
"""
ENDS = "VM a 0 SIN(0 {0} 50)\nVM2 b 0 SIN(0 -{0} 50)\nRA a a1 75\nRB b b1 75\n"
FILTER = "C1 k 0 47u\nR9 k x 200\nC2 x 0 100u\nRL x 0 2.8k\n"
# Tubes' laws that somebody wrote, alone, beside a diode, the other way about, with silicon below, and as a doubler.
RECTIFIERS = {
    "two anodes": ENDS.format(480) + FILTER + "XR a1 b1 k GZ34\n" + GZ34,
    "beside a diode": ENDS.format(480) + FILTER + "B1 a1 k I=0.00321*max(V(a1,k),0)^1.5\nD9 b1 k DR\n"
    + DIODE.replace(")", " CJO=18p TT=4u)"),
    "written backwards": ENDS.format(480) + FILTER + "B1 k a1 I=-0.00321*max(V(a1,k),0)^1.5\nD9 b1 k DR\n" + DIODE,
    "hybrid bridge": ENDS.format(230) + "XR a1 b1 k GZ34\nD3 n a1 DR\nD4 n b1 DR\nC1 k n 33u\nR1 k q 220\n"
    "C2 q n 100u\nRL q n 3.9k\nRN n 0 1k\n" + GZ34 + DIODE,
    "doubler": "VM a 0 SIN(0 160 50)\nRA a a1 40\nCA a1 m 47u\nB1 0 m I=0.004*max(V(0,m),0)^1.5\n"
    "B2 m k I=0.004*max(V(m,k),0)^1.5\nC1 k 0 47u\nRL k 0 8k\n",
}  # fmt: skip


@simulator.needed
def test_a_supply_and_its_start(tmp_path):
    """``.supply`` and ``.startup``, which are comments elsewhere, against the other simulator's long transient."""
    text = """t
VM m 0 SIN(0 325 50)
R1 m a 50
D1 a o DD
.model DD D(IS=7n N=1.8 RS=.03)
C1 o 0 47u
R2 o p 1k
C2 p 0 47u
RL p 0 10k
*.supply VM
*.startup 3
"""
    ours = spice.run(spice.read(text))
    ((_, names, data),) = simulator.run(text + ".options reltol=1e-4\n.tran 50u 3 2.9 50u\n.end\n", tmp_path)
    weights = np.gradient(data[:, 0])
    for node in "op":
        wave = data[:, names.index(f"v({node})")]
        result = ours["supply"]["nodes"][node]
        assert result["mean"] == pytest.approx(np.average(wave, weights=weights), rel=1e-4)
        assert result["ripple"] == pytest.approx(np.ptp(wave), rel=0.02)
        assert ours["startup"]["nodes"][node][-1] == pytest.approx(result["mean"], rel=2e-3)
    assert ours["startup"]["time"][-1] == pytest.approx(3.0)


@simulator.needed
@pytest.mark.parametrize("kind", RECTIFIERS)
def test_a_tubes_law_rectifies_as_a_tube_does(kind, tmp_path):
    text = f"{kind}\n{RECTIFIERS[kind]}"
    result = spice.run(spice.read(text + ".supply\n.end\n"))["supply"]["nodes"]
    ((_, names, data),) = simulator.run(text + ".options reltol=1e-4\n.tran 50u 1.5 1.48 50u\n.end\n", tmp_path)
    weights = np.gradient(data[:, 0])
    for node in ("k", "x", "q"):
        if node in result:
            wave = data[:, names.index(f"v({node})")]
            assert result[node]["mean"] == pytest.approx(np.average(wave, weights=weights), rel=2e-3)
            assert result[node]["ripple"] == pytest.approx(np.ptp(wave), rel=0.03)


@pytest.mark.parametrize(
    "law",
    ["B7 x 0 I=1u*V(a)^2", "B7 x 0 I=1u*max(V(a),0)", "Q7 x a 0 QN\n.model QN NPN(is=1e-14 bf=100)\nRQ a 0 1k"],
    ids=["square", "half wave", "transistor"],
)
def test_what_its_own_transient_would_contradict_is_refused(law):
    """A part that works over the whole swing of the mains and is no rectifier across itself: no figure is given."""
    text = f"t\n{ENDS.format(100)}{FILTER}D8 a1 k DR\nD9 b1 k DR\n{DIODE}{law}\n.supply\n.end\n"
    with pytest.raises(NetlistRefused, match=r"7 does not act as a straight line over the mains cycle.*\.tran"):
        spice.run(spice.read(text))


def test_a_stage_on_a_supply_is_no_such_part():
    """A stage that only sees the ripple of its rail is straight enough: 4 mA through 8 kΩ, by hand."""
    stage = "RS x d 8k\nM1 d g 0 0 MM\n.model MM NMOS(vto=1.5 kp=2m)\nVG g 0 3.5\n"
    text = f"t\n{ENDS.format(100)}{FILTER}D8 a1 k DR\nD9 b1 k DR\n{DIODE}{stage}.supply\n.end\n"
    nodes = spice.run(spice.read(text))["supply"]["nodes"]
    assert nodes["d"]["mean"] == pytest.approx(nodes["x"]["mean"] - 8e3 * 1e-3 * (3.5 - 1.5) ** 2, rel=0.01)
