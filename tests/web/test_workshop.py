"""Projects and revisions: what is kept, whose it is, and what a refusal leaves alone."""

import json
import pickle

import pytest
from django.core.cache import caches
from django.core.files.uploadedfile import SimpleUploadedFile
from django.urls import reverse

from bold_anode.amps import operations
from bold_anode.amps.models import Project, Revision
from bold_anode.amps.rooms import rooms
from thermionic import examples
from thermionic.amplifier import solve
from thermionic.design import changed, dump
from thermionic.errors import ThermionicError

RESISTOR = "blocks/output/cathode_resistor/ohm"
HTMX = {"HTTP_HX_REQUEST": "true"}


def post_change(bench, project, **values):
    return bench.post(reverse("change", args=[project.pk, "chain"]), {"path": RESISTOR, **values}, **HTMX)


def stored(project):
    return {
        "projects": list(Project.objects.order_by("pk").values()),
        "revisions": list(Revision.objects.order_by("pk").values()),
    }


def test_every_address_of_a_project_is_404_for_anybody_else(client, project, stranger):
    client.force_login(stranger)
    gets = [reverse("room", args=[project.pk, room.slug]) for room in rooms()]
    gets += [reverse("export", args=[project.pk]), reverse("chain-part", args=[project.pk]) + "?path=supply"]
    posts = [reverse(name, args=[project.pk]) for name in ("duplicate", "delete", "restore", "readings-start")]
    posts += [reverse(name, args=[project.pk, "chain"]) for name in ("change", "undo", "redo")]
    before = stored(project)
    values = {"path": RESISTOR, "value": "1k", "stage": "no-tubes", "mains": "230"}
    assert {client.get(address).status_code for address in gets} == {404}
    assert {client.post(address, values).status_code for address in posts} == {404}
    assert stored(project) == before
    client.logout()
    for address in gets:
        assert client.get(address).url.startswith(reverse("sign-in"))


def test_a_change_is_a_revision_and_undo_and_redo_walk_them(bench, project):
    first = project.current
    assert post_change(bench, project, value="1k", seen="1").status_code == 200
    assert post_change(bench, project, steps="1", seen="2").status_code == 200
    project.refresh_from_db()
    assert project.current.document["blocks"][3]["cathode_resistor"]["ohm"] == 1100.0
    assert [revision.number for revision in project.revisions.all()] == [1, 2, 3]
    for name, number in (("undo", 2), ("undo", 1), ("undo", 1), ("redo", 2), ("redo", 3), ("redo", 3)):
        bench.post(reverse(name, args=[project.pk, "chain"]), **HTMX)
        project.refresh_from_db()
        assert project.current.number == number
    bench.post(reverse("undo", args=[project.pk, "chain"]), **HTMX)
    post_change(bench, project, value="820")
    project.refresh_from_db()
    assert (project.current.number, project.current.parent.number) == (4, 2)
    assert project.next_version() is None
    first.refresh_from_db()
    assert first.document == dump(examples.example("lantern"))
    with pytest.raises(TypeError, match="never changed"):
        first.save()


@pytest.mark.parametrize(
    ("values", "says"),
    [
        ({"value": "4k7k"}, "is not a resistance"),
        ({"value": "-910"}, "negative"),
        ({"value": ""}, "Enter a resistance, for example 4k7."),
        ({"path": "envelopes/v1/type", "value": "XYZ"}, "not in the tube library"),
        ({"path": "nothing/here", "value": "1"}, "has nothing at"),
        ({"path": "blocks/winding/winding_volt", "value": "0"}, "greater than 0"),
        ({"path": "blocks/output/grid_leak", "fitted": "no"}, "needs a grid leak"),
        ({"steps": "many"}, "whole number"),
    ],
)
def test_a_refused_change_says_why_and_stores_nothing(bench, project, values, says):
    before = stored(project)
    response = post_change(bench, project, **values)
    assert response.status_code == 422
    assert says in response.content.decode()
    assert response["HX-Retarget"] == "#notice"
    assert stored(project) == before


@pytest.mark.parametrize("action", ["change", "undo", "redo"])
def test_a_page_that_is_behind_is_redrawn_and_stores_nothing(bench, project, action):
    post_change(bench, project, value="820")
    bench.post(reverse("undo", args=[project.pk, "chain"]), **HTMX)
    before = stored(project)
    asked = {"path": RESISTOR, "value": "1k", "seen": "2"}
    response = bench.post(reverse(action, args=[project.pk, "chain"]), asked, **HTMX)
    page = response.content.decode()
    assert response.status_code == 422
    assert "changed in another window" in page
    assert 'data-revision="1"' in page
    assert "HX-Retarget" not in response
    assert stored(project) == before


