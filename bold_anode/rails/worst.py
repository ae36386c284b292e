"""Low, usual and high mains beside each other, and every part of the supply at its worst moment."""

from __future__ import annotations

from typing import Any

from bold_anode.amps import studies
from bold_anode.amps.rooms import Shown
from bold_anode.frame.requests import Request
from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import BiasTrim, Rectified
from thermionic.supplies.heating import heating
from thermionic.supplies.moments import moments
from thermionic.supplies.rectifying import rectifying
from thermionic.supplies.stress import Stress, stresses
from thermionic.values import Quantity, display


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The tab."""
    amplifier = shown.solved.amplifier
    brief = amplifier.design.brief
    trims = amplifier.compiled.said(BiasTrim)
    return "rails/moments.html", {
        **(studies.shown(request, shown.project, "trim-reach") if trims else {}),
        "trims": bool(trims),
        "table": _table(amplifier),
        "stresses": [_row(one) for one in stresses(amplifier)],
        "read": brief.mains_low_volt is not None and brief.mains_high_volt is not None,
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
            (display(one.reverse_volt, Quantity.VOLTAGE), display(one.peak_ampere, Quantity.CURRENT))
            for one in figures
        ]
        rows.append({"name": use.block.replace("_", " "), "what": "reverse voltage, peak current", "cells": cells})
    return {"heads": heads, "rows": rows}


def _row(one: Stress) -> dict[str, Any]:
    share = one.share
    return {
        "path": one.path,
        "designator": one.designator,
        "place": one.path.split("/")[1].replace("_", " "),
        "what": one.what,
        "value": display(one.value, one.quantity),
        "limit": display(one.limit, one.quantity) if one.limit is not None else "",
        "share": f"{share:.0%}" if share is not None else "",
        "length": f"{100 * min(share, 1.0):.0f}" if share is not None else "",
        "over": share is not None and share > 1,
        "near": share is not None and 0.9 < share <= 1,
        "moment": one.moment,
    }
