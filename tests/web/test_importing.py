"""What comes as a file: limited before it is read, read apart, checked as what is typed; and no row breaks a page.

SPOILT=2000 ./test tests/web/test_importing.py spoils more exports.
"""

import io
import json
import logging
import os
import random
import time
import zipfile
from datetime import UTC, datetime

import pytest
from django.db import IntegrityError, connection, transaction
from django.urls import reverse

from bold_anode.accounts import arriving, carrying
from bold_anode.accounts.models import Upload
from bold_anode.amps.models import Project, Revision
from bold_anode.amps.operations import create_project
from bold_anode.chassis.operations import keep_size, keep_variant
from bold_anode.frame.apart import apart
from bold_anode.frame.json_files import read_json
from bold_anode.iron.models import ShelfItem, UnknownIron
from bold_anode.iron.operations import add_item, begin_unknown, read_unknown
from bold_anode.powerup.operations import start_set_on, take_reading
from bold_anode.rails.models import MainsReading
from bold_anode.rails.operations import add_reading
from bold_anode.tubes.models import OwnTube
from bold_anode.tubes.operations import Measured, add_tube
from tests.web.readers import fail, fill, spin
from tests.web.test_tube_drawer import measured
from thermionic import design as documents
from thermionic import examples
from thermionic.chassis.document import Box, LayoutRefused
from thermionic.chassis.reading_holes import read_holes
from thermionic.errors import DesignRefused, ThermionicError, ValueRefused
from thermionic.powerup import Step

SPOILT = int(os.environ.get("SPOILT", "60"))


def zipped(files):
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for name, content in files.items():
            made.writestr(name, content)
    out.seek(0)
    return out


def unzipped(content):
    with zipfile.ZipFile(io.BytesIO(content)) as given:
        return {name: given.read(name).decode() for name in given.namelist()}


@pytest.fixture
def full(owner):
    """A workshop with something of everything that an export carries; the export's files."""
    project = create_project(owner, examples.example("lantern"))
    reading_set = start_set_on(project.current, Step.ALL_TUBES, 231.0, "left")
    take_reading(owner, reading_set.pk, "output_cathode", "48.2")
    keep_variant(owner, project.pk, "Another")
    keep_size(owner, "Box", 0.05, 0.04, 0.03, 0.02)
    add_tube(owner, Measured("Mine", "rectifier", "drop_v,anode_a\n17,0.225\n10,0.1\n", "300", "1"))
    add_tube(owner, Measured("My triode", "triode", measured(), "300", "3"))
    add_item(owner, "choke", "A choke", "used", "box 3", {"henry": ("10", "measured")})
    unknown = begin_unknown(owner, "From the shed", "red blue black")
    read_unknown(owner, unknown.pk, {"a": "red", "b": "blue", "ohms": "12"})
    add_reading(owner, "231")
    return unzipped(carrying.packed(owner))


# Before parsing.


@pytest.mark.parametrize(
    ("files", "says"),
    [
        ({"projects/0001.json": "[" + "{}," * 2_000_000 + "{}]"}, "values in"),
        ({"projects/0001.json": "[" * 500_000}, "values in"),
        ({"projects/0001.json": '{"a":' * 200 + "1" + "}" * 200}, "levels deep"),
        ({"projects/0001.json": '"' + "[" * 150 + '"' + " " * 9000}, "levels deep"),
        ({f"projects/{n}.json": "{}" for n in range(carrying.MOST_FILES)}, "5000 files"),
        ({"projects/0001.json": "[1e400]"}, "larger than any number"),
        ({"projects/0001.json": "[NaN]"}, "no number"),
        ({"projects/0001.json": '["a\\u0000"]'}, "readable"),
    ],
)
def test_what_a_file_shows_before_it_is_parsed_is_enough_to_refuse_it(owner, files, says):
    began = time.process_time()
    with pytest.raises(ThermionicError, match=says):
        carrying.unpack(owner, zipped({"manifest.json": '{"format": 1}', **files, "tubes.json": "[]"}))
    assert time.process_time() - began < 5  # the parser alone would take a minute and gigabytes
    assert Project.objects.count() == 0


