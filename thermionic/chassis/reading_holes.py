"""The holes of a box that somebody has already: from DXF, SVG or a table, in millimetres from a face's lower left
corner."""

from __future__ import annotations

import csv
import io
import re
from xml.etree import ElementTree

from thermionic.chassis.document import MOST, Box, Face, Hole, LayoutRefused
from thermionic.chassis.geometry import frame

MM = 1e-3
MOST_BYTES = 2_000_000
_CIRCLE = re.compile(rb"^\s*CIRCLE\s*$", re.MULTILINE)
_DECLARATION = re.compile(r"\A\s*<\?xml[^>]*\?>")  # its encoding has been read already
_NUMBER = re.compile(r"-?\d+(?:\.\d+)?")


def read_holes(content: bytes, name: str, face: Face, box: Box) -> tuple[Hole, ...]:
    """The holes in a file, by its name's ending. Raises LayoutRefused with what is wrong and what would be read."""
    if len(content) > MOST_BYTES:
        raise LayoutRefused(f"The file is {len(content) / 1e6:.1f} MB; {MOST_BYTES / 1e6:g} MB is the most read.")
    ending = name.lower().rsplit(".", 1)[-1]
    readers = {"dxf": _from_dxf, "svg": _from_svg, "csv": _from_table, "txt": _from_table}
    if ending not in readers:
        raise LayoutRefused("Holes are read from .dxf, .svg or .csv; this file's name ends otherwise.")
    result = readers[ending](content, face)
    if not result:
        raise LayoutRefused("There is no hole in that file: no circle, and no closed outline inside another.")
    of = frame(box, face)
    for hole in result:
        if not (0 <= hole.u <= of.width and 0 <= hole.v <= of.height):
            raise LayoutRefused(
                f"A hole at {hole.u / MM:.0f}, {hole.v / MM:.0f} mm is off the {face}, which is "
                f"{of.width / MM:.0f} by {of.height / MM:.0f} mm. Measure from its lower left corner, in "
                "millimetres, seen from outside."
            )
    return tuple(result)


def _not_too_many(count: int) -> None:
    """Raise LayoutRefused for more holes than a box can have; called before they are made one by one."""
    if count > MOST:
        raise LayoutRefused(f"The file has {count} holes or more; a box has at most {MOST}.")


def _hole(face: Face, u: float, v: float, diameter: float | None = None, width: float | None = None,
          height: float | None = None) -> Hole:  # fmt: skip
    sizes = [one for one in (diameter, width, height) if one is not None]
    if not all(0.3 <= size <= 400 for size in sizes):
        raise LayoutRefused(f"A hole of {min(sizes):g} mm cannot be; from 0.3 to 400 mm is read.")
    scaled = [None if one is None else one * MM for one in (diameter, width, height)]
    try:
        return Hole(face=face, u=u * MM, v=v * MM, diameter=scaled[0], width=scaled[1], height=scaled[2])
    except ValueError:
        raise LayoutRefused(f"A hole at {u:g}, {v:g} mm is two metres away; the file is not of this box.") from None


def _from_dxf(content: bytes, face: Face) -> list[Hole]:
    from ezdxf import recover  # large, and few ask for it
    from ezdxf.entities.lwpolyline import LWPolyline
    from ezdxf.lldxf.const import DXFError

    _not_too_many(len(_CIRCLE.findall(content)))
    try:
        drawing, _ = recover.read(io.BytesIO(content))
    except (DXFError, OSError, ValueError, UnicodeError, IndexError, KeyError, TypeError):
        raise LayoutRefused("That is no DXF file that can be read.") from None
    space = drawing.modelspace()
    boxes = []
    for outline in space.query("LWPOLYLINE"):
        assert isinstance(outline, LWPolyline)
        points = [(float(x), float(y)) for x, y in outline.get_points("xy")]
        if outline.closed and len(points) >= 3:
            boxes.append(points)
    _not_too_many(len(boxes))
    spans = [_span(points) for points in boxes]
    whole = max(spans, key=lambda span: (span[2] - span[0]) * (span[3] - span[1]), default=None)
    left, low = (whole[0], whole[1]) if whole else (0.0, 0.0)
    result = [
        _hole(face, circle.dxf.center.x - left, circle.dxf.center.y - low, 2 * circle.dxf.radius)
        for circle in space.query("CIRCLE")
    ]
    for span in spans:
        if span is not whole:
            x0, y0, x1, y1 = span
            result.append(_hole(face, (x0 + x1) / 2 - left, (y0 + y1) / 2 - low, None, x1 - x0, y1 - y0))
    return result


