"""The box laid flat, in millimetres, ready for the template, which only places it.

The top is in the middle with its front edge below; the front hangs from that edge, the rear stands on the other, the
sides left and right. Seen from within all of it is mirrored, as the builder has it with the box turned over.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from math import cos, radians, sin

import numpy as np

from thermionic.chassis.body import Body
from thermionic.chassis.document import Box, Face, Placed
from thermionic.chassis.fitting_in import Misfit
from thermionic.chassis.laid import Laid
from thermionic.chassis.pins import UNKNOWN
from thermionic.chassis.wires import Pair, Wire
from thermionic.devices.base import Array

_EDGE = 6.0
_LETTER = 10.0  # mm, the size of letters
_GAP = 6.0  # mm, between the top and what is folded down from it


@dataclass(frozen=True)
class Shape:
    """A body as drawn: its place, its outline in its own millimetres, what it is for the style, its words."""

    key: str
    face: Face
    family: str
    place: str
    u: str
    v: str
    turn: str
    round: bool
    half_across: str
    half_along: str
    label: str
    label_y: str
    upright: str
    title: str
    inside: bool
    misfit: bool
    pinned: bool
    hot: bool
    pins: tuple[tuple[str, str, str, str], ...]
    holes: tuple[dict[str, str], ...]


@dataclass(frozen=True)
class Line:
    """A wire as drawn: its class, its points, its ends' bodies, its words."""

    key: str
    kind: str
    points: str
    ends: str
    title: str
    shielded: bool


@dataclass(frozen=True)
class Sheet:
    """One face as drawn: its corner, size, and the way from its own u and v to the sheet's: x = ax + bx u + cx v."""

    face: Face
    title: str
    x: str
    y: str
    width: str
    height: str
    matrix: str
    title_at: str


@dataclass
class Drawing:
    """Everything to be placed, with the size of the sheet."""

    view_box: str
    mirrored: bool
    faces: list[Sheet] = field(default_factory=list)
    shapes: list[Shape] = field(default_factory=list)
    lines: list[Line] = field(default_factory=list)
    holes: list[dict[str, str]] = field(default_factory=list)
    width: float = 0.0
    height: float = 0.0


class Flat:
    """From a face's own coordinates, m, to the sheet's, mm, with y down."""

    def __init__(self, box: Box, mirrored: bool) -> None:
        self.box, self.mirrored = box, mirrored
        self.w, self.d, self.h = 1e3 * box.width, 1e3 * box.depth, 1e3 * box.height

    def matrix(self, face: Face) -> tuple[float, float, float, float, float, float]:
        """a, b, c, d, e, f of x = a u + c v + e, y = b u + d v + f, of millimetres."""
        w, d, h, g = self.w, self.d, self.h, _GAP
        result = {
            "top": (1.0, 0.0, 0.0, -1.0, 0.0, 0.0),
            "front": (1.0, 0.0, 0.0, -1.0, 0.0, h + g),
            "rear": (-1.0, 0.0, 0.0, 1.0, w, -d - g - h),
            "left": (0.0, 1.0, 1.0, 0.0, -g - h, -d),
            "right": (0.0, -1.0, -1.0, 0.0, w + g + h, 0.0),
            "bottom": (-1.0, 0.0, 0.0, 1.0, w, h + 2 * g),
        }[face]
        if self.mirrored:
            a, b, c, e, x, y = result
            return -a, b, -c, e, w - x, y
        return result

    def point(self, face: Face, u: float, v: float) -> tuple[float, float]:
        """Where a place of a face is on the sheet, mm."""
        a, b, c, d, e, f = self.matrix(face)
        return 1e3 * (a * u + c * v) + e, 1e3 * (b * u + d * v) + f

    def plan(self, points: Array) -> list[tuple[float, float]]:
        """Points of the room as they are seen through the top."""
        return [self.point("top", float(x), float(y)) for x, y in points[:, :2]]


