"""A first place for everything, by the school that a builder starts from.

Each school says where on the box a kind of body would like to be; those that are in each other's way are pushed apart
until they are not. What is pinned stays.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import ceil, sqrt

import numpy as np

from thermionic.blocks import Group
from thermionic.chassis.body import Body
from thermionic.chassis.document import Box, Layout, Placed
from thermionic.chassis.natures import Lane
from thermionic.design import Design
from thermionic.devices.base import Array

SCHOOLS = {
    "iron at the rear": "All the iron along the rear, tubes before it: short front, easy to carry, the usual look.",
    "power at one side": "Mains and supply at one side, signal at the other: the most distance where it counts.",
    "symmetric": "Left and right alike about the middle, for looks; the power transformer stands between them.",
}
FIRST_SCHOOL = "iron at the rear"
_MARGIN, _GAP, _PANEL = 0.016, 0.006, 0.024
# Where what has a lane goes in each school: shares of the box from the left and from the front, and from the left for
# each channel's side.
_LANES: dict[str, dict[Lane, tuple[float, float, float]]] = {
    "iron at the rear": {
        "mains iron": (0.93, 0.85, 0.0), "choke": (0.72, 0.85, 0.0), "output iron": (0.3, 0.85, 0.16),
        "reservoir": (0.85, 0.3, 0.0),
    },
    "power at one side": {
        "mains iron": (0.9, 0.75, 0.0), "choke": (0.78, 0.3, 0.0), "output iron": (0.5, 0.82, 0.12),
        "reservoir": (0.78, 0.3, 0.0),
    },
    "symmetric": {
        "mains iron": (0.5, 0.82, 0.0), "choke": (0.5, 0.45, 0.0), "output iron": (0.5, 0.8, 0.38),
        "reservoir": (0.5, 0.45, 0.0),
    },
}  # fmt: skip
_GROWN = 6  # times that the box may be made larger, until nothing overlaps
_HOT = 8.0  # W, of a tube that wants room about it


@dataclass
class _Seat:
    """A body with where it would like to be, as it is pushed about: u, v, half measures, m, and its layers (outside
    and inside the sheet)."""

    body: Body
    at: Array
    half: Array
    layers: tuple[bool, bool]
    fixed: bool
    placed: Placed


def signal_order(design: Design) -> dict[str, float]:
    """How far along each block is: from 0 at the source to 1 at the load, and from there to 2 backwards through the
    supply, which the signal's returns meet at its last section first."""
    signal = [block.id for block in design.blocks if block.group is not Group.SUPPLY]
    supply = [block.id for block in design.blocks if block.group is Group.SUPPLY][::-1]
    result = {block: number / max(len(signal) - 1, 1) for number, block in enumerate(signal)}
    return result | {block: 1.0 + (number + 1) / len(supply) for number, block in enumerate(supply)}


def order_of(bodies: Sequence[Body], design: Design) -> dict[str, float]:
    """How far along the signal's way each body is, by its blocks; see ``signal_order``."""
    places = signal_order(design)
    return {
        body.key: float(np.mean([places[block] for block in body.blocks])) if body.blocks else 2.0 for body in bodies
    }


def arranged(bodies: Sequence[Body], design: Design, layout: Layout, school: str) -> Layout:
    """The layout with every body placed by a school, but those that are pinned. The box grows where it is too
    small for all, unless it is there already."""
    box = _large_enough(bodies, layout.box)
    order = order_of(bodies, design)
    for _ in range(_GROWN):
        layout = layout.model_copy(update={"box": box})
        seats = [_seat(body, layout, order[body.key], school) for body in bodies]
        left = 0.0
        for face in ("top", "front", "rear", "bottom"):
            here = [seat for seat in seats if seat.placed.face == face]
            size = np.array([box.width, box.depth if face in ("top", "bottom") else box.height])
            left += _push_apart(here, size, face == "top")
        larger = box.model_copy(
            update={"width": min(1.0, round(box.width + 0.02, 3)), "depth": min(0.8, round(box.depth + 0.01, 3))}
        )
        if left < 1e-3 or box.built == "bought or reused" or larger == box:
            break
        box = larger
    placed = []
    for seat in seats:
        placed.append(seat.placed.model_copy(update={"u": _milli(seat.at[0]), "v": _milli(seat.at[1])}))
    return layout.model_copy(update={"placed": tuple(placed)})


def completed(bodies: Sequence[Body], design: Design, layout: Layout) -> Layout:
    """The layout with a place for every body that has none yet, the others staying where they are; without those that
    the design no longer has."""
    keys = {body.key for body in bodies}
    there = [placed_body for placed_body in layout.placed if placed_body.body in keys]
    layout = layout.model_copy(update={"placed": tuple(there)})
    if len(there) == len(keys):
        return layout
    held = layout.model_copy(update={"placed": tuple(one.model_copy(update={"pinned": True}) for one in there)})
    added = arranged(bodies, design, held, FIRST_SCHOOL).placed
    placed = {one.body: one for one in added} | {one.body: one for one in there}
    return layout.model_copy(update={"placed": tuple(placed.values())})


def _milli(metres: float) -> float:
    return round(float(metres) * 1e3) / 1e3