def test_sizes_are_limited_by_file_and_in_all(owner, monkeypatch):
    monkeypatch.setattr(carrying, "MOST_BYTES_A_FILE", 1000)
    files = {"manifest.json": '{"format": 1}', "tubes.json": "[]"}
    carrying.unpack(owner, zipped(files | {"other.txt": "x" * 1000}))
    with pytest.raises(DesignRefused, match="unpacks to more"):
        carrying.unpack(owner, zipped(files | {"other.txt": "x" * 1001}))
    monkeypatch.setattr(carrying, "MOST_BYTES", 2000)
    with pytest.raises(DesignRefused, match="unpacks to more"):
        carrying.unpack(owner, zipped(files | {"a": "x" * 1000, "b": "x" * 1000}))


def test_a_real_export_is_far_within_the_limits(owner, full):
    for name, text in full.items():
        content = text.encode()
        values = sum(content.count(mark) for mark in (b",", b"[", b"{"))
        assert values < len(content) / 12 + 100, name
        read_json(name, content)


# In a process of its own.


def test_a_reader_has_its_own_process_time_and_memory():
    assert apart(spin, 0.01) != os.getpid()
    assert apart(fill, 50) == 50 * 2**20
    with pytest.raises(ValueRefused, match="more than 1 s"):
        apart(spin, 60, seconds=1)
    with pytest.raises(ValueRefused, match="more than 40 MB"):
        apart(fill, 400, megabytes=40)
    with pytest.raises(DesignRefused, match="That was refused"):
        apart(fail, DesignRefused)
    with pytest.raises(ValueRefused, match="cannot be read"):  # one that dies without a word
        apart(os._exit, 3)
    with pytest.raises(ValueRefused, match="cannot be read"):
        apart(fail, ZeroDivisionError)
    assert apart(documents.load, json.dumps(documents.dump(examples.example("otter"))).encode()).name


def test_whoever_uploads_waits_and_nobody_else(owner, stranger, bench, client, monkeypatch):
    """While one file is read the process answers others: the reader is not in it."""
    import threading

    from bold_anode.amps import operations

    started, seen = threading.Event(), []

    def slow(function, *args, **limits):
        started.set()
        return apart(spin, 1.0)

    monkeypatch.setattr(operations, "apart", slow)

    def upload():
        try:
            operations.import_project(owner, b"")
        except Exception as fault:
            seen.append(fault)
        finally:
            connection.close()

    thread = threading.Thread(target=upload)
    thread.start()
    assert started.wait(10)
    began = time.process_time()
    bench.get(reverse("account"))
    thread.join()
    assert time.process_time() - began < 0.8  # of this process
    assert len(seen) == 1


@pytest.mark.parametrize(
    ("name", "content", "says"),
    [
        ("a.csv", b"1,1,1\n" * 300_000, "at most 400"),
        ("a.svg", b"<svg>" + b"<circle cx='9' cy='9' r='1'/>" * 60_000 + b"</svg>", "at most 400"),
        ("a.dxf", b"0\nSECTION\n2\nENTITIES\n" + b"0\nCIRCLE\n8\n0\n10\n1.0\n20\n1.0\n40\n1.0\n" * 40_000, "at most 400"),
        ("a.svg", b'<?xml version="1.0" encoding="nonsense-8"?><svg><circle cx="1" cy="1" r="-1"/></svg>', "cannot be"),
        ("a.svg", "<svg/>".encode("utf-16"), "UTF-8"),
        ("a.svg", b"<svg>" * 100_000, "no SVG file"),
    ],
)  # fmt: skip
def test_too_many_holes_are_refused_before_they_are_made(name, content, says):
    began = time.process_time()
    with pytest.raises(LayoutRefused, match=says):
        read_holes(content, name, "top", Box())
    assert time.process_time() - began < 2


