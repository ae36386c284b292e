"""Chassis and Earths: drawn of every amplifier; parts placed, taken back, kept beside; files out and in."""

import io
import json

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from bold_anode.accounts import carrying
from bold_anode.amps.models import Project
from bold_anode.amps.operations import create_project
from bold_anode.chassis import laying, operations, searching
from bold_anode.chassis.models import ChassisLayout, KeptSize, LayoutState
from bold_anode.tasks.models import Work
from thermionic import examples
from thermionic.chassis.document import LayoutRefused
from thermionic.earths.schools import WHY

TABS = {"chassis": ("layout", "wires", "warmth", "variants", "drilling"),
        "earths": ("network", "schools", "faults", "protective")}  # fmt: skip


def room(project, slug="chassis", tab=""):
    return reverse("room", args=[project.pk, slug]) + (f"?tab={tab}" if tab else "")


def layout_of(project):
    return laying.standing(Project.objects.get(pk=project.pk)).layout


def place(bench, project, **values):
    number = laying.standing(Project.objects.get(pk=project.pk)).number
    address = reverse("chassis-place", args=[project.pk])
    return bench.post(address, {"seen": number, **values}, HTTP_HX_REQUEST="true")


@pytest.mark.parametrize("name", sorted(examples.names()))
def test_both_rooms_are_drawn_of_every_sort_of_amplifier(bench, owner, name):
    project = create_project(owner, examples.example(name))
    for slug, tabs in TABS.items():
        for tab in tabs:
            response = bench.get(room(project, slug, tab))
            assert response.status_code == 200, (name, slug, tab)
    page = bench.get(room(project)).content.decode()
    for placed_body in layout_of(project).placed:
        assert f'data-body="{placed_body.body}"' in page
    assert not ChassisLayout.objects.exists()  # looking stores nothing


def test_a_part_is_moved_turned_and_taken_back(bench, project):
    before = layout_of(project)
    response = place(bench, project, body="tube:v1:0", u="100", v="9 cm")
    page = response.content.decode()
    assert response.status_code == 200
    assert 'id="laid"' in page
    assert 'data-u="100.0"' in page
    assert (layout_of(project).of("tube:v1:0").u, layout_of(project).of("tube:v1:0").v) == (0.1, 0.09)
    place(bench, project, body="tube:v1:0", turn="450")
    assert layout_of(project).of("tube:v1:0").turn == 90
    state = LayoutState.objects.last()
    assert state.note.endswith("turned to 90°")
    with pytest.raises(TypeError):
        state.save()
    step = reverse("chassis-step", args=[project.pk])
    for way, expected in (("back", 0.1), ("back", before.of("tube:v1:0").u), ("forward", 0.1)):
        number = laying.standing(project).number
        bench.post(step, {"seen": number, "way": way}, HTTP_HX_REQUEST="true")
        assert layout_of(project).of("tube:v1:0").u == pytest.approx(expected)
    # Without scripts it is a page again.
    plain = bench.post(reverse("chassis-place", args=[project.pk]), {"body": "tube:v1:0", "u": "120"})
    assert plain.status_code == 302
    assert layout_of(project).of("tube:v1:0").u == 0.12


def test_how_things_are_made_is_chosen_from_the_page(bench, project):
    for values in (
        {"body": "mains:transformer:0", "screen": "copper band"},
        {"body": "strip:v1:1", "strip": "turret board", "earth_lug": "3"},
        {"body": "tube:v1:0", "mount": "board"},
    ):
        assert place(bench, project, **values).status_code == 200
        placed = layout_of(project).of(values["body"])
        assert all(str(getattr(placed, name)) == value for name, value in values.items())
        page = bench.get(room(project) + f"?body={values['body']}").content.decode()
        for name, value in values.items():
            assert name == "body" or f"<option selected>{value}</option>" in page


@pytest.mark.parametrize(
    ("values", "words"),
    [
        ({"body": "tube:v1:0", "u": "9000"}, "off the top"),
        ({"body": "tube:v1:0", "u": "left"}, "is not a length"),
        ({"body": "tube:v1:0", "turn": "round"}, "is not a number"),
        ({"body": "tube:v1:0", "face": "inside"}, "no face of a box"),
        ({"body": "tube:v99:0", "u": "10"}, "not on this chassis"),
        ({"body": "tube:v1:0", "mount": "sideways"}, "mount"),
        ({"body": "tube:v1:0", "u": "nan"}, "is not a length"),
        ({"body": "mains:transformer:0", "screen": "lead box"}, "screen"),
        ({"body": "strip:v1:1", "strip": "plank"}, "strip"),
        ({"body": "strip:v1:1", "earth_lug": "77"}, "has lugs 1 to"),
    ],
)
def test_what_cannot_be_placed_is_said_and_nothing_stored(bench, project, values, words):
    response = place(bench, project, **values)
    assert response.status_code == 422
    assert words in response.content.decode().replace("&#x27;", "'")
    assert response["HX-Retarget"] == "#notice"
    assert not ChassisLayout.objects.exists()


