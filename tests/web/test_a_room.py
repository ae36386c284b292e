"""A room is one folder: put in, it is in every place that a room has; taken out, nothing names it."""

import json
import os
import shutil
import subprocess
import sys
from contextlib import contextmanager
from pathlib import Path
from urllib.parse import urlsplit, urlunsplit

import psycopg

HERE = Path(__file__).resolve().parent
ROOT = HERE.parent.parent
TRIED = """
import io, json, zipfile
import django
django.setup()
from django.contrib.auth import get_user_model
from django.conf import settings
from django.core.management import call_command
from django.test import Client, override_settings
from django.urls import get_resolver
from bold_anode.accounts.carrying import packed, unpack
from bold_anode.accounts.operations import delete_account
from bold_anode.amps import rooms
from bold_anode.amps.models import Project
from bold_anode.amps.operations import duplicate_project
from bold_anode.attic.models import Note
from bold_anode.demo.workshop import load_demo
from bold_anode.frame import samples

plain = {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"}
override_settings(STORAGES={**settings.STORAGES, "staticfiles": plain}).enable()
call_command("migrate", verbosity=0)
load_demo()
ada = get_user_model().objects.get()
eve = get_user_model().objects.create_user("eve", password="a-long-password")
note = Note.objects.get()
project = note.project
assert Project.objects.filter(owner=ada).count() > 5
slugs = [room.slug for room in rooms.rooms()]
assert slugs.index("earths") + 1 == slugs.index("attic") == slugs.index("power-up") - 1, slugs

client = Client(HTTP_HOST="127.0.0.1")
client.force_login(ada)
page = client.get(f"/amps/{project.pk}/attic/").content.decode()
assert "The old chassis" in page and "What has been put away?" in page
answer = client.post(f"/amps/{project.pk}/attic/notes/", {"text": "x" * 101}, HTTP_HX_REQUEST="true")
assert answer.status_code == 422 and Note.objects.count() == 1, answer.status_code
assert client.post(f"/amps/{project.pk}/attic/notes/", {"text": "A spare choke"}).status_code == 302

places = samples.addressed(ada, project)
assert places["note_id"] and "set_id" in places
stranger = Client(HTTP_HOST="127.0.0.1")
stranger.force_login(eve)
assert stranger.post(f"/attic/{note.pk}/remove/").status_code == 404
assert stranger.post(f"/amps/{project.pk}/attic/notes/", {"text": "mine"}).status_code == 404
assert client.post(f"/attic/{places['note_id']}/remove/").status_code == 302

whole = packed(ada)
unpack(eve, io.BytesIO(whole))
theirs = Note.objects.filter(project__owner=eve)
assert sorted(theirs.values_list("text", "made_at")) == sorted(
    Note.objects.filter(project__owner=ada).values_list("text", "made_at"))
copy = duplicate_project(ada, project.pk)
assert copy.notes.count() == 0
load_demo(fresh=True)
assert Note.objects.filter(project__owner=ada).count() == 1
for account in (ada, eve):
    delete_account(account)
assert not Note.objects.exists()
with zipfile.ZipFile(io.BytesIO(whole)) as given:
    print(json.dumps([name for name in given.namelist() if name.startswith("projects/")]))
"""
WITHOUT = """
import django
django.setup()
from django.core.management import call_command
from bold_anode.amps import rooms
call_command("check")
call_command("migrate", verbosity=0)
call_command("makemigrations", check=True, verbosity=0)
assert "attic" not in [room.slug for room in rooms.rooms()]
"""


@contextmanager
def _database():
    """An empty database beside the tests' own: its URL."""
    server, name = os.environ["DATABASE_URL"], f"a_room_{os.getpid()}"
    with psycopg.connect(server, autocommit=True) as connection:
        connection.execute(f"CREATE DATABASE {name}")
    yield urlunsplit(urlsplit(server)._replace(path=f"/{name}"))
    with psycopg.connect(server, autocommit=True) as connection:
        connection.execute(f"DROP DATABASE {name} WITH (FORCE)")


def test_a_room_is_one_folder(tmp_path):
    shutil.copytree(ROOT / "bold_anode", tmp_path / "bold_anode", ignore=shutil.ignore_patterns("__pycache__"))
    surroundings = {
        **os.environ, "DJANGO_SETTINGS_MODULE": "bold_anode.settings", "PYTHONPATH": f"{tmp_path}{os.pathsep}{ROOT}",
        "BOLD_ANODE_SHARED": str(tmp_path / "shared"), "BOLD_ANODE_DEMO": "1",
    }  # fmt: skip

    def run(what, url):
        surroundings["DATABASE_URL"] = url
        done = subprocess.run(
            [sys.executable, "-c", what], cwd=tmp_path, env=surroundings, capture_output=True, text=True
        )
        assert done.returncode == 0, done.stderr[-3000:]
        return done.stdout

    with _database() as url:
        shutil.copytree(HERE / "attic", tmp_path / "bold_anode" / "attic")
        assert len(json.loads(run(TRIED, url))) > 5
        shutil.rmtree(tmp_path / "bold_anode" / "attic")
        run(WITHOUT, url)
    named = [
        str(file.relative_to(ROOT))
        for app in ("amps", "accounts", "frame", "tasks", "upkeep", "serving")
        for file in (ROOT / "bold_anode" / app).rglob("*.py")
        for room in ("brief", "chain", "iron", "rails", "chassis", "powerup")
        if f"bold_anode.{room}" in file.read_text()
    ]
    assert named == []
