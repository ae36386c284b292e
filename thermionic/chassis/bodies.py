"""The bodies that a design puts on its chassis: what each is, how large, and which pin is on which net.

A body is asked for by what its parts are, never by the kind of their block. What is small (resistors, coupling
capacitors, diodes) hangs on a tag strip of its stage, or from pin to pin of a socket where nothing else is on its
net.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from thermionic.amplifier import SolvedAmplifier
from thermionic.chassis import catalogue
from thermionic.chassis.body import Body
from thermionic.chassis.document import Face, Layout
from thermionic.chassis.making import Making
from thermionic.chassis.strips import Small

_BUILT = ("mount", "screen", "coil", "strip", "earth_lug")  # fields of Placed that say how a body is made
_KEPT = 12  # sets of bodies of one amplifier


def bodies(amplifier: SolvedAmplifier, layout: Layout) -> tuple[Body, ...]:
    """Every body of a design, and what the layout adds, with the sizes that the layout knows better. Where things are
    is nothing to them, so a drag finds them as they were."""
    built = tuple(sorted(
        (placed_body.body, *(str(getattr(placed_body, name)) for name in _BUILT)) for placed_body in layout.placed
        if any(getattr(placed_body, name) for name in _BUILT)
    ))  # fmt: skip
    sizes = tuple(sorted((key, one.model_dump_json()) for key, one in layout.sizes.items()))
    key = (bodies, built, sizes, layout.fittings)
    kept: dict[Any, Any] = vars(amplifier).setdefault("_remembered", {})
    if key not in kept:
        for old in [one for one in list(kept) if isinstance(one, tuple) and one[0] is bodies][: -_KEPT or None]:
            kept.pop(old, None)
        kept[key] = _bodies(amplifier, layout)
    result: tuple[Body, ...] = kept[key]
    return result


def _bodies(amplifier: SolvedAmplifier, layout: Layout) -> tuple[Body, ...]:
    maker = Making(amplifier, layout)
    result = [
        *maker.sockets(), *maker.signal_iron(), *maker.chokes(), *maker.mains_iron(), *maker.cans(),
        *maker.controls(), *maker.ends(), *maker.mains_side(), *maker.warm(),
    ]  # fmt: skip
    small = Small(maker)
    result = small.with_stoppers(result)
    result += small.strips()
    result += [_fitting(fitting.key, fitting.name) for fitting in layout.fittings]
    return tuple(_as_measured(body, layout) for body in result)


def _fitting(key: str, name: str) -> Body:
    kind = key.split(":")[1]
    sizes = catalogue.panel(kind)
    home: Face = {"foot": "bottom", "earth bolt": "rear", "meter": "front"}.get(kind, "top")  # type: ignore[assignment]
    return Body(key, name or catalogue.panel_title(kind), name or kind, kind, sizes, home=home)


def _as_measured(body: Body, layout: Layout) -> Body:
    own = layout.sizes.get(body.key)
    if own is None:
        return body
    sizes = catalogue.resized(body.sizes, own.across, own.along, own.above, own.below, own.source)
    pins = tuple(replace(pin, at=(sizes.pins or {}).get(pin.name, pin.at)) for pin in body.pins)
    return replace(body, sizes=sizes, pins=pins)
