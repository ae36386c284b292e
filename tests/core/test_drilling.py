"""The files to drill by, measured as they come out; and the holes of a box that is there, read in."""

import csv
import io

import ezdxf
import numpy as np
import pypdfium2
import pytest

from tests.core.layouts import amplifier, first
from thermionic.chassis.bodies import bodies
from thermionic.chassis.document import LayoutRefused, changed_layout
from thermionic.chassis.drilling import PAPERS, corners, dxf, holes, pdf, size_of, svg, table
from thermionic.chassis.fitting_in import misfits
from thermionic.chassis.reading_holes import read_holes

MM = 1e3
DPI = 254  # ten pixels a millimetre


def drilled(name="lantern"):
    return holes(bodies(amplifier(name), first(name)), first(name))


def pages(content):
    document = pypdfium2.PdfDocument(content)
    try:
        return [np.asarray(page.render(scale=DPI / 72, grayscale=True).to_pil()) for page in document]
    finally:
        document.close()


@pytest.mark.parametrize("paper", sorted(PAPERS))
def test_the_template_measures_right_on_paper(paper):
    result, layout = drilled(), first("lantern")
    picture = pages(pdf(result, layout, ("front",), paper))[0]
    high = picture.shape[0]
    # The bar of 100 mm, by the ticks that stand on it, 16 to 18 mm from the sheet's upper edge.
    columns = np.flatnonzero((picture[163:177, :1112] < 128).all(axis=0))
    assert (columns.max() - columns.min()) / 10 == pytest.approx(100.0, abs=0.2)
    # The volume control's hole, from the corner of the face: 10 mm from the sheet's.
    pot = next(hole for hole in result if hole.what == "Volume" and hole.diameter == pytest.approx(0.010))
    at = 10 + pot.u * MM, 10 + pot.v * MM
    # Its rim by its four extremes.
    size = 10 * (at[0] - 7), 10 * (at[0] + 7)
    row = high - int(10 * at[1] - 35)  # 3.5 mm above its middle, clear of the cross
    line = np.flatnonzero(picture[row - 70, int(size[0]) : int(size[1])] < 128)
    half = (line.max() - line.min()) / 20
    above = 3.5
    middle = (line.max() + line.min()) / 20 + int(size[0]) / 10
    assert middle == pytest.approx(at[0], abs=0.2)
    assert np.hypot(half, above) == pytest.approx(5.0, abs=0.2)


def test_a_large_face_is_on_sheets_that_have_a_strip_in_common():
    result, layout = drilled(), first("lantern")
    content = pdf(result, layout, ("top",), "A4")
    shown = pages(content)
    assert len(shown) >= 6  # 420 x 290 mm on sheets of 190 x 263
    text = [page.get_textpage().get_text_range() for page in pypdfium2.PdfDocument(content)]
    assert "sheet 1.1 of 3 by 2" in text[0]
    assert "Print at 100 %" in text[0]
    assert any("V1 6SL7GT" in page and "28.0" in page for page in text)


def test_dxf_has_every_hole_on_its_layer_where_it_belongs():
    result, layout = drilled(), first("lantern")
    drawing = ezdxf.read(io.StringIO(dxf(result, layout, ("top",))))
    assert not drawing.audit().errors
    assert drawing.units == 4
    circles = sorted(
        (round(one.dxf.center.x, 3), round(one.dxf.center.y, 3), round(2 * one.dxf.radius, 3))
        for one in drawing.modelspace().query('CIRCLE[layer=="HOLES"]')
    )
    expected = sorted((round(h.u * MM, 3), round(h.v * MM, 3), round(h.diameter * MM, 3)) for h in result
                      if h.face == "top" and h.diameter)  # fmt: skip
    assert circles == expected
    outline = drawing.modelspace().query('LWPOLYLINE[layer=="OUTLINE"]').first
    assert max(x for x, _ in outline.get_points("xy")) == pytest.approx(layout.box.width * MM)


