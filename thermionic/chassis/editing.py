"""Changes to a layout, each with the words for it. What cannot be is refused with a sentence."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from thermionic.chassis.body import Body
from thermionic.chassis.catalogue import panel_kinds, panel_title
from thermionic.chassis.document import FACES, Fitting, Layout, LayoutRefused, Placed, changed_layout
from thermionic.chassis.geometry import frame
from thermionic.chassis.wires import KINDS

FITTINGS = ("foot", "vent", "handle", "heat-sink", "meter", "test point", "earth bolt", "lamp")


def body_of(bodies: Sequence[Body], key: str) -> Body:
    """A body by its key. Raises LayoutRefused."""
    for body in bodies:
        if body.key == key:
            return body
    raise LayoutRefused("That part is not on this chassis any more; look at the layout as it is now.")


def placed_at(layout: Layout, body: Body, **changes: Any) -> tuple[Layout, str]:
    """A body moved, turned, or fixed otherwise: any of the fields of Placed. Raises LayoutRefused for a place that is
    not on the face."""
    old = layout.of(body.key) or Placed(body=body.key, face=body.home, u=0.0, v=0.0, inside=body.inside)
    raw = old.model_dump() | changes
    if raw["coil"] == body.coil:  # no other than it was: with another mount it goes on being the usual one
        raw["coil"] = old.coil
    if raw["face"] not in FACES:
        raise LayoutRefused(f"“{str(raw['face'])[:20]}” is no face of a box; there are {', '.join(FACES)}.")
    face = frame(layout.box, raw["face"])
    for name, most, words in (("u", face.width, "across"), ("v", face.height, "up")):
        if not 0.0 <= float(raw[name]) <= most:
            raise LayoutRefused(
                f"{body.title} would be off the {raw['face']}: its middle is to be from 0 to {most * 1e3:.0f} mm "
                f"{words}, and {float(raw[name]) * 1e3:.0f} mm is not."
            )
    if "earth_lug" in changes and str(changes["earth_lug"]) not in {pin.name for pin in body.pins}:
        raise LayoutRefused(
            f"{body.title} has lugs 1 to {len(body.pins)}; “{str(changes['earth_lug'])[:20]}” is none."
        )
    changed = changed_layout(
        layout,
        placed=[*(placed_body.model_dump() for placed_body in layout.placed if placed_body.body != body.key), raw],
    )
    if raw["turn"] != old.turn:
        return changed, f"{body.title} turned to {raw['turn']:g}°"
    if (raw["u"], raw["v"], raw["face"]) != (old.u, old.v, old.face):
        return changed, f"{body.title} moved"
    return changed, f"{body.title} fixed otherwise"


def with_fitting(layout: Layout, kind: str) -> tuple[Layout, str]:
    """A foot, a vent, a meter put in the middle of the top, to be moved from there. Raises LayoutRefused."""
    if kind not in FITTINGS or kind not in panel_kinds():
        raise LayoutRefused(f"There is nothing of that kind; there are {', '.join(FITTINGS)}.")
    taken = {fitting.key for fitting in layout.fittings}
    key = next(f"fitting:{kind}:{n}" for n in range(1, 1000) if f"fitting:{kind}:{n}" not in taken)
    fittings = (*layout.fittings, Fitting(key=key))
    return changed_layout(
        layout, fittings=[fitting.model_dump() for fitting in fittings]
    ), f"{panel_title(kind)} put in"


def without_fitting(layout: Layout, key: str) -> tuple[Layout, str]:
    """Without one of what was put in. Raises LayoutRefused."""
    if all(fitting.key != key for fitting in layout.fittings):
        raise LayoutRefused("What the design asks for stays; only feet, vents and the like can be taken out.")
    kept = tuple(fitting for fitting in layout.fittings if fitting.key != key)
    placed = tuple(placed_body for placed_body in layout.placed if placed_body.body != key)
    return layout.model_copy(update={"fittings": kept, "placed": placed}), "taken out"


def measured(
    layout: Layout, body: Body, lengths: Sequence[float] | None, source: str = "measured by you"
) -> tuple[Layout, str]:
    """A body with measures that were taken: across, along, above, below, m; None for its usual ones again. Raises
    LayoutRefused."""
    sizes = {key: one.model_dump() for key, one in layout.sizes.items() if key != body.key}
    if lengths is not None:
        named = dict(zip(("across", "along", "above", "below"), lengths, strict=True))
        sizes[body.key] = named | {"source": source}
    return changed_layout(layout, sizes=sizes), f"size of {body.title}"


LINED_UP = ("in a row", "in a column", "evenly across", "evenly in depth", "mirrored")


def lined_up(layout: Layout, keys: Sequence[str], how: str) -> tuple[Layout, str]:
    """Several bodies of one face in a row or a column by the first, spread evenly between the outermost, or the
    second as the mirror image of the first about the middle. Raises LayoutRefused."""
    placed = [one for key in dict.fromkeys(keys) if (one := layout.of(key)) is not None]
    if how not in LINED_UP:
        raise LayoutRefused(f"Parts are lined up as one of {', '.join(LINED_UP)}.")
    if len(placed) < 2 or len({placed_body.face for placed_body in placed}) > 1:
        raise LayoutRefused("Choose two or more parts of one face: click the first, and the others with Shift.")
    first = placed[0]
    if how == "in a row":
        moved = [placed_body.model_copy(update={"v": first.v}) for placed_body in placed]
    elif how == "in a column":
        moved = [placed_body.model_copy(update={"u": first.u}) for placed_body in placed]
    elif how == "mirrored":
        width = frame(layout.box, first.face).width
        moved = [placed[1].model_copy(update={"u": width - first.u, "v": first.v, "turn": (360 - first.turn) % 360})]
    else:
        name = "u" if how == "evenly across" else "v"
        ordered = sorted(placed, key=lambda placed_body: float(getattr(placed_body, name)))
        low, high = getattr(ordered[0], name), getattr(ordered[-1], name)
        step = (high - low) / (len(ordered) - 1)
        moved = [one.model_copy(update={name: low + place * step}) for place, one in enumerate(ordered)]
    return layout.with_placed(*moved), f"{len(placed)} parts {how}"


def shielded(layout: Layout, wire: str, on: bool) -> tuple[Layout, str]:
    """A wire in a shield, or not. Raises LayoutRefused."""
    return _chosen(layout, wire, shielded=on), "wire shielded" if on else "shield off"


def screened_at(layout: Layout, wire: str, ends: str) -> tuple[Layout, str]:
    """A wire's screen earthed at one end or at both. Raises LayoutRefused."""
    return _chosen(layout, wire, screen=ends), f"screen earthed at {ends}"