def test_only_one_import_of_an_account_is_under_way(owner, full):
    arriving.ask(owner, "a.zip", zipped(full).read())
    with pytest.raises(ValueRefused, match="under way"):
        arriving.ask(owner, "b.zip", zipped(full).read())
    assert Upload.objects.count() == 1


# Checked as what is typed.

PAGES = ("workshop", "tubes", "shelf", "unknown-iron", "account", "export-all")


def every_page(client, user):
    """Each page that shows what was imported, and the next export; the addresses that failed."""
    wanted = [reverse(name) for name in PAGES]
    for project in Project.objects.of(user):
        wanted += [reverse("card", args=[project.pk]), reverse("export", args=[project.pk])]
        rooms = ("chain", "power-up", "chassis", "rails", "iron")
        wanted += [reverse("room", args=[project.pk, slug]) for slug in rooms]
        wanted += [reverse("room", args=[project.pk, "rails"]) + "?tab=mains"]
        wanted += [reverse("room", args=[project.pk, "iron"]) + "?tab=shelf"]
        wanted += [
            reverse("room", args=[project.pk, "power-up"]) + f"?set={reading_set.pk}"
            for reading_set in project.reading_sets.all()
        ]
    wanted += [reverse("unknown-iron-one", args=[unknown_iron.pk]) for unknown_iron in UnknownIron.objects.of(user)]
    answers = {where: client.get(where) for where in wanted}
    return [(where, answer.status_code) for where, answer in answers.items() if answer.status_code not in (200, 422)]


def places(data, way=()):
    """Every place in plain data."""
    if isinstance(data, dict):
        for key in data:
            yield (*way, key)
            yield from places(data[key], (*way, key))
    elif isinstance(data, list):
        for at in range(len(data)):
            yield (*way, at)
            yield from places(data[at], (*way, at))


VALUES = [None, True, 0, -1, 2**31 - 1, 2**63, 1e308, -1e308, 1e-320, 0.5, "", "x", "a" * 500_000, "²", "0", "nan", [], {}, [[]], {"a": 1},
          "0001-01-01T00:00:00+14:00", "9999-12-31T23:59:59-12:00", "2026-13-01T00:00:00Z", "2026-01-01"]  # fmt: skip


def spoil(files, dice):
    """The files with one value, one type, one key or one date other than it was; and what was done, in words."""
    files = dict(files)
    weight = {"manifest.json": 1, "projects/0001.json": 12}
    name = dice.choice([name for name in sorted(files) for _ in range(weight.get(name, 3))])
    data = json.loads(files[name])
    everything = list(places(data))
    if not everything:
        return files, "nothing"
    # Documents have far more places than all the rest; dates are few, and matter.
    shallow = [way for way in everything if "document" not in way] or everything
    dates = [way for way in everything if str(way[-1]).endswith("_at")]
    way = dice.choice(dice.choice([everything, shallow, shallow, dates or shallow]))
    at = data
    for step in way[:-1]:
        at = at[step]
    what = dice.choice(["value", "value", "value", "remove", "key", "double"])
    if what == "value":
        at[way[-1]] = dice.choice(VALUES[-4:] if way in dates else VALUES)
    elif what == "remove":
        del at[way[-1]]
    elif what == "double" and isinstance(at, list):
        at.append(at[way[-1]])
    elif isinstance(at, dict):
        at[dice.choice(["", "x", "id", "number", "made_at"])] = at.pop(way[-1])
    files[name] = json.dumps(data)
    return files, f"{name} {'/'.join(map(str, way))}: {what} {json.dumps(at, default=str)[:80]}"


def refusal_of(user, files):
    """Why an export is not taken in; "" where it is."""
    try:
        carrying.unpack(user, zipped(files))
    except ThermionicError as refusal:
        return str(refusal)
    return ""