@pytest.mark.parametrize("face", ["top", "rear"])
@pytest.mark.parametrize("kind", ["dxf", "svg"])
def test_what_is_drawn_is_read_back_as_the_same_holes(kind, face):
    result, layout = drilled(), first("lantern")
    content = dxf(result, layout, (face,)) if kind == "dxf" else svg(result, layout, face)
    again = read_holes(content.encode(), f"box.{kind}", face, layout.box)
    mine = sorted((round(h.u * MM, 2), round(h.v * MM, 2), round((h.diameter or h.width) * MM, 2)) for h in result
                  if h.face == face)  # fmt: skip
    theirs = sorted((round(h.u * MM, 2), round(h.v * MM, 2), round((h.diameter or h.width) * MM, 2)) for h in again)
    assert np.array(theirs) == pytest.approx(np.array(mine))


def test_the_table_says_each_hole_its_tool_and_its_keyway():
    rows = list(csv.DictReader(io.StringIO(table(drilled()))))
    socket = next(row for row in rows if row["for"] == "V1 6SL7GT" and row["diameter mm"] == "28.00")
    assert "punch" in socket["tool"]
    assert "key" in socket["keyway"]
    assert {row["deburr"] for row in rows} == {"both sides"}
    inlet = next(hole for hole in drilled() if hole.width)
    assert size_of(inlet) == "27.5 × 20.5"
    # Its corners are as far apart as it is large.
    square = np.array(corners(inlet))
    assert np.ptp(square, axis=0) == pytest.approx([0.0275, 0.0205])


def test_a_table_is_read_with_or_without_a_head_and_holes_are_kept_free():
    layout = first("lantern")
    content = b"across,up,diameter\n# the old inlet\n120,45,22\n200, 60, 27.5, 20.5\n\n"
    result = read_holes(content, "old.csv", "top", layout.box)
    assert [(h.u, h.v, h.diameter, h.width) for h in result] == [
        (0.12, 0.045, 0.022, None),
        (0.2, 0.06, None, 0.0275),
    ]
    with_them = changed_layout(layout, holes=[one.model_dump() for one in result])
    assert sum(hole.there for hole in holes(bodies(amplifier("lantern"), with_them), with_them)) == 2
    tube = layout.of("tube:v1:0")
    under = changed_layout(layout, holes=[{"face": "top", "u": tube.u + 0.018, "v": tube.v, "diameter": 0.01}])
    words = [misfit.words for misfit in misfits(bodies(amplifier("lantern"), under), under)]
    assert any("hole that is there" in word for word in words)


@pytest.mark.parametrize(
    ("content", "name", "words"),
    [
        (b"", "box.dxf", "no hole"),
        (b"\x00\xff" * 50, "box.dxf", "no DXF"),
        (b"<html></html>", "box.svg", "begins with something else"),
        (b"<svg", "box.svg", "no SVG"),
        (b'<!DOCTYPE x [<!ENTITY a "b">]><svg/>', "box.svg", "things of its own"),
        (b"<svg xmlns='http://www.w3.org/2000/svg'/>", "box.svg", "no hole"),
        (b"1,2", "old.csv", "Line 1"),
        (b"10,10,0.001", "old.csv", "cannot be"),
        (b"\xff\xfe1,2,3", "old.csv", "UTF-8"),
        (b"9999,10,5", "old.csv", "two metres away"),
        (b"450,10,5", "old.csv", "off the top"),
        (b"10,10,5\n" * 500, "old.csv", "401 holes or more"),
        (b"x" * 2_000_001, "old.csv", "2 MB"),
        (b"1,2,3", "old.pdf", "read from"),
    ],
)
def test_a_file_of_something_else_is_refused_in_words(content, name, words):
    with pytest.raises(LayoutRefused, match=words):
        read_holes(content, name, "top", first("lantern").box)
