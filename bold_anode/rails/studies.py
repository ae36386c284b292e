"""The studies of the supply: the first two minutes and the first cycles, bleeders, trimmers, the null of a
filament."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

import numpy as np

from bold_anode.amps.studies import Arguments, Study, plain
from bold_anode.frame.figures import Figure
from bold_anode.frame.plots import HALF, Axes, Plot, Scale, Ticks, both_ways, drawn, round_steps
from bold_anode.tasks.kinds import Report
from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.ports import block_at
from thermionic.design import Capacitor, Resistor
from thermionic.supplies.arriving import arrivals
from thermionic.supplies.bleeding import bleeders
from thermionic.supplies.discharging import HARMLESS
from thermionic.supplies.moments import house_volts
from thermionic.supplies.starting import LONG, MINUTE, surge, switch_on
from thermionic.supplies.trimming import reaches
from thermionic.values import Quantity, display

_KINDS = ("ac", "second", "third", "fourth", "fifth")
_TICKS = ((0.01, "10 ms"), (0.1, "0.1"), (1.0, "1"), (10.0, "10"), (120.0, "120 s"))


def _make_switch_on(amplifier: SolvedAmplifier, _: Arguments, report: Report) -> Any:
    if not amplifier.rectifiers:
        return None
    high = house_volts(amplifier.design)[2]
    report(0.05, "The first cycles, cold")
    cold = surge(amplifier, high)
    report(0.1, "The first cycles, hot")
    hot = surge(amplifier, high, hot=True)
    report(0.2, "The first two minutes")
    on = switch_on(amplifier, high)
    report(0.6, "Switched off after a minute")
    off = switch_on(amplifier, high, until=2 * MINUTE, off_at=MINUTE)
    return plain({"cold": asdict(cold), "hot": asdict(hot), "on": asdict(on), "off": asdict(off)})


def _show_switch_on(amplifier: SolvedAmplifier, result: Any, user: Any) -> dict[str, Any]:
    if result is None:
        return {"done": True}
    on = result["on"]
    for run in (on, result["off"]):
        run["rails"] = _in_order(amplifier, run["rails"])
    plots = [_first_minute(on), _after(result["off"])]
    return {
        "done": True,
        "volt": f"{on['mains_volt']:.0f}",
        "plots": drawn([plot for plot in plots if plot is not None], first=60),
        "capacitors": _peaks(amplifier, on),
        "surges": _surges(amplifier, result),
        "fuse": _fuse(result),
        "arrivals": [
            {
                "name": arrival.name.replace("_", " "),
                "what": arrival.what,
                "when": _when(arrival.second),
                "late": arrival.late,
            }
            for arrival in arrivals(amplifier, np.array(on["seconds"]), on["rails"])
        ],
    }


def _in_order(amplifier: SolvedAmplifier, rails: dict[str, Any]) -> dict[str, Any]:
    """The rails as the design has them, whatever order they were kept in."""
    names = [rail.name for rail in amplifier.compiled.rails]
    return {name: rails[name] for name in sorted(rails, key=names.index)}


def _first_minute(on: dict[str, Any]) -> Plot | None:
    """Every rail from the switch, over the logarithm of time."""
    span = Scale(0.01, LONG, log=True)
    return _rails("Every rail from the switch", "after the switch", on, 0.0, (0.01, span), _TICKS)


def _after(off: dict[str, Any]) -> Plot | None:
    """Every rail after it is switched off, its tubes cooling."""
    ticks = [(v, f"{v:g}") for v in round_steps(MINUTE, 6)]
    return _rails(
        "Switched off, the tubes still hot", "after switching off, s", off, off["off_at"], (0.0, (0.0, MINUTE)),
        ticks, harmless=True,
    )  # fmt: skip


def _rails(
    title: str, across: str, run: dict[str, Any], since: float, span: tuple[float, Any], ticks: Any,
    harmless: bool = False,
) -> Plot | None:  # fmt: skip
    """Every rail of a run over the seconds ``since``, from the first of ``span``, with a line at what is harmless."""
    first, scale = span
    seconds = np.array(run["seconds"]) - since
    inside = seconds >= first
    rails = {name: np.array(curve)[inside] for name, curve in run["rails"].items()}
    if not rails:
        return None
    most = max(max(float(np.max(curve)) for curve in rails.values()) * 1.1, 1.0)
    least = min(0.0, min(float(np.min(curve)) for curve in rails.values()) * 1.2)
    axes = Axes(scale, (least, most), "s", HALF)
    lines = [axes.line("ideal", ((0.0, HARMLESS), (MINUTE, HARMLESS)))] if harmless else []
    key = [("ideal", f"{HARMLESS:g} V")] if harmless else []
    for kind, (name, curve) in zip(_KINDS, rails.items(), strict=False):
        words = name.replace("_", " ")
        lines.append(axes.curve(kind, seconds[inside], curve, words, "V"))
        key.append((kind, words))
    steps = round_steps(max(most, -least), 5)
    return axes.plot(
        title,
        (across, "volts", ""),
        lines,
        [],
        Ticks(ticks, [(v, f"{v:g}") for v in (both_ways(steps) if least < 0 else steps) if least <= v <= most]),
        key,
    )


def _peaks(amplifier: SolvedAmplifier, on: dict[str, Any]) -> list[dict[str, Any]]:
    """Capacitors and resistors that come nearest to their ratings on the way up."""
    compiled, result = amplifier.compiled, []
    parts: tuple[tuple[str, Capacitor | Resistor], ...] = (
        *compiled.components(Capacitor), *compiled.components(Resistor),
    )  # fmt: skip
    for path, part in parts:
        peaks = on["capacitors" if isinstance(part, Capacitor) else "resistors"]
        if isinstance(part, Capacitor):
            limit, quantity = part.rating_volt, Quantity.VOLTAGE
        else:
            limit, quantity = part.rating_watt, Quantity.POWER
        for name in compiled.designators(path):
            if name not in peaks or limit <= 0:
                continue
            share = peaks[name]["value"] / limit
            result.append({
                "name": name, "place": block_at(path).replace("_", " "), "share": share, "over": share > 1,
                "percent": f"{share:.0%}", "length": f"{100 * min(share, 1.0):.0f}",
                "value": display(peaks[name]["value"], quantity), "limit": display(limit, quantity),
                "when": _when(peaks[name]["second"]),
            })  # fmt: skip
    result.sort(key=lambda one: -one["share"])
    return result[:10]


def _when(second: float) -> str:
    if second > 0.9 * LONG:
        return "settled"
    return f"{second * 1e3:.0f} ms" if second < 1 else f"{second:.1f} s"


def _surges(amplifier: SolvedAmplifier, result: Any) -> list[dict[str, str]]:
    rows = []
    for block in result["cold"]["rectifiers"]:
        cold, hot = (result[which]["rectifiers"][block] for which in ("cold", "hot"))
        rows.append({
            "name": amplifier.design.block(block).label,
            "cold": display(cold["value"], Quantity.CURRENT) if cold["value"] > 1e-6 else "nothing yet",
            "hot": display(hot["value"], Quantity.CURRENT),
        })  # fmt: skip
    return rows


def _fuse(result: Any) -> list[Figure]:
    cold, on = result["cold"], result["on"]
    if cold["fuse_i2t"] is None:
        return []
    went = f"it opens after {_when(on['blown'])}" if on["blown"] is not None else "it holds"
    return [
        Figure("Mains, first peak", display(cold["mains"]["value"], Quantity.CURRENT)),
        Figure("Through the fuse in the first cycles", f"{cold['fuse_i2t']:.2g} A²s"),
        Figure("Melts it, about (unsure by three times)", f"{cold['melting_i2t']:.2g} A²s"),
        Figure("Fuse in the first two minutes", went),
    ]


def _make_trim_reach(amplifier: SolvedAmplifier, _: Arguments, report: Report) -> Any:
    report(0.1, "Looking for today's current with strong and with weak tubes")
    return [asdict(reach) for reach in reaches(amplifier)]


def _show_trim_reach(amplifier: SolvedAmplifier, result: Any, user: Any) -> dict[str, Any]:
    trims = [
        {
            "name": one["part"],
            "now": f"{one['travel']:.0%}",
            "ampere": display(one["ampere"], Quantity.CURRENT),
            "needs": [
                {
                    "words": need["words"],
                    "mains": f"{need['mains_volt']:.0f} V",
                    "volts": " to ".join(display(volt, Quantity.VOLTAGE) for volt in need["volts"]),
                    "amperes": " to ".join(display(ampere, Quantity.CURRENT) for ampere in need["amperes"]),
                    "travel": f"{need['travel']:.0%}" if need["travel"] is not None else "",
                }
                for need in one["needs"]
            ],
        }
        for one in result or ()
    ]
    return {"done": True, "trims": trims}


def _make_bleeders(amplifier: SolvedAmplifier, _: Arguments, report: Report) -> Any:
    if not amplifier.rectifiers:
        return None
    report(0.1, "Emptying each supply through one bleeder after another")
    return [asdict(bleeder) for bleeder in bleeders(amplifier)]


def _show_bleeders(amplifier: SolvedAmplifier, result: Any, user: Any) -> dict[str, Any]:
    rows = [
        {
            "path": one["path"],
            "name": amplifier.design.block(one["block"]).label,
            "within": f"{one['within']:.0f} s",
            "second": f"{one['second']:.0f} s",
            "ohm": display(one["ohm"], Quantity.RESISTANCE) if one["ohm"] else "",
            "typed": f"{one['ohm'] or 0:g}",
            "watt": display(one["watt"], Quantity.POWER),
            "rating": f"{one['rating_watt']:g} W",
            "watts": f"{one['rating_watt']:g}",
        }
        for one in result or ()
    ]
    return {"done": True, "rows": rows}


STUDIES = (
    Study("bleeders", "rails/bleeders.html", _make_bleeders, _show_bleeders),
    Study("trim-reach", "rails/trim_reach.html", _make_trim_reach, _show_trim_reach),
    Study("switch-on", "rails/switch_on.html", _make_switch_on, _show_switch_on),
)
