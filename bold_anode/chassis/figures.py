"""The figures of a layout in words: its hum by cause, and the body that is looked at."""

from __future__ import annotations

from typing import Any, get_args

from thermionic.chassis.catalogue import strip_kinds
from thermionic.chassis.document import FACES, MOUNTS, CoilAxis, Screen
from thermionic.chassis.geometry import frame
from thermionic.chassis.hum import Cause, LayoutHum
from thermionic.chassis.laid import Laid
from thermionic.chassis.nets import EARTH
from thermionic.chassis.stability import fed_back
from thermionic.errors import Unbalanced
from thermionic.values import Quantity, display

_SHOWN = 6
_WAYS = {"magnetic": "by its field", "capacitive": "by capacitance", "earth": "across the earth wires",
         "supply": "through the rails", "leakage": "inside the tubes"}  # fmt: skip


def decibels(hum: LayoutHum, volt: float) -> str:
    """A level in words."""
    below = hum.below(volt)
    return f"{below:.0f} dB" if below < 150 else "none"


def where_of(laid: Laid) -> str:
    """Where hum is reckoned: the loudspeaker, or the output, of the worse channel."""
    channel = {0: "", 1: "left ", 2: "right "}[laid.hum.channel]
    return f"{channel}{'loudspeaker' if laid.amplifier.load.power else 'output'}"


def against_of(laid: Laid) -> str:
    """What hum is reckoned against."""
    volt = laid.hum.reference_volt
    watt = volt**2 / laid.amplifier.load.ohm
    return display(watt, Quantity.POWER, 2) if laid.amplifier.load.power else display(volt, Quantity.VOLTAGE, 2)


def said_of(laid: Laid) -> dict[str, Any]:
    """All of the hum in words; where it cannot be trusted, why under ``refusal``, and nothing else."""
    try:
        hum = laid.hum
    except Unbalanced as refusal:
        return {"refusal": str(refusal)}
    low, high = hum.band()
    return {
        "below": f"{hum.below(hum.volt):.0f}",
        "best": f"{min(hum.below(low), 150):.0f}",
        "worst": f"{hum.below(high):.0f}",
        "volt": display(hum.volt, Quantity.VOLTAGE, 2),
        "measured": f"{hum.measured_volt * 1e3:g}" if hum.measured_volt else "",
        "measured_below": f"{hum.below(hum.measured_volt):.0f}" if hum.measured_volt else "",
        "where": where_of(laid),
        "against": against_of(laid),
        "bars": hum_bars(hum),
        "mine": f"{hum.below(sum(c.volt**2 for c in hum.causes if c.way not in ('supply', 'leakage')) ** 0.5):.0f}",
    }


def hum_bars(hum: LayoutHum) -> list[dict[str, Any]]:
    """The causes that count, with the length of their bars: the full length is 30 dB below the reference."""
    return [_bar(hum, cause) for cause in hum.causes[:_SHOWN] if hum.below(cause.volt) < 125]


def _bar(hum: LayoutHum, cause: Cause) -> dict[str, Any]:
    def length(volt: float) -> float:
        return min(max((140.0 - hum.below(volt)) / 110.0 * 100.0, 0.0), 100.0)

    low, high = hum.reach(cause)
    return {
        "name": cause.source,
        "where": f"{_WAYS[cause.way]}, {cause.path}" if cause.way not in ("supply", "leakage") else _WAYS[cause.way],
        "key": cause.key,
        "path": cause.path_key,
        "below": f"{hum.below(cause.volt):.0f} dB",
        "hertz": f"{cause.hertz:.0f} Hz",
        "band": f"{hum.below(high):.0f} to {hum.below(low):.0f} dB",
        "length": f"{length(cause.volt):.1f}",
        "from": f"{length(low):.1f}",
        "span": f"{max(length(high) - length(low), 0.5):.1f}",
    }


def selected(laid: Laid, key: str) -> dict[str, Any] | None:
    """The body that is looked at, with what can be set of it; None for none."""
    body = next((body for body in laid.bodies if body.key == key), None)
    placed = laid.layout.of(key)
    if body is None or placed is None:
        return None
    face = frame(laid.layout.box, placed.face)
    sizes = body.sizes
    return {
        "key": key,
        "title": body.title,
        "family": body.family,
        "u": f"{placed.u * 1e3:.1f}".removesuffix(".0"),
        "v": f"{placed.v * 1e3:.1f}".removesuffix(".0"),
        "from_right": f"{(face.width - placed.u) * 1e3:.0f}",
        "turn": f"{placed.turn:g}",
        "turned": f"{(placed.turn + 90) % 360:g}",
        "face": placed.face,
        "faces": FACES,
        "inside": placed.inside,
        "pinned": placed.pinned,
        "raised": f"{placed.raised * 1e3:.0f}",
        "mount": placed.mount or body.mount,
        "mounts": MOUNTS.get(body.nature.mounts, ()),
        "screens": get_args(Screen) if body.nature.iron else (),
        "screen": placed.screen or "none",
        "coils": get_args(CoilAxis) if body.nature.iron else (),
        "coil": body.coil,
        "strips": strip_kinds() if body.nature.hub else (),
        "strip": placed.strip or "tag strip",
        "lugs": [pin.name for pin in body.pins] if body.nature.hub else (),
        "earth_lug": next((pin.name for pin in body.pins if pin.net == EARTH), ""),
        "sunk": body.nature.glass,
        "size": f"{sizes.across * 1e3:.0f} × {sizes.along * 1e3:.0f} mm, {sizes.above * 1e3:.0f} mm above the sheet, "
        f"{sizes.below * 1e3:.0f} mm below",
        "kg": f"{sizes.kg * 1e3:.0f} g" if sizes.kg < 1 else f"{sizes.kg:.1f} kg",
        "watt": display(body.watt, Quantity.POWER, 2) if body.watt > 0.05 else "",
        "measures": [
            (name, f"{getattr(sizes, name) * 1e3:.1f}".removesuffix(".0"))
            for name in ("across", "along", "above", "below")
        ],
        "own": key in laid.layout.sizes,
        "source": sizes.source,
        "unsure": sizes.unsure,
        "removable": key.startswith("fitting:"),
    }


def feeds(laid: Laid) -> list[dict[str, Any]]:
    """What comes back from output to input by the capacitance of their wires, the worst."""
    return [
        {"words": f"from {one.out} into {one.into}", "farad": display(one.farad, Quantity.CAPACITANCE, 2),
         "gain": f"{one.gain_db:.0f} dB", "hertz": display(one.hertz, Quantity.FREQUENCY, 2), "near": one.too_near}
        for one in fed_back(laid)[:3]
    ]  # fmt: skip
