"""The circuit, block by block, as a drawing.

Signal runs left to right; the HT comes down from the top, earth is at the bottom. Each block draws itself from an x
of its own and says how wide it was and where its signal leaves.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from bold_anode.chain.pen import Drawing, Pen
from thermionic.blocks import SolvedAmplifier
from thermionic.design import (
    Input,
    Loudspeaker,
    OutputTransformer,
    TriodeOutput,
    TriodeStage,
    VolumeControl,
)
from thermionic.values import Quantity, display, written

# Heights of the rows of the amplifier's drawing.
RAIL, LOAD, ANODE, SIGNAL, CATHODE, BIAS, EARTH = 34, 76, 116, 166, 212, 250, 296
SUPPLY_RAIL, SUPPLY_PART, SUPPLY_EARTH = 44, 92, 140


def amplifier_drawing(
    amplifier: SolvedAmplifier, before: SolvedAmplifier | None, severities: dict[str, str]
) -> Drawing:
    """The signal path. ``severities`` maps a part's path to the severity of the worst finding about it."""
    pen = Pen(amplifier, before, severities)
    x = 12.0
    signal = (x, float(SIGNAL))
    for block in amplifier.design.chain:
        width, signal = _BLOCKS[type(block)](pen, block, x, signal)
        x += width
    pen.sheet.width, pen.sheet.height = x, EARTH + 26
    return pen.sheet


def _input(pen: Pen, block: Input, x: float, signal: tuple[float, float]) -> tuple[float, tuple[float, float]]:
    level = display(block.source_volt, Quantity.VOLTAGE)
    pen.part(f"chain/{block.id}", "socket", x + 22, SIGNAL, level, "source", designator="IN",
             main=f"chain/{block.id}/source_volt", label=(x + 4, SIGNAL - 36, "start"), size=(34, 34))  # fmt: skip
    pen.wire((x + 22, SIGNAL + 14), (x + 22, EARTH))
    pen.earth(x + 22, EARTH)
    pen.wire((x + 36, SIGNAL), (x + 52, SIGNAL))
    return 52, (x + 52, SIGNAL)


def _volume(
    pen: Pen, block: VolumeControl, x: float, signal: tuple[float, float]
) -> tuple[float, tuple[float, float]]:
    at = x + 26
    pen.wire(signal, (x + 6, SIGNAL), (x + 6, ANODE), (at, ANODE), (at, SIGNAL - 22))
    text = f"{written(block.track_ohm, Quantity.RESISTANCE)} {block.travel:.0%}"
    pen.part(f"chain/{block.id}", "potentiometer", at, SIGNAL, text, "volume control",
             label=(at + 6, SIGNAL + 40, "start"), size=(44, 52))  # fmt: skip
    pen.wire((at, SIGNAL + 22), (at, EARTH))
    pen.earth(at, EARTH)
    pen.wire((at + 26, SIGNAL), (x + 100, SIGNAL))
    return 100, (x + 100, SIGNAL)


