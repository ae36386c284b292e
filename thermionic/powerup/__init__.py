"""First power-up: what every test point should read, judged readings, and the likeliest reasons for wrong ones."""

from thermionic.powerup.discharge import discharge_seconds
from thermionic.powerup.judging import Judgement, Verdict, judge
from thermionic.powerup.plan import METER_OHM, Plan, TestPoint, plan
from thermionic.powerup.probes import Step
from thermionic.powerup.reasons import Reason, reasons, signatures

__all__ = [
    "METER_OHM",
    "Judgement",
    "Plan",
    "Reason",
    "Step",
    "TestPoint",
    "Verdict",
    "discharge_seconds",
    "judge",
    "plan",
    "reasons",
    "signatures",
]
