"""Heaters: every string with what each tube of it has, how it is held off earth, and the hum that it leaves."""

from __future__ import annotations

from math import log10
from typing import Any

from django.http import HttpResponse
from django.views.decorators.http import require_POST

from bold_anode.amps import studies
from bold_anode.amps.rooms import Shown, after, seen
from bold_anode.frame.requests import Request
from bold_anode.rails import operations
from bold_anode.rails.strings import sheet
from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import HeaterUse
from thermionic.blocks.fields import FilamentSupply
from thermionic.circuit.netlist import GROUND
from thermionic.performance.heater_supplies import unfed
from thermionic.performance.levels import reference_output
from thermionic.supplies.filaments import slopes
from thermionic.supplies.heating import COLD, StringState, heater_hum, heating, held, others_when_pulled
from thermionic.supplies.moments import at_work, cold, house_volts
from thermionic.values import Quantity, display


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The room."""
    amplifier = shown.solved.amplifier
    filaments = [path for path, _ in amplifier.compiled.components(FilamentSupply)]
    context = studies.shown(request, shown.project, "filament-null") if filaments else {}
    return "rails/heaters.html", context | {
        "strings": _strings(amplifier),
        "unfed": _unfed(amplifier),
        "insulation": _insulation(amplifier),
        "hum": _hum(amplifier),
        "filaments": filaments,
        "slopes": [
            {
                "name": slope.part,
                "fed": f"{slope.heating_volt:g} V of {'DC' if slope.steady else 'AC'}",
                "bias": f"{slope.bias:.1f} V",
                "ends": f"{slope.ends[0]:.1f} to {slope.ends[1]:.1f} V",
                "swaps": not slope.steady,
                "more": f"{slope.more:+.1%}",
            }
            for slope in slopes(amplifier)
        ],
    }


def _strings(amplifier: SolvedAmplifier) -> list[dict[str, Any]]:
    volts = house_volts(amplifier.design)
    states = [heating(amplifier.compiled, at_work(amplifier, volt).state) for volt in volts]
    result = []
    for place, usual in enumerate(states[1]):
        low, high = states[0][place], states[2][place]
        feed = usual.feed
        block = amplifier.design.block(feed.block)
        result.append({
            "block": feed.block,
            "name": block.label,
            "from": feed.source.replace("_", " "),
            "ac": bool(feed.winding),
            "ampere": display(usual.ampere, Quantity.CURRENT),
            "inrush": display(usual.ampere / COLD, Quantity.CURRENT) if not feed.dropping_ohm else "",
            "reference": _reference(amplifier, usual),
            "dropping": display(usual.dropping_watt, Quantity.POWER) if feed.dropping_ohm else "",
            "path": f"blocks/{feed.block}",
            "sheet": sheet(usual),
            "rows": [_row(amplifier, low, usual, high, number) for number in range(len(usual.heated))],
            "heads": [f"{volt:.0f} V" for volt in volts],
        })  # fmt: skip
    return result


def _row(
    amplifier: SolvedAmplifier, low: StringState, usual: StringState, high: StringState, place: int
) -> dict[str, Any]:
    one = usual.heated[place]
    return {
        "name": one.use.envelope.upper() + (" (other channel)" if one.use.copy else ""),
        "type": amplifier.design.tube_of(one.use.envelope).type,
        "rated": f"{one.use.volt:g} V, {display(one.use.ampere, Quantity.CURRENT)}",
        "cells": [
            (display(state.heated[place].volt, Quantity.VOLTAGE), f"{state.heated[place].share - 1:+.0%}",
             abs(state.heated[place].share - 1) > 0.1)
            for state in (low, usual, high)
        ],
        "pulled": _pulled(amplifier, one.use),
    }  # fmt: skip


def _pulled(amplifier: SolvedAmplifier, use: HeaterUse) -> str:
    """What pulling a tube does to the others, in words."""
    string = [heater_use for heater_use in amplifier.compiled.said(HeaterUse) if heater_use.block == use.block]
    if any(one.chain == use.chain and one is not use for one in string):
        return "its chain goes out"
    share = others_when_pulled(amplifier, use)
    return f"others at {share:.0%}" if share is not None else "nothing else on it"


def _reference(amplifier: SolvedAmplifier, string: StringState) -> str:
    feed = string.feed
    words = (
        "DC"
        if not feed.winding
        else f"AC, held by {'its ' if feed.reference == 'centre tap' else ''}{feed.reference}"
    )
    if feed.held == GROUND:
        return f"{words}, at earth"
    return f"{words}, lifted to {display(amplifier.voltage(feed.held), Quantity.VOLTAGE)}"


def _unfed(amplifier: SolvedAmplifier) -> list[str]:
    """The bottles whose heaters no supply of the design feeds, with what they take."""
    result = []
    for envelope in unfed(amplifier):
        type_ = amplifier.design.tube_of(envelope)
        assert type_.heater is not None
        ampere = display(type_.heater.amperes, Quantity.CURRENT)
        result.append(f"{envelope.upper()} ({type_.type}): {type_.heater.volts:g} V, {ampere}")
    return result


def _insulation(amplifier: SolvedAmplifier) -> list[dict[str, Any]]:
    """From each cathode to its heater, working and with the tubes cold or pulled."""
    nodes, compiled = held(amplifier.compiled), amplifier.compiled
    early = cold(amplifier, house_volts(amplifier.design)[2])

    def volt(state: Any, node: str) -> float:
        return 0.0 if node == GROUND or node not in state.at.system.nodes else state.at.voltage(node)

    rows = []
    for use in compiled.tubes:
        if use.type.heater is None or use.type.heater.filament:
            continue
        at = compiled.node(nodes.get(use.envelope, GROUND))
        working = amplifier.voltage(use.cathode) - volt(amplifier.state, at)
        before = -volt(early.state, at)
        limit = use.limits.heater_cathode_v
        worst = max(abs(working), abs(before))
        rows.append({
            "name": f"{use.part} {use.type.type}",
            "cathode": display(amplifier.voltage(use.cathode), Quantity.VOLTAGE),
            "heater": display(volt(amplifier.state, at), Quantity.VOLTAGE), "working": f"{working:+.0f} V",
            "before": f"{before:+.0f} V" if abs(before) >= 0.5 else "0 V",
            "limit": f"{limit:g} V" if limit else "not known",
            "over": bool(limit) and worst > limit, "unsure": "heater_cathode_v" in use.limits.unsure,
        })  # fmt: skip
    return rows


def _hum(amplifier: SolvedAmplifier) -> list[dict[str, str]]:
    reference = reference_output(amplifier)
    volt = (reference * amplifier.load.ohm) ** 0.5 if amplifier.load.power else reference
    rows = []
    for one in heater_hum(amplifier)[:8]:
        if one.volt <= 0:
            continue
        rows.append({
            "name": one.part, "place": amplifier.design.block(one.block).label,
            "db": f"{20 * log10(one.volt / volt):.0f} dB", "volt": display(one.volt, Quantity.VOLTAGE, 2),
        })  # fmt: skip
    return rows


@require_POST
def feed(request: Request, project_id: int) -> HttpResponse:
    """Wind supplies for the heaters that nothing feeds."""
    return after(
        request, project_id, "heaters", lambda: operations.feed_heaters(request.user, project_id, seen(request))
    )


@require_POST
def balance(request: Request, project_id: int) -> HttpResponse:
    """Set a filament's balance pot."""
    path, travel = request.POST.get("path", ""), request.POST.get("travel", "")
    return after(
        request, project_id, "heaters",
        lambda: operations.balance(request.user, project_id, path, travel, seen(request)),
    )  # fmt: skip