def _stage(pen: Pen, stage: TriodeStage | TriodeOutput, x: float, signal: tuple[float, float]) -> tuple[float, float]:
    """The grid and cathode side of a stage, with its tube. Returns the tube's x and the width taken up to it."""
    path = f"chain/{stage.id}"
    start, at = x, x
    if signal[1] != SIGNAL:
        pen.wire(signal, (x + 4, signal[1]), (x + 4, SIGNAL))
        at = x + 4
    else:
        pen.wire(signal, (x, SIGNAL))
    if stage.coupling:
        pen.wire((at, SIGNAL), (x + 24, SIGNAL))
        pen.capacitor(f"{path}/coupling", stage.coupling, x + 32, SIGNAL, "coupling capacitor", turn=90,
                      label=(x + 20, SIGNAL - 34, "start"))  # fmt: skip
        pen.wire((x + 40, SIGNAL), (x + 62, SIGNAL))
        at = x + 62
    else:
        pen.wire((at, SIGNAL), (x + 16, SIGNAL))
        at = x + 16
    if stage.grid_leak:
        pen.dot(at, SIGNAL)
        pen.wire((at, SIGNAL), (at, BIAS - 22))
        pen.resistor(f"{path}/grid_leak", stage.grid_leak, at, BIAS, "grid leak")
        pen.wire((at, BIAS + 22), (at, EARTH))
        pen.earth(at, EARTH)
    if stage.grid_stopper:
        pen.wire((at, SIGNAL), (at + 20, SIGNAL))
        pen.resistor(f"{path}/grid_stopper", stage.grid_stopper, at + 42, SIGNAL, "grid stopper", turn=90,
                     label=(at + 24, SIGNAL - 30, "start"))  # fmt: skip
        pen.wire((at + 64, SIGNAL), (at + 78, SIGNAL))
        at += 78
    else:
        pen.wire((at, SIGNAL), (at + 40, SIGNAL))
        at += 40
    tube = at + 32
    pen.part(path, "triode", tube, SIGNAL, stage.tube, "tube", label=(tube + 34, SIGNAL - 4, "start"), size=(66, 66))
    pen.figure(f"{stage.id}/heat", tube + 34, SIGNAL + 27, "heat",
               lambda amp: display(amp.part(path).dissipation, Quantity.POWER))  # fmt: skip
    # The cathode.
    pen.wire((tube, SIGNAL + 32), (tube, BIAS - 22))
    pen.resistor(f"{path}/cathode_resistor", stage.cathode_resistor, tube, BIAS, "cathode resistor",
                 label=(tube - 19, BIAS - 2, "end"))  # fmt: skip
    pen.wire((tube, BIAS + 22), (tube, EARTH))
    pen.earth(tube, EARTH)
    pen.volts(f"{stage.id}_cathode", tube - 8, CATHODE + 2, "bias", "end")
    if stage.cathode_bypass:
        pen.dot(tube, CATHODE + 6)
        pen.wire((tube, CATHODE + 6), (tube + 34, CATHODE + 6), (tube + 34, BIAS - 6))
        pen.capacitor(f"{path}/cathode_bypass", stage.cathode_bypass, tube + 34, BIAS, "cathode bypass",
                      polarised=True, label=(tube + 50, BIAS - 2, "start"))  # fmt: skip
        pen.wire((tube + 34, BIAS + 6), (tube + 34, EARTH))
        pen.earth(tube + 34, EARTH)
    pen.stage(stage.id, stage.tube, start, tube + 92)
    return tube, tube - start


def _rail(pen: Pen, section: str, x: float, y: float) -> None:
    """The flag of the supply section that something hangs on."""
    pen.symbol("rail", x, y)
    pen.figure(f"{section}@{x:g}", x + 10, y - 8, "ht",
               lambda amp: f"{section} {display(amp.voltage(section), Quantity.VOLTAGE)}", "start")  # fmt: skip


def _triode_stage(
    pen: Pen, stage: TriodeStage, x: float, signal: tuple[float, float]
) -> tuple[float, tuple[float, float]]:
    tube, taken = _stage(pen, stage, x, signal)
    pen.wire((tube, RAIL), (tube, LOAD - 22))
    _rail(pen, stage.feed, tube, RAIL)
    pen.resistor(f"chain/{stage.id}/anode_load", stage.anode_load, tube, LOAD, "anode load",
                 label=(tube + 15, LOAD - 14, "start"))  # fmt: skip
    pen.wire((tube, LOAD + 22), (tube, SIGNAL - 32))
    pen.dot(tube, ANODE)
    end = tube + 100
    pen.wire((tube, ANODE), (end, ANODE))
    pen.volts(f"{stage.id}_anode", tube + 22, ANODE - 7)
    return taken + 100, (end, ANODE)


def _triode_output(
    pen: Pen, stage: TriodeOutput, x: float, signal: tuple[float, float]
) -> tuple[float, tuple[float, float]]:
    tube, taken = _stage(pen, stage, x, signal)
    pen.wire((tube, SIGNAL - 32), (tube, ANODE), (tube + 96, ANODE))
    pen.volts(f"{stage.id}_anode", tube + 10, ANODE - 8)
    return taken + 96, (tube + 96, ANODE)


def _transformer(
    pen: Pen, block: OutputTransformer, x: float, signal: tuple[float, float]
) -> tuple[float, tuple[float, float]]:
    at, middle = x + 16, (RAIL + 16 + ANODE) / 2
    section = pen.design.output_stage.feed
    pen.wire((at, RAIL), (at, middle - 33))
    _rail(pen, section, at, RAIL)
    pen.wire(signal, (at, ANODE), (at, middle + 33))
    text = f"{written(block.primary_ohm, Quantity.RESISTANCE)} : {block.tap_ohm:g}"
    pen.part(f"chain/{block.id}", "transformer", at + 20, middle, text, "output transformer",
             label=(at - 4, ANODE + 24, "start"), size=(58, 74))  # fmt: skip
    end = at + 40
    pen.wire((end, middle - 33), (end, middle - 40), (end + 60, middle - 40))
    pen.wire((end, middle + 33), (end, middle + 40), (end + 60, middle + 40))
    return end + 60 - x, (end + 60, middle)


