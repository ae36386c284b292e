"""What one change to a layout would do to its hum: each is made, and all of it computed again."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from thermionic.chassis import editing
from thermionic.chassis.bodies import bodies
from thermionic.chassis.body import Body
from thermionic.chassis.document import Layout, LayoutRefused
from thermionic.chassis.fitting_in import misfits
from thermionic.chassis.hum import LayoutHum
from thermionic.chassis.laid import Laid, lay

_MOVES = ((0.04, 0.0), (-0.04, 0.0), (0.0, 0.04), (0.0, -0.04))
_WORTH = 0.3  # dB
_CAUSES = 6  # whose sources and ways are looked at


@dataclass(frozen=True)
class Change:
    """One change: what it is for ``made``, in words, and the hum with it, all and the layout's own part, V rms."""

    what: dict[str, Any]
    words: str
    volt: float
    laid_volt: float

    def gain(self, hum: LayoutHum) -> float:
        """By how many dB all of the hum is less with it."""
        return hum.below(self.volt) - hum.below(hum.volt)


def made(found: tuple[Body, ...], layout: Layout, what: dict[str, Any]) -> tuple[Layout, str]:
    """A layout with a change made. Raises LayoutRefused for one that cannot be made any more."""
    kind = what.get("kind")
    if kind == "place":
        body = editing.body_of(found, str(what.get("body", "")))
        return editing.placed_at(layout, body, **what.get("changes", {}))
    if kind == "shield":
        return editing.shielded(layout, str(what.get("wire", "")), True)
    if kind == "fields":
        return editing.with_fields(layout, **what.get("changes", {}))
    if kind == "several":
        words = []
        for one in what.get("changes", ()):
            layout, said = made(found, layout, one)
            words.append(said)
        return layout, ", ".join(dict.fromkeys(words))
    raise LayoutRefused("That change is not known.")


def changes(laid: Laid, report: Callable[[float, str], None] = lambda part, said: None) -> list[Change]:
    """The changes that lessen the hum, the best first, each computed; none that cannot be built where the layout
    could."""
    layout = laid.layout
    wrong = sum(misfit.impossible for misfit in misfits(laid.bodies, layout))
    candidates = list(_candidates(laid))
    result: list[Change] = []
    for number, (words, what) in enumerate(candidates):
        report(number / len(candidates), words)
        try:
            after, _ = made(laid.bodies, layout, what)
        except LayoutRefused:
            continue
        again = bodies(laid.amplifier, after)
        if sum(misfit.impossible for misfit in misfits(again, after)) > wrong:
            continue
        hum = lay(laid.amplifier, after).hum
        if laid.hum.below(hum.volt) - laid.hum.below(laid.hum.volt) > _WORTH or (
            laid.hum.below(hum.laid_volt) - laid.hum.below(laid.hum.laid_volt) > 3 * _WORTH
        ):
            result.append(Change(what, words, hum.volt, hum.laid_volt))
    return sorted(result, key=lambda one: (one.volt, one.laid_volt))


def _candidates(laid: Laid) -> Iterator[tuple[str, dict[str, Any]]]:
    layout, causes = laid.layout, laid.hum.causes[:_CAUSES]
    by_key = {body.key: body for body in laid.bodies}
    if layout.heater_pitch == 0:
        yield "Twist the heater pairs, a turn every 15 mm", _fields(heater_pitch=0.015)
    elif layout.heater_pitch > 0.009:
        yield "Twist the heater pairs tighter, a turn every 8 mm", _fields(heater_pitch=0.008)
    for school in ("star", "bus", "local stars"):
        if school != layout.earthing.school:
            earthing = layout.earthing.model_dump() | {"school": school}
            yield f"Wire signal earth as {school}", _fields(earthing=earthing)
    paths = {cause.path_key for cause in causes}
    for wire in laid.wiring.wires:
        net = f"net:{wire.net.node}:{wire.net.channel}"
        if net in paths and wire.kind == "signal" and not wire.shielded and wire.length > 0.03:
            yield f"Shield the wire from {wire.ends[0].name} to {wire.ends[1].name}", {
                "kind": "shield", "wire": wire.key,
            }  # fmt: skip
    sources = {cause.key for cause in causes if cause.way == "magnetic"}
    iron = [body for body in laid.bodies if body.nature.iron and layout.of(body.key)]
    for body in iron:
        placed = layout.of(body.key)
        assert placed is not None
        if body.coil != "vertical":  # else its field turns round itself
            yield f"Turn {body.title} by 90°", _place(body, turn=(placed.turn + 90) % 360)
        other = "lying" if (placed.mount or body.mount) == "upright" else "upright"
        if body.mount in ("upright", "lying"):
            yield (
                f"{'Lay' if other == 'lying' else 'Stand'} {body.title} {'down' if other == 'lying' else 'up'}",
                (_place(body, mount=other)),
            )
        if (placed.screen or "none") == "none" and body.key in sources:
            for screen in ("copper band", "steel can"):
                yield f"Put a {screen} round {body.title}", _place(body, screen=screen)
    movers = [by_key[key] for key in dict.fromkeys((*(c.key for c in causes), *(c.path_key for c in causes)))
              if key in by_key]  # fmt: skip
    movers += [
        end.body
        for wire in laid.wiring.wires
        if f"net:{wire.net.node}:{wire.net.channel}" in paths
        for end in wire.ends
    ]
    for body in {mover.key: mover for mover in movers}.values():
        placed = layout.of(body.key)
        if placed is None or placed.pinned:
            continue
        for du, dv in _MOVES:
            if placed.face != "top" and dv:
                continue
            way = {(1, 0): "to the right", (-1, 0): "to the left", (0, 1): "to the rear", (0, -1): "to the front"}
            words = way[(int(du > 0) - int(du < 0), int(dv > 0) - int(dv < 0))]
            yield f"Move {body.title} 40 mm {words}", _place(body, u=placed.u + du, v=placed.v + dv)


def _place(body: Body, **changes: Any) -> dict[str, Any]:
    return {"kind": "place", "body": body.key, "changes": changes}


def _fields(**changes: Any) -> dict[str, Any]:
    return {"kind": "fields", "changes": changes}