def _span(points: list[tuple[float, float]]) -> tuple[float, float, float, float]:
    xs, ys = [x for x, _ in points], [y for _, y in points]
    return min(xs), min(ys), max(xs), max(ys)


def _from_svg(content: bytes, face: Face) -> list[Hole]:
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise LayoutRefused("That SVG is not text in UTF-8; save it as plain SVG.") from None
    if "<!DOCTYPE" in text or "<!ENTITY" in text:
        raise LayoutRefused("That SVG defines things of its own; save it as plain SVG.")
    try:
        root = ElementTree.fromstring(_DECLARATION.sub("", text))
    except (ElementTree.ParseError, ValueError, RecursionError):
        raise LayoutRefused("That is no SVG file that can be read.") from None
    if not root.tag.endswith("svg"):
        raise LayoutRefused("That is no SVG file: it begins with something else.")
    view = [float(one) for one in _NUMBER.findall(root.get("viewBox", ""))]
    high = view[3] if len(view) == 4 else _plain(root.get("height", ""))
    scale = 1.0
    if len(view) == 4 and root.get("width", "").strip().endswith("mm") and view[2] > 0:
        scale = _plain(root.get("width", "")) / view[2]
    holes: list[Hole] = []
    rects: list[tuple[float, float, float, float]] = []
    for one in root.iter():
        _not_too_many(max(len(holes), len(rects) - 1))
        tag = one.tag.rsplit("}", 1)[-1]
        if tag == "circle":
            r = _plain(one.get("r", "0"))
            holes.append(_hole(face, scale * _plain(one.get("cx", "0")), scale * (high - _plain(one.get("cy", "0"))),
                               scale * 2 * r))  # fmt: skip
        elif tag == "rect":
            x, y, w, h = (_plain(one.get(name, "0")) for name in ("x", "y", "width", "height"))
            rects.append((x, y, x + w, y + h))
        elif tag == "polygon":
            numbers = [float(n) for n in _NUMBER.findall(one.get("points", ""))]
            if len(numbers) >= 6:
                rects.append(_span(list(zip(numbers[::2], numbers[1::2], strict=False))))
    outer = max(rects, key=lambda rect: (rect[2] - rect[0]) * (rect[3] - rect[1]), default=None)
    for rect in rects:
        if rect is not outer:
            x0, y0, x1, y1 = (scale * one for one in rect)
            holes.append(_hole(face, (x0 + x1) / 2, scale * high - (y0 + y1) / 2, None, x1 - x0, y1 - y0))
    return holes


def _plain(text: str) -> float:
    match = _NUMBER.search(text)
    return float(match[0]) if match else 0.0


def _from_table(content: bytes, face: Face) -> list[Hole]:
    try:
        text = content.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise LayoutRefused("The table is not text in UTF-8.") from None
    holes: list[Hole] = []
    try:
        lines = list(csv.reader(io.StringIO(text)))
    except csv.Error:
        raise LayoutRefused("The table cannot be read as CSV.") from None
    for number, cells in enumerate(lines, start=1):
        _not_too_many(len(holes))
        cells = [cell.strip() for cell in cells if cell.strip()]
        if not cells or cells[0].startswith("#") or (number == 1 and not _NUMBER.fullmatch(cells[0])):
            continue
        if len(cells) not in (3, 4) or not all(_NUMBER.fullmatch(cell) for cell in cells):
            raise LayoutRefused(
                f"Line {number} is to be across, up, diameter (or width, height) in mm, such as 120, 45, 22."
            )
        values = [float(cell) for cell in cells]
        holes.append(_hole(face, values[0], values[1], values[2] if len(values) == 3 else None,
                           *(values[2:] if len(values) == 4 else (None, None))))  # fmt: skip
    return holes
