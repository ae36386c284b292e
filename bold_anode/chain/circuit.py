"""The circuit with its solved voltages, edited in place; a stage's load lines beside its numbers."""

from __future__ import annotations

from typing import Any

from django.template import loader
from django.utils.safestring import SafeString, mark_safe

from bold_anode.amps.rooms import Shown
from bold_anode.chain.diagram import plots
from bold_anode.chain.drawing import drawing
from bold_anode.chain.figures import amplifier_figures, stage_figures
from bold_anode.frame.plots import drawn
from bold_anode.frame.requests import Request
from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks import KINDS, Group
from thermionic.design import Design, regraph
from thermionic.schematic import Sheet, signal_sheet, supply_sheet


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """Drawing, supply, and the selected stage."""
    amplifier = shown.solved.amplifier
    before = shown.before.amplifier if shown.before else None
    block_id = _selected(amplifier, request.POST.get("stage") or request.GET.get("stage") or "")
    uses = amplifier.compiled.tubes_of(block_id)

    def on_paper(sheet: Sheet, title: str) -> SafeString:
        placed = drawing(sheet, amplifier, before)
        context = {"sheet": placed, "title": title, "stage": block_id}
        return mark_safe(loader.render_to_string("chain/drawing.svg", context))

    return "chain/circuit.html", {
        "drawing": on_paper(signal_sheet(amplifier.design), "Signal path"),
        "supply": on_paper(supply_sheet(amplifier.design), "Supplies"),
        "stage": amplifier.design.block(block_id),
        "tube": ", ".join(dict.fromkeys(use.type.type for use in uses)),
        "blocks": amplifier.design.blocks,
        "kinds": _KINDS,
        "actions": _actions(amplifier.design, block_id),
        "figures": stage_figures(amplifier, before, block_id),
        "whole": amplifier_figures(amplifier, before),
        "plots": drawn(plots(amplifier, block_id)),
    }


_KINDS = [
    (group.value, [(name, cls.title, cls.about) for name, cls in sorted(KINDS.items()) if cls.group is group])
    for group in Group
]


def _actions(design: Design, block_id: str) -> list[tuple[str, str]]:
    """What can be done to a block as a whole, besides putting others beside it: the action and its words."""
    result = [
        ("duplicate", "Double it"),
        ("earlier", "Move earlier"),
        ("later", "Move later"),
        ("remove", "Remove the block"),
        ("remove-along", "Remove with everything it feeds"),
    ]
    if regraph.can_push_pull(design, block_id):
        result.insert(0, ("push-pull", "Make it push-pull"))
    return result


def _selected(amplifier: SolvedAmplifier, wanted: str) -> str:
    """The block to show: the one asked for, else the last with tubes on the signal's way."""
    if any(block.id == wanted for block in amplifier.design.blocks):
        return wanted
    with_tubes = [block_id for block_id in amplifier.route if amplifier.compiled.tubes_of(block_id)]
    return with_tubes[-1] if with_tubes else amplifier.route[0]