def _loudspeaker(
    pen: Pen, block: Loudspeaker, x: float, signal: tuple[float, float]
) -> tuple[float, tuple[float, float]]:
    middle = signal[1]
    pen.wire((x, middle - 40), (x, middle - 14))
    pen.wire((x, middle + 14), (x, middle + 40))
    pen.dot(x, middle + 40)
    pen.wire((x, middle + 40), (x, middle + 50))
    pen.earth(x, middle + 50)
    text = written(block.ohm, Quantity.RESISTANCE) + " Ω"
    pen.part(f"chain/{block.id}", "loudspeaker", x + 6, middle, text, "loudspeaker",
             main=f"chain/{block.id}/ohm", label=(x + 26, middle - 6, "start"), size=(44, 50))  # fmt: skip
    pen.figure("watts", x + 26, middle + 30, "signal", _watts)
    return 92, signal


def _watts(amplifier: SolvedAmplifier) -> str:
    point = amplifier.at_source
    return display(point.power_watt, Quantity.POWER) if point else "overdriven"


_BLOCKS: dict[type, Callable[[Pen, Any, float, tuple[float, float]], tuple[float, tuple[float, float]]]] = {
    Input: _input,
    VolumeControl: _volume,
    TriodeStage: _triode_stage,
    TriodeOutput: _triode_output,
    OutputTransformer: _transformer,
    Loudspeaker: _loudspeaker,
}


def supply_drawing(amplifier: SolvedAmplifier, before: SolvedAmplifier | None, severities: dict[str, str]) -> Drawing:
    """The HT supply."""
    pen = Pen(amplifier, before, severities)
    supply = amplifier.design.supply
    top, middle, earth = SUPPLY_RAIL, SUPPLY_PART, SUPPLY_EARTH
    pen.part("supply", "winding", 40, middle, display(supply.winding_volt, Quantity.VOLTAGE), "HT winding",
             main="supply/winding_volt", label=(4, middle + 52, "start"), size=(52, 70))  # fmt: skip
    pen.wire((58, middle - 33), (58, top + 6), (110, top + 6), (110, middle - 26))
    pen.wire((58, middle + 33), (58, earth), (110, earth), (110, middle + 26))
    pen.symbol("bridge", 110, middle)
    pen.wire((84, middle), (76, middle), (76, earth + 18))
    pen.earth(76, earth + 18)
    x = 190.0
    pen.wire((136, middle), (150, middle), (150, top), (x, top))
    pen.dot(x, top)
    pen.wire((x, top), (x, middle - 6))
    pen.capacitor("supply/reservoir", supply.reservoir, x, middle, "reservoir", polarised=True)
    pen.wire((x, middle + 6), (x, earth))
    pen.earth(x, earth)
    pen.volts("reservoir", x - 34, top - 10)
    pen.figure("reservoir/ripple", x + 24, top - 10, "ripple", lambda amp: _ripple(amp, "reservoir"))
    if supply.bleeder:
        pen.wire((x, top), (x + 80, top), (x + 80, middle - 22))
        x += 80
        pen.dot(x, top)
        pen.resistor("supply/bleeder", supply.bleeder, x, middle, "bleeder")
        pen.wire((x, middle + 22), (x, earth))
        pen.earth(x, earth)
    for section in supply.sections:
        path = f"supply/sections/{section.id}"
        pen.wire((x, top), (x + 72, top))
        pen.resistor(
            f"{path}/resistor", section.resistor, x + 94, top, "series resistor",
            turn=90, label=(x + 76, top + 28, "start"),
        )  # fmt: skip
        end = x + 150
        pen.wire((x + 116, top), (end, top), (end, middle - 6))
        pen.dot(end, top)
        pen.capacitor(f"{path}/capacitor", section.capacitor, end, middle, "smoothing capacitor", polarised=True)
        pen.wire((end, middle + 6), (end, earth))
        pen.earth(end, earth)
        pen.figure(section.id, end - 30, top - 10, "ht",
                   lambda amp, name=section.id: f"{name} {display(amp.voltage(name), Quantity.VOLTAGE)}")  # fmt: skip
        pen.figure(f"{section.id}/ripple", end + 14, middle + 34, "ripple",
                   lambda amp, name=section.id: _ripple(amp, name))  # fmt: skip
        x = end
    pen.sheet.width, pen.sheet.height = x + 80, earth + 34
    return pen.sheet


def _ripple(amplifier: SolvedAmplifier, node: str) -> str:
    return f"{display(amplifier.ripple(node), Quantity.VOLTAGE, 2)} pp"