def test_a_page_that_is_behind_is_redrawn_with_a_sentence_and_overwrites_nothing(bench, project):
    place(bench, project, body="tube:v1:0", u="100")
    address = reverse("chassis-place", args=[project.pk])
    late = bench.post(address, {"seen": 0, "body": "tube:v1:0", "u": "50"}, HTTP_HX_REQUEST="true")
    assert late.status_code == 422
    assert "changed in another window" in late.content.decode()
    assert 'id="laid"' in late.content.decode()
    assert layout_of(project).of("tube:v1:0").u == 0.1


def test_box_heaters_earth_and_fittings_are_set_from_the_page(bench, project):
    def post(name, **values):
        number = laying.standing(project).number
        address = reverse(name, args=[project.pk])
        assert bench.post(address, {"seen": number, **values}, HTTP_HX_REQUEST="true").status_code == 200

    post("chassis-box", width="500", material="steel", bottom="0", lid="120")
    box = layout_of(project).box
    assert (box.width, box.material, box.bottom, box.lid) == (0.5, "steel", False, 0.12)
    post("chassis-wiring", measured="2.5")
    assert layout_of(project).measured_volt == 0.0025
    post("chassis-wiring", measured="")
    assert layout_of(project).measured_volt is None
    post("chassis-wiring", heater_pitch="0")
    assert layout_of(project).heater_pitch == 0
    post("chassis-fitting", kind="vent")
    assert layout_of(project).of("fitting:vent:1")
    post("chassis-fitting", out="fitting:vent:1")
    assert not layout_of(project).of("fitting:vent:1")
    for school in WHY:
        post("earths-set", school=school)
        assert layout_of(project).earthing.school == school
    post("earths-set", breaker="1", jacks_insulated="0", bolt="supply")
    earthing = layout_of(project).earthing
    assert (earthing.breaker, earthing.jacks_insulated, earthing.bolt) == (True, False, "supply")
    post("chassis-arrange", school="symmetric")
    now = laying.laid(project, layout_of(project))
    wire = next(wire for wire in now.wiring.wires if wire.kind == "signal")
    post("chassis-wire", wire=wire.key, shielded="1")
    assert layout_of(project).choice(wire.key).shielded
    bends = json.dumps([[100, 50], [100, 120.5]])
    post("chassis-wire", wire=wire.key, bends=bends)
    assert layout_of(project).choice(wire.key).bends == ((0.1, 0.05), (0.1, 0.1205))
    assert layout_of(project).choice(wire.key).shielded
    post("chassis-wire", wire=wire.key, bends="")
    assert layout_of(project).choice(wire.key).bends is None


@pytest.mark.parametrize(
    "bends",
    [
        "[[1]]",
        "{",
        "[[1, 2], 3]",
        "[" * 5000,
        '[["a", 2]]',
        "[[9000, 1]]",
        f"[[{'9' * 400}, 1]]",
        "[[1e400, 1]]",
        "[[NaN, 1]]",
    ],
)
def test_bends_that_are_none_are_refused(bench, project, bends):
    address = reverse("chassis-wire", args=[project.pk])
    response = bench.post(address, {"wire": "a > b", "bends": bends}, HTTP_HX_REQUEST="true")
    assert response.status_code == 422
    assert not ChassisLayout.objects.exists()


def test_variants_are_kept_compared_chosen_and_taken_out(bench, owner, project):
    bench.post(reverse("chassis-keep", args=[project.pk]), {"name": " Iron  apart "})
    rows = list(ChassisLayout.objects.all())
    assert [(row.name, row.chosen) for row in rows] == [("First layout", False), ("Iron apart", True)]
    place(bench, project, body="mains:transformer:0", u="60", v="60")
    page = bench.get(room(project, tab="variants")).content.decode()
    assert "Iron apart" in page
    assert "worse" in page or "better" in page
    drop = reverse("chassis-drop", args=[project.pk, rows[1].pk])
    assert bench.post(drop, HTTP_HX_REQUEST="true").status_code == 422
    bench.post(reverse("chassis-choose", args=[project.pk, rows[0].pk]))
    assert layout_of(project).of("mains:transformer:0").u != 0.06
    bench.post(drop)
    assert ChassisLayout.objects.get().name == "First layout"
    for name in ("", "x" * 61, "First layout"):
        with pytest.raises(LayoutRefused):
            operations.keep_variant(owner, project.pk, name)


