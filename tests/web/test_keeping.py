"""What is stored is carried out whole and in again: backups of the database, exports of an account."""

import io
import json
import zipfile

import pytest
from django.core.management import CommandError, call_command
from django.db import OperationalError, connection
from django.urls import reverse
from django.utils import timezone

from bold_anode.accounts import carrying
from bold_anode.accounts.models import Upload
from bold_anode.amps.models import Project, Revision
from bold_anode.amps.operations import change_design, create_project, delete_project, undo
from bold_anode.amps.solved import solved
from bold_anode.powerup.models import Reading, ReadingSet
from bold_anode.powerup.operations import start_set_on, take_reading
from bold_anode.tubes.models import OwnTube
from bold_anode.tubes.operations import Measured, add_tube
from bold_anode.upkeep import backups
from thermionic import examples
from thermionic.design import changed
from thermionic.errors import DesignRefused
from thermionic.powerup import Step

RESISTOR = "blocks/output/cathode_resistor/ohm"


def fill(owner):
    """A workshop with a branch in its history, readings of an older revision, a tube and a deleted project."""
    project = create_project(owner, examples.example("lantern"))
    for typed in ("820", "1k"):
        change_design(owner, project.pk, lambda design, typed=typed: (changed(design, RESISTOR, typed), typed))
        undo(owner, project.pk)
    change_design(owner, project.pk, lambda design: (changed(design, RESISTOR, "750"), "750"))
    reading_set = start_set_on(project.revisions.get(number=2), Step.ALL_TUBES, 231.0, "right")
    for volt in ("48.2", "", "47.9"):
        take_reading(owner, reading_set.pk, "output_cathode", volt)
    add_tube(owner, Measured("Mine", "rectifier", "drop_v,anode_a\n17,0.225\n10,0.1\n", "300 V", "1 W"))
    delete_project(owner, create_project(owner, examples.example("otter")).pk)
    project.refresh_from_db()
    return project


def held(owner):
    """What an account holds, but for keys: each project's revisions, readings, tubes."""
    projects = []
    for project in Project.objects.filter(owner=owner).order_by("pk"):
        revisions = project.revisions.values_list("number", "parent__number", "note", "made_at", "document_hash")
        sets = project.reading_sets.order_by("pk").values_list(
            "revision__number", "step", "channel", "mains_volt", "started_at"
        )
        readings = Reading.objects.filter(reading_set__project=project).values_list("point", "volt", "taken_at")
        at = (project.current.number, getattr(project.previous, "number", None), project.created_at)
        projects.append((at, list(revisions), list(sets), list(readings)))
    tubes = OwnTube.objects.filter(owner=owner).values_list("name", "kind", "points", "fitted", "document", "made_at")
    return projects, list(tubes)


def test_an_account_is_carried_into_another_with_equal_numbers(bench, client, owner, stranger, worker):
    original = fill(owner)
    exported = bench.get(reverse("export-all")).content
    client.force_login(stranger)
    for _ in range(2):  # a second time beside the first: nothing is replaced
        file = io.BytesIO(exported)
        file.name = "workshop.zip"
        assert client.post(reverse("import-all"), {"file": file}).url == reverse("account")
        assert 'hx-trigger="every 1s"' in client.get(reverse("import-state")).content.decode()
        worker()
        assert "2 projects and" in client.get(reverse("account")).content.decode()
        assert Upload.objects.count() == 0
    projects, tubes = held(stranger)
    assert (projects[:2], tubes) == held(owner)
    assert len(projects) == 4
    copy = Project.objects.of(stranger).order_by("pk").first()
    assert solved(copy.current).amplifier.full_output == solved(original.current).amplifier.full_output


def spoiled(exported, name, change):
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(exported)) as given, zipfile.ZipFile(out, "w") as made:
        for one in given.namelist():
            text = given.read(one)
            made.writestr(one, json.dumps(change(json.loads(text))) if one == name else text)
    out.seek(0)
    return out


def _without(key):
    return lambda data: {name: value for name, value in data.items() if name != key}


def _second_parent(data):
    data["revisions"][1]["parent"] = 9
    return data


def _no_design(data):
    data["revisions"][0]["document"]["blocks"] = []
    return data


def _strange_reading(data):
    data["reading_sets"][0]["revision"] = 77
    return data


@pytest.mark.parametrize(
    ("name", "change", "says"),
    [
        ("manifest.json", lambda data: data | {"format": 99}, "later version"),
        ("projects/0001.json", _without("current"), "current"),
        ("projects/0001.json", lambda data: data | {"current": 50}, "current revision, 50"),
        ("projects/0001.json", _second_parent, "Revision 2"),
        ("projects/0001.json", _no_design, "blocks"),
        ("projects/0001.json", _strange_reading, "revision 77"),
        ("tubes.json", lambda data: [data[0] | {"kind": "magnetron"}], "kind"),
        ("tubes.json", lambda data: [data[0] | {"name": "a\x00"}], "readable"),
    ],
)
def test_a_spoiled_export_is_refused_and_nothing_of_it_stored(owner, stranger, name, change, says):
    fill(owner)
    with pytest.raises(DesignRefused if says != "readable" else Exception, match=says):
        carrying.unpack(stranger, spoiled(carrying.packed(owner), name, change))
    assert held(stranger) == ([], [])