def _n(value: float) -> str:
    return f"{value:.2f}".rstrip("0").rstrip(".")


def drawn(laid: Laid, misfits: Sequence[Misfit], mirrored: bool = False) -> Drawing:
    """The drawing of a layout."""
    layout, box = laid.layout, laid.layout.box
    flat = Flat(box, mirrored)
    wrong = {key for misfit in misfits for key in misfit.bodies}
    used = {placed_body.face for placed_body in layout.placed} | {hole.face for hole in layout.holes}
    sides = bool(used & {"left", "right"})
    beside = _GAP + flat.h if sides else 0.0
    left, right = -beside - _EDGE, flat.w + beside + _EDGE
    bottom = "bottom" in used
    top, below = -flat.d - _GAP - flat.h - _EDGE, flat.h + _GAP + _EDGE
    below += flat.d + _GAP if bottom else 0.0
    drawing = Drawing(f"{_n(left)} {_n(top)} {_n(right - left)} {_n(below - top)}", mirrored)
    drawing.width, drawing.height = right - left, below - top
    shown: list[Face] = ["top", "front", "rear"]
    shown += ["left", "right"] if sides else []
    shown += ["bottom"] if bottom else []
    drawing.faces += [_sheet(flat, box, face) for face in shown]
    by_key = {body.key: body for body in laid.bodies}
    order = sorted(
        layout.placed,
        key=lambda placed_body: (
            (by_key[placed_body.body].home == "top" and not placed_body.inside, placed_body.body)
            if placed_body.body in by_key
            else (False, "")
        ),
    )
    for placed in order:
        body = by_key.get(placed.body)
        if body is not None and placed.face in {sheet.face for sheet in drawing.faces}:
            drawing.shapes.append(_shape(flat, body, placed, placed.body in wrong))
    for wire in (*laid.wiring.wires, *(link.wire for link in laid.earth.links if link.wire)):
        drawing.lines.append(_wire(flat, wire))
    for pair in laid.wiring.pairs:
        drawing.lines.append(_pair(flat, pair))
    for hole in layout.holes:
        if hole.face in {sheet.face for sheet in drawing.faces}:
            x, y = flat.point(hole.face, hole.u, hole.v)
            r = hole.diameter / 2 if hole.diameter else 0.0
            drawing.holes.append(
                {"x": _n(x), "y": _n(y), "r": _n(1e3 * r), "w": _n(1e3 * (hole.width or 0)),
                 "h": _n(1e3 * (hole.height or 0)), "left": _n(x - 500 * (hole.width or 0)),
                 "top": _n(y - 500 * (hole.height or 0))}
            )  # fmt: skip
    return drawing


_TITLES = {"top": "Top", "front": "Front", "rear": "Rear", "left": "Left side", "right": "Right side",
           "bottom": "Bottom"}  # fmt: skip


def _sheet(flat: Flat, box: Box, face: Face) -> Sheet:
    width, height = (
        (box.width, box.depth) if face in ("top", "bottom") else
        (box.depth if face in ("left", "right") else box.width, box.height)
    )  # fmt: skip
    corners = [flat.point(face, u, v) for u in (0, width) for v in (0, height)]
    x0, y0 = min(x for x, _ in corners), min(y for _, y in corners)
    x1, y1 = max(x for x, _ in corners), max(y for _, y in corners)
    words = _TITLES[face] + (" from within" if flat.mirrored and face == "top" else "")
    turn = f" rotate({'-90' if (face == 'left') != flat.mirrored else '90'})" if face in ("left", "right") else ""
    at = (x0 + 5, y1 - 5) if face not in ("left", "right") else (
        ((x0 + 11) if (face == "left") != flat.mirrored else (x1 - 11)),
        (y1 - 5) if (face == "left") != flat.mirrored else (y0 + 5),
    )  # fmt: skip
    matrix = " ".join(_n(one) for one in flat.matrix(face))
    return Sheet(face, words, _n(x0), _n(y0), _n(x1 - x0), _n(y1 - y0), matrix,
                 f"translate({_n(at[0])} {_n(at[1])}){turn}")  # fmt: skip


