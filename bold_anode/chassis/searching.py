"""The studies of Chassis: what each change would do, and a layout proposed by trying."""

from __future__ import annotations

from typing import Any

from bold_anode.amps.models import Project
from bold_anode.amps.studies import Arguments, Study
from bold_anode.chassis import laying
from bold_anode.frame.requests import Request
from bold_anode.tasks.kinds import Report
from thermionic.amplifier import SolvedAmplifier
from thermionic.chassis.document import read_layout
from thermionic.chassis.laid import lay
from thermionic.chassis.offers import changes
from thermionic.chassis.proposing import longest_grid, proposed

_SHOWN = 6


def _make_changes(amplifier: SolvedAmplifier, arguments: Arguments, report: Report) -> Any:
    now = lay(amplifier, read_layout(arguments["layout"]))
    hum = now.hum
    return [
        {"what": change.what, "words": change.words, "gain": change.gain(hum),
         "own": hum.below(change.laid_volt) - hum.below(hum.laid_volt), "below": hum.below(change.volt)}
        for change in changes(now, report)[:_SHOWN]
    ]  # fmt: skip


def _show_changes(amplifier: SolvedAmplifier, result: Any, user: Any) -> dict[str, Any]:
    return {
        "done": True,
        "changes": [
            {**change, "gain": f"{change['gain']:.1f}", "own": f"{change['own']:.1f}", "number": number}
            for number, change in enumerate(result or ())
        ],
    }


def _make_proposal(amplifier: SolvedAmplifier, arguments: Arguments, report: Report) -> Any:
    layout = read_layout(arguments["layout"])
    before = lay(amplifier, layout)
    proposal = proposed(amplifier, layout, report)
    hum = proposal.laid.hum
    return {
        "layout": laying.plain(proposal.layout), "school": proposal.school, "tried": proposal.tried,
        "below": hum.below(hum.volt), "before": before.hum.below(before.hum.volt),
        "own": hum.below(hum.laid_volt), "own_before": before.hum.below(before.hum.laid_volt),
        "grid": longest_grid(proposal.laid), "grid_before": longest_grid(before),
    }  # fmt: skip


def _show_proposal(amplifier: SolvedAmplifier, result: Any, user: Any) -> dict[str, Any]:
    return {
        "done": True, "school": result["school"], "tried": result["tried"],
        "below": f"{result['below']:.0f}", "before": f"{result['before']:.0f}",
        "own": f"{result['own']:.0f}", "own_before": f"{result['own_before']:.0f}",
        "grid": f"{result['grid'] * 1e3:.0f}", "grid_before": f"{result['grid_before'] * 1e3:.0f}",
    }  # fmt: skip


def _layout(project: Project) -> Arguments:
    """The chosen layout as it stands."""
    return {"layout": laying.plain(laying.standing(project).layout)}


def _read(request: Request, project: Project) -> Arguments:
    return _layout(project)


CHANGES = Study(
    "layout-changes", "chassis/changes.html", _make_changes, _show_changes, _read,
    at_once=False, long=True, subject=_layout,
)  # fmt: skip
PROPOSAL = Study(
    "layout-proposal", "chassis/proposal.html", _make_proposal, _show_proposal, _read,
    at_once=False, long=True, subject=_layout,
)  # fmt: skip