def coloured(layout: Layout, kind: str, colour: str) -> tuple[Layout, str]:
    """A colour of one's own for a class of wires; nothing for ours again. Raises LayoutRefused."""
    if kind not in KINDS:
        raise LayoutRefused(f"Wires are of one of the classes {', '.join(KINDS)}.")
    own = {name: words for name, words in layout.colours.items() if name != kind}
    if colour.strip():
        own[kind] = " ".join(colour.split())
    return changed_layout(layout, colours=own), f"{kind} wires {colour.strip() or 'in our colour'}"


def bent(layout: Layout, wire: str, bends: Sequence[tuple[float, float]] | None) -> tuple[Layout, str]:
    """A wire by a way of one's own; None to have it routed. Raises LayoutRefused for a bend outside the box."""
    for x, y in bends or ():
        if not (0 <= x <= layout.box.width and 0 <= y <= layout.box.depth):
            raise LayoutRefused("A bend would be outside the box; wires stay in it.")
    return _chosen(layout, wire, bends=bends), "wire laid otherwise" if bends else "wire routed"


def _chosen(layout: Layout, wire: str, **changes: Any) -> Layout:
    others = [one.model_dump() for one in layout.wires if one.wire != wire]
    return changed_layout(layout, wires=[*others, layout.choice(wire[:250]).model_dump() | {"wire": wire} | changes])


def boxed(layout: Layout, **changes: Any) -> tuple[Layout, str]:
    """Another box. What would be off it moves in to its edge. Raises LayoutRefused."""
    box = changed_layout(layout, box=layout.box.model_dump() | changes).box
    moved = []
    for placed_body in layout.placed:
        face = frame(box, placed_body.face)
        moved.append(
            placed_body.model_copy(update={"u": min(placed_body.u, face.width), "v": min(placed_body.v, face.height)})
        )
    return layout.model_copy(update={"box": box, "placed": tuple(moved)}), "the box"


def with_fields(layout: Layout, **changes: Any) -> tuple[Layout, str]:
    """The twist of the heaters, or how signal earth is wired. Raises LayoutRefused."""
    return changed_layout(layout, **changes), ", ".join(changes).replace("_", " ")