def test_a_spoilt_export_is_refused_in_a_sentence_or_every_page_works(client, owner, stranger, full, settings):
    logging.disable()
    settings.SOLVE_SECONDS = 60.0
    client.force_login(stranger)
    client.raise_request_exception = False
    refused = taken = 0
    first = int(os.environ.get("SPOILT_FROM", "0"))
    for count in range(first, first + SPOILT):
        spoilt, words = spoil(full, random.Random(f"spoilt {count}"))
        with transaction.atomic():
            refusal = refusal_of(stranger, spoilt)
            if refusal:
                assert refusal.endswith("."), (count, words, refusal)
                assert len(refusal) < 3000, (count, words)
                refused += 1
            else:
                assert every_page(client, stranger) == [], (count, words)
                taken += 1
            transaction.set_rollback(True)
    logging.disable(logging.NOTSET)
    assert min(refused, taken) > SPOILT // 10


# Held by the database, and a row that was stored before there were bounds.


@pytest.mark.parametrize(
    ("model", "field", "value"),
    [
        (Revision, "number", 2**31 - 1), (MainsReading, "volt", 1e308), (MainsReading, "volt", 79.9),
        (MainsReading, "read_at", datetime(9999, 12, 31, tzinfo=UTC)), (UnknownIron, "core_cm2", 1e9),
        (UnknownIron, "mains_volt", 0.0), (OwnTube, "made_at", datetime(1, 1, 2, tzinfo=UTC)),
        (Project, "created_at", datetime(1989, 12, 31, tzinfo=UTC)),
    ],
)  # fmt: skip
def test_bounds_are_held_by_the_database_too(full, model, field, value):
    row = model.objects.order_by("pk").first()
    with pytest.raises(IntegrityError), transaction.atomic():
        model.objects.filter(pk=row.pk).update(**{field: value})
    setattr(row, field, value)
    with pytest.raises(ValueRefused, match="must be from"):
        row.check_bounds() if model is Revision else row.save()  # a stored revision is never saved again


BROKEN = [
    (OwnTube, {"fitted": {}}), (OwnTube, {"points": "junk"}), (OwnTube, {"fitted": {"kind": "rectifier", "coefficients": None}}),
    (ShelfItem, {"figures": [1, 2]}), (ShelfItem, {"kind": "anchor"}),
    (UnknownIron, {"readings": [{"volt": "x"}]}), (UnknownIron, {"leads": 7}),
]  # fmt: skip


@pytest.mark.parametrize(("model", "change"), BROKEN)
def test_a_row_that_cannot_be_read_is_shown_as_such_with_a_way_out(
    bench, owner, stranger, client, full, model, change
):
    row = model.objects.of(owner).order_by("pk").first()
    model.objects.filter(pk=row.pk).update(**change)
    logging.disable()
    page = {OwnTube: "tubes", ShelfItem: "shelf", UnknownIron: "unknown-iron"}[model]
    where = reverse("stored-row", args=[model._meta.label_lower, row.pk])
    shown = bench.get(reverse(page)).content.decode()
    assert "cannot be read" in shown
    assert where in shown
    assert every_page(bench, owner) == []
    kept = bench.get(where).json()
    assert kept["id"] == row.pk
    client.force_login(stranger)
    assert (client.get(where).status_code, client.post(where).status_code) == (404, 404)
    client.force_login(owner)
    assert bench.post(where).status_code == 302
    assert not model.objects.filter(pk=row.pk).exists()
    assert "cannot be read" not in bench.get(reverse(page)).content.decode()
    logging.disable(logging.NOTSET)


@pytest.mark.parametrize("model", ["auth.user", "amps.project", "amps.revision", "nothing.at_all", "x"])
def test_only_what_stands_alone_is_removed_by_itself(bench, project, model):
    where = reverse("stored-row", args=[model, project.pk])
    assert (bench.get(where).status_code, bench.post(where).status_code) == (404, 404)