def test_changes_are_tried_as_work_and_one_is_made_with_one_action(bench, owner, project, worker):
    address = reverse("study", args=[project.pk, "layout-changes"])
    bench.post(address)
    worker()
    work = Work.objects.get(kind=searching.CHANGES.kind)
    offers = work.result
    assert offers
    page = bench.get(address).content.decode()
    assert offers[0]["words"] in page.replace("&#x27;", "'")
    make = reverse("chassis-offer", args=[project.pk])
    for number, status in ((str(len(offers)), 422), ("0", 200)):
        assert bench.post(make, {"number": number, "seen": 0}, HTTP_HX_REQUEST="true").status_code == status
    assert ChassisLayout.objects.get().at.number == 2
    hum = laying.laid(project, layout_of(project)).hum
    assert hum.below(hum.volt) == pytest.approx(offers[0]["below"])
    # What was tried was another state.
    assert bench.post(make, {"number": "0"}, HTTP_HX_REQUEST="true").status_code == 422


def test_a_proposal_is_searched_for_and_taken(bench, owner, project, worker, monkeypatch):
    monkeypatch.setattr("thermionic.chassis.proposing.SECONDS", 0.1)
    address = reverse("study", args=[project.pk, "layout-proposal"])
    bench.post(address)
    worker()
    work = Work.objects.get(kind=searching.PROPOSAL.kind)
    assert "Take this layout" in bench.get(address).content.decode()
    assert bench.post(reverse("chassis-proposal", args=[project.pk]), HTTP_HX_REQUEST="true").status_code == 200
    assert laying.plain(layout_of(project))["placed"] == work.result["layout"]["placed"]


def test_files_to_drill_by_come_out_and_a_boxs_holes_go_in(bench, project):
    names = ("template-A4.pdf", "template-Letter.pdf", "box.dxf", "holes.csv", "top.svg", "rear.svg")
    starts = (b"%PDF", b"%PDF", b"  0\nSECTION", b"number,face", b"<svg", b"<svg")
    for name, start in zip(names, starts, strict=True):
        response = bench.get(reverse("chassis-drill", args=[project.pk, name]))
        assert response.content.startswith(start)
        assert name in response["Content-Disposition"]
    for name in ("template-A5.pdf", "inside.svg", "x"):
        assert bench.get(reverse("chassis-drill", args=[project.pk, name])).status_code == 404
    address = reverse("chassis-holes", args=[project.pk])
    bench.post(address, {"face": "top", "file": SimpleUploadedFile("old.csv", b"120,45,22\n")})
    assert [hole.diameter for hole in layout_of(project).holes] == [0.022]
    wrong = bench.post(
        address, {"face": "top", "file": SimpleUploadedFile("old.csv", b"a,b\nc")}, HTTP_HX_REQUEST="true"
    )
    assert wrong.status_code == 422
    assert "Line 2" in wrong.content.decode()
    bench.post(address, {"face": "top"})
    assert not layout_of(project).holes


def test_a_search_coils_millivolts_become_its_field(bench, project):
    address = reverse("chassis-stray", args=[project.pk])
    typed = {"body": "mains:transformer:0", "millivolt": "3.14", "turns": "1000", "square": "5", "distance": "100"}
    bench.post(address, typed)
    stray = layout_of(project).strays[0]
    # V = 2 pi 50 Hz x 1000 x 5 cm² x B: 3.14 mV are 20 µT.
    assert stray.microtesla == pytest.approx(20.0, rel=0.01)
    assert bench.post(address, typed | {"turns": "no"}, HTTP_HX_REQUEST="true").status_code == 422
    bench.post(address, {"body": "mains:transformer:0", "millivolt": ""})
    assert not layout_of(project).strays


def test_a_fault_of_the_earth_is_put_in_and_found(bench, project):
    now = laying.laid(project, layout_of(project))
    from thermionic.earths.faults import faults

    for fault in faults(now)[:3]:
        page = bench.get(
            room(project, "earths", "faults") + "&fault=" + fault.key.replace(" ", "%20")
        ).content.decode()
        assert "How a meter finds it" in page
    assert "How a meter finds it" not in bench.get(room(project, "earths", "faults") + "&fault=none").content.decode()


