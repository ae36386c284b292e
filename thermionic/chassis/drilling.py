"""The holes of a layout, face by face, and the files to drill by: SVG and DXF at full size, PDF on sheets to be
joined, a table, a list to centre-punch by."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from dataclasses import dataclass
from math import cos, radians, sin
from typing import TYPE_CHECKING

from thermionic.chassis.body import Body
from thermionic.chassis.document import FACES, Face, Layout
from thermionic.chassis.geometry import frame, turned

if TYPE_CHECKING:
    from reportlab.pdfgen.canvas import Canvas

MM = 1e3
_INCH = 72.0  # a PDF's points
PAPERS = {"A4": (210.0 / 25.4 * _INCH, 297.0 / 25.4 * _INCH), "Letter": (8.5 * _INCH, 11.0 * _INCH)}
_POINT = 72.0 / 25.4  # points a millimetre
_MARGIN, _OVERLAP = 10.0, 10.0  # mm of a sheet that printers leave white; that two sheets have in common
_SCALE = 100.0  # mm, of the bar to be checked with a ruler
_LAYERS = {"OUTLINE": 7, "HOLES": 1, "CENTRES": 3, "NAMES": 5}


@dataclass(frozen=True)
class DrilledHole:
    """A hole: its face, its middle from the face's datum corner (lower left as it is seen from outside), m; round, or
    width by height turned; the body that it is for, with what it is made, a keyway. ``there`` are those that a reused
    box has already."""

    face: Face
    u: float
    v: float
    diameter: float | None
    width: float | None
    height: float | None
    turn: float
    what: str
    tool: str
    keyway: str = ""
    there: bool = False


def holes(bodies: Sequence[Body], layout: Layout) -> tuple[DrilledHole, ...]:
    """Every hole, by face, from the datum corner outwards."""
    by_key = {body.key: body for body in bodies}
    drilled_holes = []
    for placed in layout.placed:
        body = by_key.get(placed.body)
        for opening in body.sizes.openings if body else ():
            assert body is not None
            u, v = turned(*opening.at, placed.turn)
            drilled_holes.append(DrilledHole(
                placed.face, placed.u + u, placed.v + v, opening.diameter, opening.width, opening.height, placed.turn,
                body.title, opening.tool, opening.keyway,
            ))  # fmt: skip
    drilled_holes += [
        DrilledHole(
            hole.face, hole.u, hole.v, hole.diameter, hole.width, hole.height, 0.0, "there already", "", "", True
        )
        for hole in layout.holes
    ]
    return tuple(sorted(drilled_holes, key=lambda one: (FACES.index(one.face), round(one.v, 4), one.u)))


def corners(hole: DrilledHole) -> list[tuple[float, float]]:
    """The corners of a hole that is not round, on its face, m."""
    c, s = cos(radians(hole.turn)), sin(radians(hole.turn))
    w, h = (hole.width or 0.0) / 2, (hole.height or 0.0) / 2
    return [(hole.u + c * x - s * y, hole.v + s * x + c * y) for x, y in ((-w, -h), (w, -h), (w, h), (-w, h))]


def size_of(hole: DrilledHole) -> str:
    """Its size in words, mm."""
    if hole.diameter is not None:
        return f"⌀ {hole.diameter * MM:.1f}"
    return f"{(hole.width or 0) * MM:.1f} × {(hole.height or 0) * MM:.1f}"


def svg(found: Sequence[DrilledHole], layout: Layout, face: Face) -> str:
    """One face at full size, as SVG in millimetres."""
    of = frame(layout.box, face)
    w, h = of.width * MM, of.height * MM
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{w:.2f}mm" height="{h:.2f}mm" '
        f'viewBox="0 0 {w:.2f} {h:.2f}">',
        f"<title>{_escaped(layout.name)}: {face}</title>",
        f'<rect class="outline" x="0" y="0" width="{w:.2f}" height="{h:.2f}" fill="none" stroke="#000" '
        'stroke-width="0.2"/>',
    ]
    for hole in found:
        if hole.face != face:
            continue
        x, y = hole.u * MM, h - hole.v * MM
        style = 'fill="none" stroke="#000" stroke-width="0.2"' + (' stroke-dasharray="1 1"' if hole.there else "")
        if hole.diameter is not None:
            parts.append(f'<circle cx="{x:.3f}" cy="{y:.3f}" r="{hole.diameter * MM / 2:.3f}" {style}/>')
        else:
            points = " ".join(f"{u * MM:.3f},{h - v * MM:.3f}" for u, v in corners(hole))
            parts.append(f'<polygon points="{points}" {style}/>')
        parts.append(f'<path d="M{x - 2:.3f} {y:.3f}h4M{x:.3f} {y - 2:.3f}v4" {style}/>')
    parts.append("</svg>")
    return "\n".join(parts)


def _escaped(text: str) -> str:
    return text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")


def dxf(found: Sequence[DrilledHole], layout: Layout, faces: Sequence[Face] = FACES) -> str:
    """Faces beside each other in millimetres as DXF (R2010), outlines, holes, centres and names on layers of their
    own."""
    from ezdxf.filemanagement import new  # large, and few ask for it

    drawing = new("R2010", units=4)
    for name, colour in _LAYERS.items():
        drawing.layers.add(name, color=colour)
    space = drawing.modelspace()
    left = 0.0
    for face in faces:
        of = frame(layout.box, face)
        w, h = of.width * MM, of.height * MM
        space.add_lwpolyline(
            [(left, 0), (left + w, 0), (left + w, h), (left, h)], close=True, dxfattribs={"layer": "OUTLINE"}
        )
        space.add_text(f"{layout.name}: {face}", height=5, dxfattribs={"layer": "NAMES"}).set_placement((left, h + 4))
        for hole in found:
            if hole.face != face:
                continue
            x, y = left + hole.u * MM, hole.v * MM
            if hole.diameter is not None:
                space.add_circle((x, y), hole.diameter * MM / 2, dxfattribs={"layer": "HOLES"})
            else:
                points = [(left + u * MM, v * MM) for u, v in corners(hole)]
                space.add_lwpolyline(points, close=True, dxfattribs={"layer": "HOLES"})
            space.add_point((x, y), dxfattribs={"layer": "CENTRES"})
        left += w + 20.0
    text = io.StringIO()
    drawing.write(text)
    return text.getvalue()


def pdf(found: Sequence[DrilledHole], layout: Layout, faces: Sequence[Face], paper: str = "A4") -> bytes:
    """Faces at full size on sheets of paper, with marks to join them and a bar to measure; the table of holes after
    them. Raises KeyError for another paper."""
    width, height = PAPERS[paper]
    stream = io.BytesIO()
    from reportlab.pdfgen.canvas import Canvas  # as large

    canvas = Canvas(stream, pagesize=(width, height), pageCompression=1)
    canvas.setTitle(f"{layout.name}, drilling template")
    usable = width / _POINT - 2 * _MARGIN, height / _POINT - 2 * _MARGIN - 14.0
    for face in faces:
        of = frame(layout.box, face)
        w, h = of.width * MM, of.height * MM
        columns = max(1, -(-int(w * 100 - _OVERLAP * 100) // int((usable[0] - _OVERLAP) * 100)))
        rows = max(1, -(-int(h * 100 - _OVERLAP * 100) // int((usable[1] - _OVERLAP) * 100)))
        for row in range(rows):
            for column in range(columns):
                _page(canvas, found, layout, face, (column, row), (columns, rows), usable, height / _POINT)
                canvas.showPage()
    _table(canvas, found, width, height, faces)
    canvas.save()
    return stream.getvalue()


def _page(
    canvas: Canvas, found: Sequence[DrilledHole], layout: Layout, face: Face, at: tuple[int, int],
    of: tuple[int, int], usable: tuple[float, float], high: float,
) -> None:  # fmt: skip
    """One sheet: the part of the face that is its own, with the marks that it shares with its neighbours."""
    shown = frame(layout.box, face)
    w, h = shown.width * MM, shown.height * MM
    left, low = at[0] * (usable[0] - _OVERLAP), at[1] * (usable[1] - _OVERLAP)
    canvas.saveState()
    canvas.scale(_POINT, _POINT)
    canvas.setFont("Helvetica", 3.2)
    words = (
        f"{layout.name}: {face} from outside, sheet {at[0] + 1}.{at[1] + 1} of {of[0]} by {of[1]}. Print at 100 %."
    )
    canvas.drawString(_MARGIN, high - _MARGIN - 2, words)
    canvas.setLineWidth(0.2)
    canvas.line(_MARGIN, high - _MARGIN - 6, _MARGIN + _SCALE, high - _MARGIN - 6)
    for tick in range(0, 101, 10):
        canvas.line(_MARGIN + tick, high - _MARGIN - 8, _MARGIN + tick, high - _MARGIN - 6)
    canvas.drawString(_MARGIN + _SCALE + 2, high - _MARGIN - 8, "100 mm: measure it with a ruler before you drill")
    clip = canvas.beginPath()
    clip.rect(_MARGIN - 0.5, _MARGIN - 0.5, usable[0] + 1, usable[1] + 1)
    canvas.clipPath(clip, stroke=0, fill=0)
    canvas.translate(_MARGIN - left, _MARGIN - low)
    canvas.rect(0, 0, w, h)
    for hole in found:
        if hole.face == face:
            _drawn(canvas, hole)
    canvas.setStrokeColorRGB(0.45, 0.45, 0.45)
    for column in range(1, of[0]):
        x = column * (usable[0] - _OVERLAP) + _OVERLAP / 2
        for y in (0.2 * h, 0.5 * h, 0.8 * h):
            _mark(canvas, x, y)
    for row in range(1, of[1]):
        y = row * (usable[1] - _OVERLAP) + _OVERLAP / 2
        for x in (0.2 * w, 0.5 * w, 0.8 * w):
            _mark(canvas, x, y)
    canvas.restoreState()


def _mark(canvas: Canvas, x: float, y: float) -> None:
    canvas.circle(x, y, 2.5)
    canvas.line(x - 4, y, x + 4, y)
    canvas.line(x, y - 4, x, y + 4)


def _drawn(canvas: Canvas, hole: DrilledHole) -> None:
    x, y = hole.u * MM, hole.v * MM
    canvas.setDash([1, 1] if hole.there else [])
    if hole.diameter is not None:
        canvas.circle(x, y, hole.diameter * MM / 2)
    else:
        path = canvas.beginPath()
        points = [(u * MM, v * MM) for u, v in corners(hole)]
        path.moveTo(*points[0])
        for point in points[1:]:
            path.lineTo(*point)
        path.close()
        canvas.drawPath(path)
    canvas.setDash([])
    canvas.line(x - 2.5, y, x + 2.5, y)
    canvas.line(x, y - 2.5, x, y + 2.5)
    canvas.setFont("Helvetica", 2.6)
    canvas.drawString(x + 1.2, y + 1.0, f"{hole.diameter * MM:.1f}" if hole.diameter else "")


def _table(canvas: Canvas, found: Sequence[DrilledHole], width: float, height: float, faces: Sequence[Face]) -> None:
    """The hole table, in inner order from the datum corner."""
    top, line = height / _POINT - _MARGIN - 6, 4.6
    y = 0.0
    for number, hole in enumerate(one for one in found if one.face in faces):
        if y < _MARGIN:
            if number:
                canvas.restoreState()
                canvas.showPage()
            canvas.saveState()
            canvas.scale(_POINT, _POINT)
            canvas.setFont("Helvetica-Bold", 3.2)
            for x, words in zip(_COLUMNS, ("", "face", "across", "up", "size", "for", "by"), strict=True):
                canvas.drawString(x, top, words)
            canvas.setFont("Helvetica", 3.0)
            y = top - line
        made = hole.tool + (f"; {hole.keyway}" if hole.keyway else "")
        size = size_of(hole).replace("⌀", "")
        cells = (
            str(number + 1),
            hole.face,
            f"{hole.u * MM:.1f}",
            f"{hole.v * MM:.1f}",
            size,
            hole.what[:34],
            made[:52],
        )
        for x, words in zip(_COLUMNS, cells, strict=True):
            canvas.drawString(x, y, words.encode("latin-1", "replace").decode("latin-1"))
        y -= line
    if y:
        canvas.restoreState()
        canvas.showPage()


_COLUMNS = (10.0, 18.0, 32.0, 46.0, 60.0, 82.0, 128.0)


def table(found: Sequence[DrilledHole]) -> str:
    """The holes as a table, CSV: number, face, across and up from the datum corner, mm, diameter or width and height,
    what it is for, with what it is made, deburring, keyway."""
    text = io.StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow(["number", "face", "across mm", "up mm", "diameter mm", "width mm", "height mm", "turn", "for",
                     "tool", "deburr", "keyway"])  # fmt: skip
    for number, hole in enumerate(found):
        cells = [f"{one * MM:.2f}" if one is not None else "" for one in (hole.diameter, hole.width, hole.height)]
        writer.writerow([number + 1, hole.face, f"{hole.u * MM:.2f}", f"{hole.v * MM:.2f}", *cells, f"{hole.turn:g}",
                         hole.what, hole.tool, "" if hole.there else "both sides", hole.keyway])  # fmt: skip
    return text.getvalue()
