"""Older documents made into today's, one function a step, before anything is validated.

Each step takes plain data of its version and returns plain data of the next. It must not refuse what its version
would have refused: it leaves what it does not understand as it is, for validation to name.
"""

from __future__ import annotations

from collections.abc import Callable
from copy import deepcopy
from typing import Any

from thermionic.design.document import VERSION
from thermionic.errors import DesignRefused, UnknownTube
from thermionic.tubes import get
from thermionic.values import Quantity, parse


def upgraded(raw: dict[str, Any]) -> dict[str, Any]:
    """A document as today's version has it. Raises DesignRefused for a version that is not known."""
    version = raw.get("version", 1 if "chain" in raw else VERSION)
    if raw.get("format", "bold-anode-design") != "bold-anode-design":
        return raw
    while version != VERSION:
        step = _STEPS.get(version) if isinstance(version, int) and not isinstance(version, bool) else None
        if step is None:
            raise DesignRefused(
                f"This is a design of version {str(version)[:20]}; versions 1 to {VERSION} are what can be read."
            )
        try:
            raw = step(deepcopy(raw))
        except (KeyError, TypeError, AttributeError, ValueError, StopIteration, IndexError) as fault:
            raise DesignRefused(
                f"This design of version {version} is damaged: {_what(fault)}; a whole one has a chain from "
                "an input to a "
                "loudspeaker and a supply."
            ) from None
        version = raw["version"]
    return raw


def _what(fault: Exception) -> str:
    return (
        f"{fault.args[0]} is missing"
        if isinstance(fault, KeyError) and fault.args
        else "something is not what it should be"
    )


def _to_graph(old: dict[str, Any]) -> dict[str, Any]:
    """Version 1, one chain and one supply, to version 2, a graph of blocks with envelopes."""
    chain, supply = old.pop("chain"), old.pop("supply")
    if not isinstance(chain, list) or not isinstance(supply, dict):
        raise ValueError
    taken = {one["id"] for one in [*chain, *supply["sections"]]}
    blocks: list[dict[str, Any]] = []
    envelopes: list[dict[str, Any]] = []
    before = ""
    output = next(one for one in chain if one["kind"] == "triode-output")
    for one in chain:
        kind = one["kind"]
        block = {key: value for key, value in one.items() if key not in ("feed", "tube", "kind")}
        if kind in ("triode-stage", "triode-output"):
            envelopes.append(_envelope(one["tube"], f"v{len(envelopes) + 1}", old.get("channels", 1)))
            block |= {"kind": "common-cathode", "input": before, "tubes": [f"{envelopes[-1]['id']}.a"]}
            if kind == "triode-stage":
                block["feed"] = f"{one['feed']}.out"
        elif kind == "output-transformer":
            block = _transformer(one, before, f"{output['feed']}.out")
        elif kind == "loudspeaker":
            block |= {"kind": kind, "input": before}
        elif kind == "input":
            block |= {"kind": kind}
        else:
            block |= {"kind": kind, "input": before}
        blocks.append(block)
        before = f"{one['id']}.{_tap(one['tap_ohm'])}" if kind == "output-transformer" else f"{one['id']}.out"
    winding, rectifier = _free("winding", taken), _free("rectifier", taken)
    blocks.append(
        {"id": winding, "kind": "winding"}
        | {name: supply[name] for name in ("primary_volt", "winding_volt", "winding_ohm") if name in supply}
    )
    blocks.append({"id": rectifier, "kind": "silicon-rectifier", "winding": f"{winding}.out", "form": "bridge"})
    blocks.append(
        {"id": "reservoir", "kind": "reservoir", "input": f"{rectifier}.out", "capacitor": supply["reservoir"],
         "bleeder": supply.get("bleeder")}
    )  # fmt: skip
    feeding = "reservoir"
    for section in supply["sections"]:
        blocks.append({"kind": "rc-section", "input": f"{feeding}.out", **section})
        feeding = section["id"]
    return old | {"version": 2, "envelopes": envelopes, "blocks": blocks}


def _envelope(tube: str, name: str, channels: Any) -> dict[str, Any]:
    try:
        split = channels == 2 and get(tube, "triode").section_letters >= "ab"
    except UnknownTube:
        split = False
    return {"id": name, "type": tube, "split": "channels" if split else "stages"}


def _transformer(one: dict[str, Any], before: str, feed: str) -> dict[str, Any]:
    """Its one secondary resistance was for whichever tap was in use; the others have the same wire by their turns."""
    used, copper = _ohm(one["tap_ohm"]), _ohm(one["secondary_copper_ohm"])
    loads = sorted({_ohm(tap) for tap in one["taps_ohm"]})
    if used not in loads:
        raise DesignRefused(f"{one['id']} has no {used:g} Ω tap; it has {', '.join(f'{tap:g} Ω' for tap in loads)}.")
    taps = [
        {"id": _tap(tap), "copper_ohm": copper if tap == used else float(f"{copper * (tap / used) ** 0.5:.6g}")}
        for tap in loads
    ]
    kept = ("id", "kind", "primary_ohm", "primary_henry", "leakage_henry", "primary_copper_ohm")
    return {name: one[name] for name in kept} | {"input": before, "feed": feed, "taps": taps}


def _ohm(typed: Any) -> float:
    return parse(typed, Quantity.RESISTANCE) if isinstance(typed, str) else float(typed)


def _tap(ohm: Any) -> str:
    return f"{_ohm(ohm):.10g}"


def _free(name: str, taken: set[str]) -> str:
    while name in taken:
        name += "_2"
    return name


_STEPS: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {1: _to_graph}