def test_an_account_carries_its_layouts(bench, owner, stranger, project):
    place(bench, project, body="tube:v1:0", u="100")
    operations.keep_variant(owner, project.pk, "Another")
    carrying.unpack(stranger, io.BytesIO(carrying.packed(owner)))
    theirs = Project.objects.get(owner=stranger)
    rows = {row.name: row for row in theirs.layouts.all()}
    assert set(rows) == {"First layout", "Another"}
    assert rows["Another"].chosen
    assert rows["First layout"].at.read.of("tube:v1:0").u == 0.1
    assert rows["First layout"].states.count() == 2
    assert rows["First layout"].at.parent.number == 1
    mine = laying.laid(project, layout_of(project)).hum
    assert laying.laid(theirs, layout_of(theirs)).hum.volt == pytest.approx(mine.volt)


def test_a_state_that_is_old_is_let_go_but_never_the_one_it_stands_at(owner, project, monkeypatch):
    monkeypatch.setattr(operations, "MOST_STATES", 3)
    for number in range(6):
        operations.change_layout(
            owner,
            project.pk,
            lambda layout, n=number: (layout.model_copy(update={"heater_pitch": 0.01 + n / 1e3}), "x"),
        )
    row = ChassisLayout.objects.get()
    assert row.states.count() == 3
    assert row.at.read.heater_pitch == pytest.approx(0.015)


def test_sizes_are_measured_kept_in_the_workshop_and_used_again(bench, owner, stranger, project):
    address = reverse("chassis-size", args=[project.pk])
    sizes = {"across": "120", "along": "80", "above": "101.5", "below": "6"}
    body = "mains:transformer:0"
    bench.post(address, {"body": body, **sizes, "keep": "The grey one"}, HTTP_HX_REQUEST="true")
    assert layout_of(project).sizes[body].above == pytest.approx(0.1015)
    kept = KeptSize.objects.get()
    assert (kept.owner, kept.name, kept.across) == (owner, "The grey one", 0.12)
    bench.post(address, {"body": body}, HTTP_HX_REQUEST="true")
    assert not layout_of(project).sizes
    bench.post(address, {"body": body, "kept": str(kept.pk)}, HTTP_HX_REQUEST="true")
    assert layout_of(project).sizes[body].source == "The grey one"
    for wrong in ({"across": "120"}, {**sizes, "across": "9000"}, {**sizes, "keep": "x" * 61}):
        assert bench.post(address, {"body": body, **wrong}, HTTP_HX_REQUEST="true").status_code == 422
    # Nobody else's, and with the account's export.
    theirs = create_project(stranger, examples.example("lantern"))
    bench.force_login(stranger)
    there = reverse("chassis-size", args=[theirs.pk])
    bench.post(there, {"body": body, "kept": str(kept.pk)}, HTTP_HX_REQUEST="true")
    assert not layout_of(theirs).sizes
    carrying.unpack(stranger, io.BytesIO(carrying.packed(owner)))
    assert KeptSize.objects.of(stranger).get().along == 0.08


def test_parts_are_lined_up_and_the_section_drawn(bench, project):
    keys = json.dumps(["tube:v2:1", "tube:v2:2"])
    address = reverse("chassis-line-up", args=[project.pk])
    assert bench.post(address, {"bodies": keys, "how": "in a row"}, HTTP_HX_REQUEST="true").status_code == 200
    assert layout_of(project).of("tube:v2:1").v == layout_of(project).of("tube:v2:2").v
    for wrong in ("", "[1, 2]", "{", '["tube:v2:1"]'):
        assert bench.post(address, {"bodies": wrong, "how": "in a row"}, HTTP_HX_REQUEST="true").status_code == 422
    look = reverse("chassis-laid", args=[project.pk])
    page = bench.get(look, {"inside": "2", "also": keys, "body": "tube:v2:1"}).content.decode()
    assert "The box in section" in page
    assert "2 chosen" in page


def test_a_copy_of_a_project_has_its_layouts(bench, owner, project):
    place(bench, project, body="tube:v1:0", u="100")
    bench.post(reverse("duplicate", args=[project.pk]))
    copy = Project.objects.exclude(pk=project.pk).get()
    assert layout_of(copy).of("tube:v1:0").u == 0.1
    place(bench, copy, body="tube:v1:0", u="50")
    assert layout_of(project).of("tube:v1:0").u == 0.1
