"""How long the HT stays dangerous after switching off."""

from __future__ import annotations

from thermionic.amplifier import compile_design
from thermionic.amplifier.solved import is_pulled
from thermionic.circuit.supply import solve_circuit
from thermionic.powerup.plan import Plan
from thermionic.supplies.discharging import HARMLESS, discharge


def discharge_seconds(plan: Plan, volt: float = HARMLESS) -> float | None:
    """Seconds until no capacitor holds more than ``volt``, with the tubes pulled or cold; see supplies.discharge. For
    the design and on the mains of ``plan``. None if that takes longer than an hour."""
    compiled = compile_design(plan.design)
    state = solve_circuit(compiled.netlist.without(is_pulled))
    seconds = [one.second for one in discharge(compiled, state, volt=volt)]
    return None if None in seconds else max((second for second in seconds if second is not None), default=0.0)
