"""Low, usual and high mains beside each other, and every part of the supply at its worst moment."""

from __future__ import annotations

from typing import Any

from bold_anode.amps import studies
from bold_anode.amps.rooms import Shown
from bold_anode.frame.requests import Request
from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import BiasTrim, Rectified
from thermionic.blocks.ports import block_at
from thermionic.findings.mains_side import OPENS
from thermionic.supplies.heating import heating
from thermionic.supplies.moments import moments
from thermionic.supplies.rectifying import rectifying
from thermionic.supplies.shorting import Shorted, output_shorts
from thermionic.supplies.stress import Stress, stresses
from thermionic.values import Quantity, display

_SOON = 2.1  # of its rating, at which a fuse opens within half an hour (IEC 60127-2)


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The tab."""
    amplifier = shown.solved.amplifier
    brief = amplifier.design.brief
    trims = amplifier.compiled.said(BiasTrim)
    return "rails/moments.html", {
        **(studies.shown(request, shown.project, "trim-reach") if trims else {}),
        "trims": bool(trims),
        "table": _table(amplifier),
        "stresses": [_row(stress) for stress in stresses(amplifier)],
        "shorts": [_short(output_short) for output_short in output_shorts(amplifier)],
        "read": brief.mains_low_volt is not None and brief.mains_high_volt is not None,
    }


def _short(one: Shorted) -> dict[str, Any]:
    """What an output tube's short does, in words."""
    fuse = "no fuse in this design"
    if one.fuse_ampere is not None and one.fuse_rating:
        share = one.fuse_ampere / one.fuse_rating
        opens = "opens in seconds" if share >= OPENS else "may take minutes" if share >= _SOON else "does not open"
        fuse = f"{display(one.fuse_ampere, Quantity.CURRENT)} in the fuse: it {opens}"
    limit = f", made for {display(one.rectifier_rating, Quantity.CURRENT)}" if one.rectifier_rating else ""
    return {
        "part": one.part,
        "ampere": display(one.ampere, Quantity.CURRENT),
        "fuse": fuse,
        "bad": one.fuse_rating is None or (one.fuse_ampere or 0.0) < _SOON * one.fuse_rating,
        "rectifier": f"{display(one.rectifier_ampere, Quantity.CURRENT)}{limit}" if one.rectifier_ampere else "",
        "burning": [
            f"{part.designator} ({part.what}) {display(part.watt, Quantity.POWER)}"
            + (f" of {display(part.rating_watt, Quantity.POWER)}" if part.rating_watt else "")
            for part in one.burning
        ],
    }


def _table(amplifier: SolvedAmplifier) -> dict[str, Any]:
    """Every rail, heater string and rectifier at four moments."""
    when = moments(amplifier)
    heads = [(f"{moment.mains_volt:.0f} V", moment.when) for moment in when]
    compiled, rows = amplifier.compiled, []
    for rail in compiled.rails:
        node = compiled.node(rail.node)
        cells = []
        for moment in when:
            if node not in moment.state.at.system.nodes:
                cells.append(("", ""))
                continue
            volts = display(moment.state.at.voltage(node), Quantity.VOLTAGE)
            mains = moment.state.mains
            ripple = display(mains.ripple_peak_to_peak(node), Quantity.VOLTAGE, 2) if mains else ""
            if node in amplifier.switched:
                ripple = "not known"
            cells.append((volts, ripple))
        rows.append({"name": rail.name.replace("_", " "), "what": "rail", "cells": cells})
    strings = [heating(compiled, moment.state) for moment in when]
    for place, string in enumerate(strings[0] if strings else ()):
        cells = []
        for one in strings:
            worst = max(one[place].heated, key=lambda heated: abs(heated.share - 1))
            cells.append((f"{worst.share:.0%}", display(one[place].ampere, Quantity.CURRENT)))
        name = string.feed.block.replace("_", " ")
        rows.append({"name": name, "what": "furthest heater, of its volts", "cells": cells})
    for use in compiled.said(Rectified):
        figures = [rectifying(moment.state, use) for moment in when]
        cells = [
            (display(figure.reverse_volt, Quantity.VOLTAGE), display(figure.peak_ampere, Quantity.CURRENT))
            for figure in figures
        ]
        rows.append({"name": use.block.replace("_", " "), "what": "reverse voltage, peak current", "cells": cells})
    return {"heads": heads, "rows": rows}


def _row(one: Stress) -> dict[str, Any]:
    share = one.share
    return {
        "path": one.path,
        "designator": one.designator,
        "place": block_at(one.path).replace("_", " "),
        "what": one.what,
        "value": display(one.value, one.quantity),
        "limit": display(one.limit, one.quantity) if one.limit is not None else "",
        "share": f"{share:.0%}" if share is not None else "",
        "length": f"{100 * min(share, 1.0):.0f}" if share is not None else "",
        "over": share is not None and share > 1,
        "near": share is not None and 0.9 < share <= 1,
        "moment": one.moment,
    }
