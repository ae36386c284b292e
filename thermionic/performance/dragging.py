"""The operating point or the load line moved on the plot: the parts that follow."""

from __future__ import annotations

import numpy as np

from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.amplifier.stage import driven_load, tube_use
from thermionic.blocks.facets import TubeUse, Winding
from thermionic.design import Design, changed, find, fitted
from thermionic.errors import DesignRefused, ThermionicError
from thermionic.performance.schools.working import feed_node
from thermionic.performance.settling import settled
from thermionic.values import Series, nearest

# A point that is moved by less than this part of what it was is left where it is in that direction.
_LITTLE = 0.02
_ROUNDS = 3


def move_point(amplifier: SolvedAmplifier, block_id: str, volt: float, ampere: float) -> Design:
    """The design whose tubes of a block idle near ``volt`` (anode to cathode) and ``ampere``.

    The current follows what sets the bias; the voltage the anode's own resistor, or where there is none the mains
    winding. Preferred values are taken, so that it comes near. Raises KeyError for a block without tubes,
    DesignRefused where nothing in the design could move it so, and what solving raises.
    """
    use = tube_use(amplifier, block_id)
    if not (volt > 0 and ampere > 0):
        raise DesignRefused("The operating point stays above no volts and no current.")
    design, now = amplifier.design, amplifier
    was_volt, was = amplifier.over_cathode(use, "anode"), amplifier.parts[use.part].current
    moved_volt, moved = abs(volt / was_volt - 1) > _LITTLE, abs(ampere / was - 1) > _LITTLE
    if not moved and not moved_volt:
        return design
    wanted = ampere if moved else was
    for _ in range(_ROUNDS):
        if moved_volt:
            design = _with_volt(now, use, volt, wanted)
            now = solve(design, now)
        design = _with_current(now, use, wanted)
        now = solve(design, now)
        at = now.over_cathode(tube_use(now, block_id), "anode")
        if not moved_volt or abs(at / volt - 1) < 0.03:
            break
    return design


def _with_current(amplifier: SolvedAmplifier, use: TubeUse, wanted: float) -> Design:
    """The design with the bias set for a current."""
    if not use.knob:
        raise DesignRefused(f"Nothing in the design sets the current of {use.part} by itself.")
    if abs(amplifier.parts[use.part].current / wanted - 1) < _LITTLE:
        return amplifier.design
    if use.knob.endswith("/ohm"):
        now = float(amplifier.netlist[amplifier.compiled.designator(use.knob)].device.ohm)  # type: ignore[attr-defined]
        return settled(amplifier.design, use.knob, wanted, use.block, (now / 12, now * 12), amplifier, Series.E24)
    other = next((one.knob for one in amplifier.compiled.tubes_of(use.block) if one.knob != use.knob), "")
    return settled(amplifier.design, use.knob, wanted, use.block, (0.02, 1.0), amplifier, None, other)


def _with_volt(amplifier: SolvedAmplifier, use: TubeUse, volt: float, ampere: float) -> Design:
    """The design with what drops the rail's voltage, or the rail, set for an anode voltage."""
    block = amplifier.design.block(use.block)
    cathode = amplifier.voltage(use.cathode)
    load = f"blocks/{block.id}/anode_load"
    if fitted(amplifier.design, load):
        rail = amplifier.voltage(feed_node(amplifier, block))
        left = rail - volt - cathode
        if left < 0.03 * rail:
            raise DesignRefused(
                f"The rail of {block.label.lower()} stands at {rail:.0f} V; the anode cannot idle at {volt:.0f} V "
                f"over a cathode at {cathode:.0f} V through a resistor."
            )
        return changed(amplifier.design, f"{load}/ohm", nearest(left / ampere, Series.E24))
    winding = next(
        (winding for winding in amplifier.compiled.said(Winding) if _makes_rail(amplifier, winding.block)), None
    )
    if winding is None:
        raise DesignRefused("The anode hangs on a rail that no mains winding of the design sets.")
    path = f"blocks/{winding.block}/winding_volt"
    now = find(amplifier.design, path).value
    factor = (volt + cathode) / (amplifier.over_cathode(use, "anode") + cathode)
    return changed(amplifier.design, path, float(np.round(now * factor, 0)))


def _makes_rail(amplifier: SolvedAmplifier, winding: str) -> bool:
    """Whether a mains winding is that of the highest rail: the first that is not a bias's."""
    takers = [other for other in amplifier.design.blocks if f"{winding}.out" in other.references.values()]
    biases = {rail.block for rail in amplifier.compiled.rails if rail.bias}
    return bool(takers) and not any(taker.id in biases for taker in takers)


def move_line(amplifier: SolvedAmplifier, block_id: str, ohm: float) -> Design:
    """The design whose tubes of a block work into ``ohm`` for the signal: the transformer's load, or the anode's own
    resistor beside what hangs on it. Raises KeyError, DesignRefused, and what solving raises."""
    use = tube_use(amplifier, block_id)
    now = driven_load(amplifier, use)
    if not (np.isfinite(ohm) and ohm > 0 and now > 0):
        raise DesignRefused("A load line falls from left to right.")
    block = amplifier.design.block(block_id)
    behind = [
        transformer
        for transformer in amplifier.compiled.transformers
        if transformer.taps
        and amplifier.design.block(transformer.block).references.get("input", "").startswith(f"{block_id}.")
    ]
    iron = behind[0] if behind else None
    if iron is not None:
        value = nearest(iron.primary_ohm * ohm / now, Series.E24)
        return changed(amplifier.design, f"blocks/{iron.block}/primary_ohm", value)
    path = f"blocks/{block.id}/anode_load"
    if fitted(amplifier.design, path):
        load = find(amplifier.design, f"{path}/ohm").value
        beside = 1.0 / max(1.0 / now - 1.0 / load, 1e-9)
        if ohm >= beside:
            raise DesignRefused(
                f"What hangs on the anode of {block.label.lower()} is {beside / 1e3:.3g} kΩ by itself; its load line "
                "cannot be flatter than that."
            )
        design = changed(
            amplifier.design,
            f"{path}/ohm",
            nearest(1.0 / (1.0 / ohm - 1.0 / beside), Series.E24),
        )
        try:
            return _with_current(solve(design, amplifier), use, amplifier.parts[use.part].current)
        except ThermionicError:
            return design
    raise DesignRefused(f"Nothing in the design sets the load of {block.label.lower()} by itself.")