def _large_enough(bodies: Sequence[Body], box: Box) -> Box:
    """A box of the same proportions, with room enough on its top."""
    if box.built == "bought or reused":
        return box
    area = sum(
        (b.sizes.across + 2 * _GAP) * (b.sizes.along + 2 * _GAP) for b in bodies if b.home == "top" and not b.inside
    )
    deepest = max((b.sizes.below for b in bodies), default=0.0)
    wanted = area / 0.6
    grow = max(1.0, sqrt(wanted / ((box.width - 2 * _MARGIN) * (box.depth - 2 * _MARGIN))))
    return box.model_copy(
        update={
            "width": min(1.0, ceil(box.width * grow * 100) / 100),
            "depth": min(0.8, ceil(box.depth * grow * 100) / 100),
            "height": max(box.height, ceil((deepest + 0.012) * 100) / 100),
        }
    )


def _seat(body: Body, layout: Layout, order: float, school: str) -> _Seat:
    old, box = layout.of(body.key), layout.box
    layers = (not body.inside, body.inside or body.sizes.below > 0.005)
    half = np.array([body.sizes.across, body.sizes.along]) / 2
    if body.nature.glass and body.watt > _HOT:
        half = half * 1.5  # room for its heat
    if old is not None and old.pinned:
        if old.turn % 180 == 90:
            half = half[::-1]
        return _Seat(body, np.array([old.u, old.v]), half, layers, True, old)
    x, y, turn = _wish(body, order, school)
    width, height = box.width, box.depth if body.home in ("top", "bottom") else box.height
    u = (1 - x if body.home == "rear" else x) * width
    if turn % 180 == 90:
        half = half[::-1]
    placed = (old or Placed(body=body.key, u=0.0, v=0.0)).model_copy(
        update={"face": body.home, "turn": turn, "inside": body.inside, "mount": body.mount, "raised": 0.0}
    )
    return _Seat(body, np.array([u, y * height]), half, layers, False, placed)


def _wish(body: Body, order: float, school: str) -> tuple[float, float, float]:
    """Where a body would like to be, as shares of the box from the left and from the front (or from below), and its
    turn."""
    side = {0: 0.0, 1: -1.0, 2: 1.0}[body.channel]
    nature, symmetric = body.nature, school == "symmetric"
    if body.home != "top":
        if symmetric and nature.across_later is not None:
            return (0.35 if order < 0.5 else 0.65) + 0.04 * side, 0.55, 0.0
        across = nature.across if nature.across_later is None or order < 0.5 else nature.across_later
        return across + nature.across_by_side * side, 0.55, 0.0
    if nature.corner:
        return *nature.corner, 0.0
    # What belongs to the supply stands with its reservoirs; by looks, tubes alone.
    lane = nature.lane or ("reservoir" if order > 1.0 and (nature.glass or not symmetric) else "")
    if lane:
        x, y, by_side = _LANES[school][lane]
        return x + by_side * side, y, 90.0 if nature.mains_iron else 0.0
    if symmetric:
        return 0.5 + side * (0.12 + 0.3 * order), 0.22 + (0.06 if nature.hub else 0.0), 0.0
    if school == "power at one side":
        return 0.08 + 0.5 * order, 0.5 + 0.28 * side, 0.0
    return 0.06 + 0.62 * order, 0.3 + 0.2 * side, 0.0


def _push_apart(seats: list[_Seat], size: Array, top: bool) -> float:
    """Move what overlaps until nothing does, on a wall sideways only. Returns how deep bodies are in
    each other in the end, m: the air that they should have between them is not counted."""
    if not seats:
        return 0.0
    at = np.array([seat.at for seat in seats])
    half = np.array([seat.half for seat in seats])
    layers = np.array([seat.layers for seat in seats])
    fixed = np.array([seat.fixed for seat in seats])
    shares = (layers[:, None] & layers[None]).any(axis=2)
    np.fill_diagonal(shares, False)
    margin = np.minimum(_MARGIN, 0.2 * size)
    # What hangs under the top keeps clear of the depth of pots and jacks.
    clear = np.where(layers[:, 1:] & top, [[0.0, _PANEL]], 0.0)
    gap = 2 * _GAP if top else _GAP / 2
    rng = np.random.default_rng(1)
    at = at + rng.normal(0, 1e-4, at.shape) * ~fixed[:, None]
    best, least, meeting = at, np.inf, 0.0
    for turn in range(600):
        low, high = half + margin + clear, size - half - margin - clear
        inside = np.where(low <= high, np.clip(at, low, np.maximum(low, high)), size / 2)
        at = np.where(fixed[:, None], at, inside)
        apart = at[:, None] - at[None]
        over = half[:, None] + half[None] + gap - np.abs(apart)
        deep = np.where(shares & (over > 0).all(axis=2), over.min(axis=2), 0.0)
        if deep.sum() < least:
            best, least, meeting = at.copy(), float(deep.sum()), float(np.maximum(deep - gap, 0.0).sum())
        if deep.max() < 5e-4:
            break
        axis = over.argmin(axis=2) if top else np.zeros(deep.shape, dtype=int)
        if turn % 10 == 9 and top:  # round what stands in a corner
            odd = np.triu(rng.random(deep.shape) < 0.3)
            axis = np.where(odd | odd.T, 1 - axis, axis)
        push = np.zeros_like(at)
        for direction in (0, 1):
            depth = np.where((axis == direction) & (deep > 0), over[:, :, direction], 0.0)
            push[:, direction] = 0.5 * (depth * np.sign(apart[:, :, direction] + 1e-9)).sum(axis=1)
        at = at + 0.7 * np.clip(push, -0.02, 0.02) * ~fixed[:, None]
    for seat, where in zip(seats, best, strict=True):
        seat.at = where
    return meeting
