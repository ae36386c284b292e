"""A heater string drawn: its feed, the dropping resistor, and each chain of heaters with its volts."""

from __future__ import annotations

from dataclasses import dataclass

from thermionic.supplies.heating import Heated, StringState
from thermionic.values import Quantity, display

_LEFT, _CHAIN, _STEP, _TOP = 150.0, 150.0, 64.0, 40.0


@dataclass(frozen=True)
class HeaterMark:
    """One heater on the sheet: its middle, its name, its volts, and whether it is far off."""

    x: float
    y: float
    name: str
    volt: str
    off: bool


@dataclass(frozen=True)
class StringSheet:
    """Everything to be placed: wires as one path, the heaters, and the words at the feed."""

    width: float
    height: float
    wires: str
    heaters: tuple[HeaterMark, ...]
    feed: str
    volt: str
    dropping: str
    middle: float


def sheet(string: StringState) -> StringSheet:
    """A string as it is drawn: the feed at the left, its chains side by side, each from hot to return."""
    chains: dict[int, list[Heated]] = {}
    for one in string.heated:
        chains.setdefault(one.use.chain, []).append(one)
    longest = max(len(chain) for chain in chains.values())
    bottom = _TOP + _STEP * longest + 14
    right = _LEFT + _CHAIN * (len(chains) - 1)
    wires = [f"M30 {_TOP:g}H{right:g}", f"M30 {bottom:g}H{right:g}"]
    marks = []
    for place, chain in enumerate(chains.values()):
        x = _LEFT + _CHAIN * place
        y = _TOP
        for one in chain:
            wires.append(f"M{x:g} {y:g}v16m0 32v16")
            count = f" ×{one.use.count}" if one.use.count > 1 else ""
            name = one.use.envelope.upper() + count
            volt = display(one.volt, Quantity.VOLTAGE)
            marks.append(HeaterMark(x, y + 32, name, volt, abs(one.share - 1) > 0.05))
            y += _STEP
        wires.append(f"M{x:g} {y:g}V{bottom:g}")
    feed = string.feed
    return StringSheet(
        right + 130.0,
        bottom + 20.0,
        "".join(wires),
        tuple(marks),
        (feed.winding or "DC").replace("_", " "),
        display(string.volt, Quantity.VOLTAGE) + (" AC" if feed.winding else " DC"),
        display(feed.dropping_ohm, Quantity.RESISTANCE) if feed.dropping_ohm else "",
        (_TOP + bottom) / 2,
    )
