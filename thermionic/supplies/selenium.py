"""A selenium rectifier replaced by silicon, with the resistor that keeps the voltage where it was."""

from __future__ import annotations

from dataclasses import dataclass

from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.blocks.facets import Rectified
from thermionic.circuit.netlist import GROUND
from thermionic.design import Design, dump, find, validate
from thermionic.supplies.moments import house_volts
from thermionic.supplies.ratings import resistor_watt
from thermionic.supplies.rectifying import rectifying
from thermionic.values import Series, nearest

_REVERSE = (100.0, 200.0, 400.0, 600.0, 1000.0)


@dataclass(frozen=True)
class Replacement:
    """One selenium rectifier: its block; what comes out with it, with silicon alone, and with silicon behind the
    dropping resistor, V; that resistor, Ω, with its heat at the usual and the highest mains and the rating to buy, W;
    and the reverse rating for the silicon, V."""

    block: str
    selenium_volt: float
    silicon_volt: float
    restored_volt: float
    ohm: float
    usual_watt: float
    high_watt: float
    rating_watt: float
    reverse_volt: float


def selenium_blocks(amplifier: SolvedAmplifier) -> tuple[str, ...]:
    """The blocks that rectify with selenium."""
    return tuple(
        use.block
        for use in amplifier.compiled.said(Rectified)
        if use.diode and find(amplifier.design, use.diode).value.material == "selenium"
    )


def _silicon(design: Design, block_id: str, ohm: float, watt: float, reverse_volt: float) -> Design:
    raw = dump(design)
    block = next(block for block in raw["blocks"] if block["id"] == block_id)
    diode = {"reverse_volt": reverse_volt, "ampere": 1.0, "material": "silicon", "in_series": 1}
    block["diode"] = diode
    block["dropping"] = {"ohm": ohm, "rating_watt": watt, "tolerance": 0.05} if ohm > 0 else None
    return validate(raw)


def _output(amplifier: SolvedAmplifier, block_id: str) -> float:
    """The steady voltage of what a rectifier makes, V."""
    use = next(rectified for rectified in amplifier.compiled.said(Rectified) if rectified.block == block_id)
    plus, minus = (0.0 if node == GROUND else amplifier.voltage(node) for node in (use.plus, use.minus))
    return plus - minus


def replacement(amplifier: SolvedAmplifier, block_id: str) -> tuple[Replacement, Design]:
    """What stands in for the selenium rectifier of a block, and the design with it. Raises NoSolution.

    The resistor is looked for by solving, and taken from the E12 series; new selenium is unsure, so what was measured
    with the old one in place is the better aim.
    """
    from scipy.optimize import brentq  # takes a while to import, which nothing before the first page needs

    design = amplifier.design
    use = next(rectified for rectified in amplifier.compiled.said(Rectified) if rectified.block == block_id)
    _, _, high = house_volts(design)
    reverse = rectifying(amplifier.on_mains(high).state, use).reverse_volt
    rating = next((volt for volt in _REVERSE if volt >= 1.5 * reverse), _REVERSE[-1])
    aim = _output(amplifier, block_id)
    plain = solve(_silicon(design, block_id, 0.0, 1.0, rating), amplifier)
    bare = _output(plain, block_id)

    def off(ohm: float) -> float:
        return _output(solve(_silicon(design, block_id, ohm, 1.0, rating), plain), block_id) - aim

    most = 10.0
    while off(most) > 0 and most < 1e5:
        most *= 4.0
    exact = float(brentq(off, 0.1, most, rtol=0.02)) if off(0.1) > 0 else 0.1
    ohm = nearest(exact, Series.E12)
    after = solve(_silicon(design, block_id, ohm, 1.0, rating), plain)
    path = f"blocks/{block_id}/dropping"
    usual, hottest = after.part(path).dissipation, after.on_mains(high).part(path).dissipation
    watt = resistor_watt(hottest)
    result = Replacement(block_id, aim, bare, _output(after, block_id), ohm, usual, hottest, watt, rating)
    return result, _silicon(design, block_id, ohm, watt, rating)