def _shape(flat: Flat, body: Body, placed: Placed, misfit: bool) -> Shape:
    x, y = flat.point(placed.face, placed.u, placed.v)
    a, b, c, d, *_ = flat.matrix(placed.face)
    # The body's own axes on the sheet, its turn first.
    turn = radians(placed.turn)
    matrix = np.array([[a, c], [b, d]]) @ np.array([[cos(turn), -sin(turn)], [sin(turn), cos(turn)]])
    place = f"matrix({_n(matrix[0, 0])} {_n(matrix[1, 0])} {_n(matrix[0, 1])} {_n(matrix[1, 1])} {_n(x)} {_n(y)})"
    sizes = body.sizes
    across, along = 500 * sizes.across, 500 * sizes.along
    # Letters stand upright on the sheet whatever the body's turn.
    back = np.linalg.inv(matrix)
    upright = f"matrix({_n(back[0, 0])} {_n(back[1, 0])} {_n(back[0, 1])} {_n(back[1, 1])} 0 0)"
    # What has no room for its letters has them below it.
    wide, high = (across, along) if abs(matrix[0, 0]) > 0.5 else (along, across)
    below = _LETTER * 0.62 * len(body.short) > 2 * wide + 1 or high < 0.5 * _LETTER
    lower = high + 0.8 * _LETTER if below else 0.35 * _LETTER
    pins = tuple(
        (_n(1e3 * pin.at[0]), _n(1e3 * pin.at[1]), pin.name, pin.net.name if pin.net else "")
        for pin in body.pins
        if (pin.net is not None or pin.name in body.heaters) and not pin.name.endswith(UNKNOWN)
    )
    holes = tuple(
        {
            "x": _n(1e3 * opening.at[0]),
            "y": _n(1e3 * opening.at[1]),
            "r": _n(500 * opening.diameter) if opening.diameter else "",
            "w": _n(1e3 * (opening.width or 0)),
            "h": _n(1e3 * (opening.height or 0)),
            "left": _n(1e3 * opening.at[0] - 500 * (opening.width or 0)),
            "top": _n(1e3 * opening.at[1] - 500 * (opening.height or 0)),
        }
        for opening in sizes.openings
    )
    return Shape(
        body.key,
        placed.face,
        body.family.replace(" ", "-"),
        place,
        f"{placed.u * 1e3:.1f}",
        f"{placed.v * 1e3:.1f}",
        f"{placed.turn:g}",
        sizes.round and abs(across - along) < 0.5,
        _n(across),
        _n(along),
        body.short,
        _n(lower),
        upright,
        body.title,
        placed.inside,
        misfit,
        placed.pinned,
        body.watt > 5.0,
        pins,
        holes,
    )


def _wire(flat: Flat, wire: Wire) -> Line:
    points = " ".join(f"{_n(x)},{_n(y)}" for x, y in flat.plan(wire.points))
    words = f"{wire.net.name}: {wire.ends[0].name} to {wire.ends[1].name}, {wire.length * 1e3:.0f} mm"
    ends = f"{wire.ends[0].body.key} {wire.ends[1].body.key}"
    return Line(wire.key, wire.kind.replace(" ", "-").lower(), points, ends, words, wire.shielded)


def _pair(flat: Flat, pair: Pair) -> Line:
    points = " ".join(f"{_n(x)},{_n(y)}" for x, y in flat.plan(pair.points))
    twist = f"twisted, {pair.pitch * 1e3:.0f} mm a turn" if pair.pitch else "not twisted"
    words = f"{pair.kind} pair, {twist}, {pair.length * 1e3:.0f} mm"
    return Line(pair.key, pair.kind.replace(" ", "-").lower(), points, f"{pair.ends[0]} {pair.ends[1]}", words, False)
