"""The box in section: everything seen from the front at once, the nearer over the farther, in millimetres."""

from __future__ import annotations

from dataclasses import dataclass, field

from thermionic.chassis.laid import Laid
from thermionic.chassis.solids import solids

_ROOM = 14.0


@dataclass(frozen=True)
class Block:
    """A body seen from the front: a rectangle, its words, whether it is round, hot, within."""

    x: str
    y: str
    width: str
    height: str
    label: str
    middle: str
    foot: str
    family: str
    round: bool


@dataclass
class Section:
    """All of it, the box's walls, and the heights that count."""

    view_box: str
    walls: tuple[str, str, str, str]
    sheet: str
    blocks: list[Block] = field(default_factory=list)
    heights: list[tuple[str, str, str]] = field(default_factory=list)


def in_section(laid: Laid) -> Section:
    """The section of a layout."""
    box = laid.layout.box
    result = []
    for body in laid.bodies:
        placed = laid.layout.of(body.key)
        for solid in solids(body, placed, box) if placed else ():
            low, high = solid.box(box)
            result.append((float(low[1]), body, low * 1e3, high * 1e3))
    result.sort(key=lambda one: -one[0])
    top = max((float(high[2]) for *_, high in result), default=0.0)
    width, height = box.width * 1e3, box.height * 1e3
    section = Section(
        f"{-_ROOM:.0f} {-top - _ROOM:.0f} {width + 2 * _ROOM + 40:.0f} {top + height + 2 * _ROOM:.0f}",
        ("0", "0", f"{width:.1f}", f"{height:.1f}"),
        f"{max(box.sheet * 1e3, 1.0):.1f}",
    )
    named: set[str] = set()
    for _, body, low, high in result:
        above = high[2] > 0
        first = body.key not in named and (above or body.inside)
        named.add(body.key)
        section.blocks.append(Block(
            f"{low[0]:.1f}", f"{-high[2]:.1f}", f"{high[0] - low[0]:.1f}", f"{high[2] - low[2]:.1f}",
            body.short if first and not body.nature.on_panel else "", f"{(low[0] + high[0]) / 2:.1f}",
            f"{-high[2] + 11:.1f}", body.family.replace(" ", "-"), body.sizes.round and above,
        ))  # fmt: skip
    highest = sorted({round(float(high[2])) for *_, high in result if high[2] > 5}, reverse=True)[:1]
    section.heights = [(f"{-one:.0f}", f"{width + 6:.0f}", f"{one} mm") for one in highest]
    section.heights.append((f"{height:.0f}", f"{width + 6:.0f}", f"{height:.0f} mm"))
    return section