@pytest.mark.parametrize("content", [b"", b"PK\x03\x04", b"no zip", b"{}"])
def test_what_is_no_export_is_said_to_be_none(bench, worker, content):
    file = io.BytesIO(content)
    file.name = "x.zip"
    page = bench.post(reverse("import-all"), {"file": file}, follow=True).content.decode()
    worker()
    page += bench.get(reverse("account")).content.decode()
    assert "no export of a workshop" in page or "Choose a file first" in page


def test_an_account_goes_with_everything_in_it_and_only_by_its_password(bench, owner, stranger):
    fill(owner)
    create_project(stranger, examples.example("lantern"))
    bench.post(reverse("delete-account"), {"password": "wrong"})
    assert Project.objects.filter(owner=owner).count() == 2
    assert bench.post(reverse("delete-account"), {"password": "a-long-password"}).url == reverse("sign-in")
    assert list(Project.objects.values_list("owner__username", flat=True)) == ["eve"]
    assert (Revision.objects.count(), ReadingSet.objects.count(), OwnTube.objects.count()) == (1, 0, 0)


def test_a_password_is_changed_only_by_who_knows_it(bench, owner):
    new = {"new_password1": "quite-another-1", "new_password2": "quite-another-1"}
    assert bench.post(reverse("change-password"), {"old_password": "wrong", **new}).status_code == 422
    assert bench.post(reverse("change-password"), {"old_password": "a-long-password", **new}).status_code == 302
    owner.refresh_from_db()
    assert owner.check_password("quite-another-1")
    assert bench.get(reverse("account")).status_code == 200  # still signed in here


@pytest.mark.django_db(transaction=True)
def test_a_backup_is_restored_with_equal_counts_and_keeps_what_was_there(owner, tmp_path, settings, capsys):
    settings.BACKUPS = tmp_path / "kept"
    project = fill(owner)
    before = held(owner)
    file = tmp_path / "workshop.backup"
    call_command("backup", file)
    assert backups.manifest_of(file)["counts"]["amps_revision"] == 5
    change_design(owner, project.pk, lambda design: (changed(design, RESISTOR, "910"), "after the backup"))
    OwnTube.objects.all().delete()
    with pytest.raises(CommandError, match="Nothing was touched"):
        call_command("restore", file)
    assert Revision.objects.count() == 6
    call_command("restore", file, yes=True)
    assert held(owner) == before
    kept = next(settings.BACKUPS.iterdir())
    call_command("restore", kept, yes=True)
    assert Revision.objects.count() == 6
    assert OwnTube.objects.count() == 0


@pytest.mark.django_db(transaction=True)
def test_two_backups_of_one_second_are_two(owner, tmp_path, monkeypatch):
    monkeypatch.setattr(backups, "make", lambda file: file.write_text("kept"))
    moment = timezone.now()
    monkeypatch.setattr(backups.timezone, "now", lambda: moment)
    assert backups.of_before(tmp_path, "update") != backups.of_before(tmp_path, "update")
    assert len(list(tmp_path.iterdir())) == 2


@pytest.mark.django_db(transaction=True)
def test_what_is_no_backup_of_this_version_is_refused(owner, tmp_path):
    fill(owner)
    good, bad = tmp_path / "good", tmp_path / "bad"
    backups.make(good)
    bad.write_bytes(b"no zip")
    with pytest.raises(backups.BackupRefused, match="no backup"):
        backups.put_back(bad)
    with zipfile.ZipFile(good) as given, zipfile.ZipFile(bad, "w") as made:
        manifest = json.loads(given.read("manifest.json"))
        manifest["migrations"].append("amps.0999_of_the_future")
        made.writestr("manifest.json", json.dumps(manifest))
        made.writestr("database.dump", given.read("database.dump")[:500])
    with pytest.raises(backups.BackupRefused, match=r"later version.*0999"):
        backups.put_back(bad)
    manifest["migrations"].pop()
    with zipfile.ZipFile(bad, "w") as made:
        made.writestr("manifest.json", json.dumps(manifest))
        made.writestr("database.dump", b"PGDMP but no more")
    with pytest.raises(backups.BackupRefused, match="Reading the backup failed"):
        backups.put_back(bad)
    for spoilt in ([], {}, "x", {key: value for key, value in manifest.items() if key != "counts"},
                   manifest | {"counts": {"amps_revision": "five"}}, manifest | {"migrations": 7}):  # fmt: skip
        with zipfile.ZipFile(bad, "w") as made:
            made.writestr("manifest.json", json.dumps(spoilt))
            made.writestr("database.dump", b"PGDMP but no more")
        with pytest.raises(backups.BackupRefused, match=r"manifest is damaged.*Nothing was touched"):
            backups.manifest_of(bad)
    assert Revision.objects.count() == 5


def test_health_is_answered_before_all_else(client, monkeypatch):
    assert client.get("/healthz").json() == {"serves": True}
    with monkeypatch.context() as broken:
        broken.setattr(connection, "cursor", _no_database)
        answer = client.get("/healthz", headers={"host": "anything"})
    assert answer.status_code == 503
    assert "database" in answer.json()["reason"]


def _no_database():
    raise OperationalError