@pytest.mark.parametrize("action", ["change", "undo", "redo"])
def test_nothing_is_stored_where_there_is_no_such_room(bench, project, action):
    post_change(bench, project, value="820")
    before = stored(project)
    for room in ("attic", "²", "chain2"):
        address = f"/amps/{project.pk}/{room}/{action}/"
        assert bench.post(address, {"path": RESISTOR, "value": "1k"}).status_code == 404
    assert stored(project) == before


def test_a_design_without_a_solution_is_refused_and_nothing_is_stored(bench, project, monkeypatch):
    from bold_anode.amps import solved
    from thermionic.errors import NoSolution

    def never(design, near=None):
        raise NoSolution("Lantern has no operating point that could be found: node x would not settle.")

    before = stored(project)
    monkeypatch.setattr(solved, "solve", never)
    solved._kept.clear()
    caches["solutions"].clear()
    response = post_change(bench, project, value="1k")
    assert response.status_code == 422
    assert "node x would not settle" in response.content.decode()
    assert stored(project) == before
    page = bench.get(reverse("room", args=[project.pk, "chain"]))
    assert page.status_code == 422
    assert "Chain cannot be shown" in page.content.decode()


@pytest.mark.parametrize("name", ["lantern", "saltpan"])
def test_solutions_are_kept_up_to_so_many_bytes(name):
    """What one is counted with is the memory that it takes, as its parts come to when they are written out."""
    from bold_anode.amps import solved

    one = solved.Solved(solve(examples.example(name)))
    _ = one.findings
    one.amplifier.stand_alone()
    weight = solved._weight(one)
    assert weight == pytest.approx(len(pickle.dumps(one.amplifier)), rel=0.4)
    room = solved.KEPT_BYTES // weight
    for count in range(room + 5):
        solved._keep(f"{count}", one)
    assert solved._recall("4") is None
    assert solved._recall(f"{room + 4}") is one
    assert len(solved._kept) == room
    solved._kept.clear()


def test_what_is_exported_can_be_imported(bench, project, owner):
    exported = bench.get(reverse("export", args=[project.pk]))
    assert "lantern-single-ended.json" in exported["Content-Disposition"]
    upload = SimpleUploadedFile("copy.json", exported.content)
    assert bench.post(reverse("import"), {"file": upload}).status_code == 302
    newest = Project.objects.of(owner).latest("pk")
    assert newest.pk != project.pk
    assert newest.current.document == project.current.document


@pytest.mark.parametrize(
    "content",
    [
        b"",
        b'{"chain": [',
        b"\x00\xff\xfe",
        b"[" * 50_000,
        b'{"__proto__": {}, "name": "<script>alert(1)</script>"}',
        json.dumps({**dump(examples.example("lantern")), "supply": None}).encode(),
        json.dumps(dump(examples.example("lantern"))).replace("2A3", "<img src=x>").encode(),
        b" " * 1_500_000,
    ],
    ids=["empty", "truncated", "binary", "nested", "markup", "no-supply", "tube", "huge"],
)
def test_a_bad_file_is_refused_in_words_and_nothing_is_stored(bench, project, content):
    before = stored(project)
    page = bench.post(reverse("import"), {"file": SimpleUploadedFile("bad.json", content)}, follow=True)
    text = page.content.decode()
    assert "bad.json:" in text
    assert "<script>alert" not in text
    assert "<img src=x" not in text
    assert stored(project) == before


def test_a_project_is_duplicated_deleted_and_brought_back(bench, project, owner):
    bench.post(reverse("duplicate", args=[project.pk]))
    copy = Project.objects.of(owner).latest("pk")
    assert copy.name == "Lantern single-ended (copy)"
    assert copy.revisions.count() == 1
    page = bench.post(reverse("delete", args=[project.pk]), follow=True)
    assert list(Project.objects.of(owner)) == [copy]
    assert reverse("restore", args=[project.pk]) in page.content.decode()
    assert bench.get(reverse("room", args=[project.pk, "chain"])).status_code == 404
    bench.post(reverse("restore", args=[project.pk]))
    assert project in Project.objects.of(owner)


def test_new_amplifiers_from_every_start(bench, owner):
    for key in ("lantern", "beacon"):
        bench.post(reverse("new"), {"starter": key, "name": f"My {key}"})
        assert Project.objects.of(owner).latest("pk").name == f"My {key}"
    page = bench.post(reverse("new"), {"starter": "nothing"}, follow=True)
    assert "Choose one of the starting designs" in page.content.decode()
    assert Project.objects.of(owner).count() == 2


def test_an_operation_called_without_http_keeps_the_same_rules(owner, stranger, project):
    from django.http import Http404

    with pytest.raises(Http404):
        operations.undo(stranger, project.pk)
    with pytest.raises(ThermionicError):
        operations.change_design(owner, project.pk, lambda d: (changed(d, RESISTOR, "0"), "zero"))
    same = operations.change_design(owner, project.pk, lambda d: (d, "nothing"))
    assert same.revisions.count() == 1
