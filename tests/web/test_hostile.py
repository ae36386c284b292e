"""Requests that no page of ours sends: refused in words, and nothing stored by what is refused.

HOSTILE=5000 ./test tests/web/test_hostile.py sends more of them.
"""

import logging
import os
import random
import re

import pytest
from django.apps import apps
from django.conf import settings as ours
from django.contrib.auth import get_user_model
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client
from django.urls import URLPattern, URLResolver, get_resolver

from bold_anode.amps.models import Project
from bold_anode.frame import samples
from bold_anode.frame.bounds import Checked
from bold_anode.tubes.models import OwnTube

REQUESTS = int(os.environ.get("HOSTILE", "400"))
MOST_PROJECTS = 6
TEXTS = [
    "", " ", "²", "٣", "0", "-1", "1e999", "nan", "inf", "4k7", "-4k7", "9" * 5000, "a" * 200_000, "\x00", "a\x00b", "\ud800",
    "\ufffe", "\x1b[31m", "../../etc/passwd", "'; DROP TABLE amps_project; --", "<script>alert(1)</script>", "%s%n{0}{{x}}",
    "ａｄａ", "\r\nSet-Cookie: a=b", "yes", "no", "true", "null", "{}", "[]", "0x10", "1_000", "1,5", "😀" * 50,
]  # fmt: skip
PATHS = [
    "blocks/output/cathode_resistor/ohm", "blocks/transformer/taps_ohm/0", "blocks/transformer/taps_ohm", "blocks", "name",
    "notes", "channels", "brief", "brief/mains_volt", "envelopes/v1/type", "envelopes", "version", "own_tubes/0/name", "/",
    "blocks//", "blocks/output/__class__", "blocks/output/kind", "blocks/output/id", "x" * 3000,
]  # fmt: skip
FIELDS = [
    "path", "value", "seen", "steps", "fitted", "also", "action", "block", "kind", "stage", "step", "mains", "channel", "point",
    "volt", "name", "points", "anode_volt", "anode_watt", "starter", "username", "password", "password1", "password2",
    "new_password1", "new_password2", "old_password", "next", "set", "of", "old", "body", "u", "v", "turn", "face", "raised",
    "mount", "screen", "strip", "earth_lug", "inside", "pinned", "school", "wire", "shielded", "bends", "heater_pitch", "breaker", "out", "number", "way",
    "width", "height", "material", "sheet", "bodies", "across", "millivolt", "turns", "square", "distance", "fault",
]  # fmt: skip
ACTIONS = [
    "insert-before",
    "insert-after",
    "swap",
    "remove",
    "remove-along",
    "duplicate",
    "earlier",
    "push-pull",
    "x",
]
# These end or lock the session that the others are sent in; what they do is tested by itself.
LEFT_OUT = {"sign-out", "sign-out-everywhere", "delete-account", "sign-in", "sign-up", "change-password"}


def patterns(resolver=None, before=""):
    for url_pattern in (resolver or get_resolver()).url_patterns:
        route = before + str(url_pattern.pattern)
        if isinstance(url_pattern, URLResolver):
            yield from patterns(url_pattern, route)
        elif isinstance(url_pattern, URLPattern):
            yield url_pattern, route


ROUTES = [(one, route) for one, route in patterns()]


def address(route, values):
    """A route with a value in each of its places."""
    return "/" + re.sub(r"<\w+:(\w+)>", lambda place: str(values[place[1]]), route)


def stored():
    """Everything that users have stored; sessions, sign-in attempts and what is worked out from it aside."""
    models = [model for model in apps.get_models() if issubclass(model, Checked)] + [get_user_model()]
    return {model.__name__: list(model.objects.order_by("pk").values()) for model in models}


@pytest.fixture
def things(owner, stranger, project):
    return samples.addressed(owner, project)


@pytest.fixture
def unlogged():
    """What is logged of each request is kept until the test's end, request and all: thousands of them are too many."""
    logging.disable()
    yield
    logging.disable(logging.NOTSET)


def body(chance):
    values = {}
    for field in chance.sample(FIELDS, chance.randint(0, 7)):
        values[field] = chance.choice(TEXTS)
    if chance.random() < 0.6:
        values["path"] = chance.choice(PATHS)
    if chance.random() < 0.3:
        values["action"] = chance.choice(ACTIONS)
        values["block"] = chance.choice(["output", "driver", "supply", "nothing", "²"])
    if chance.random() < 0.4:
        content = chance.choice(
            [b"", b"{", b"[" * 100_000, b'{"name": "\\ud800"}', b'{"name": "\\u0000"}', b"\xff\xfe\x00", b"PK\x03\x04",
             b"anode_v,grid_v,anode_a\r100,-1,0.001", b"anode_v," + b"x" * 140_000, b"1" * 9000]
        )  # fmt: skip
        values["file"] = SimpleUploadedFile(chance.choice(["a.json", "a\x01.json", "é" * 300, "../x"]), content)
    return values


def send(client, chance, where):
    """One request of any kind there."""
    headers = {"HTTP_HX_REQUEST": "true"} if chance.random() < 0.5 else {}
    kind = chance.choice(["get", "get", "head", "post", "post", "post", "raw", "put", "delete", "options"])
    values = body(chance)
    if kind in ("get", "head"):
        values.pop("file", None)
        sent = {key: value.encode("utf-8", "surrogatepass") for key, value in values.items()}
        return getattr(client, kind)(where, sent, **headers)
    if kind == "raw":
        content = chance.choice([b"path=%FF%FE&value=%00", b"a=1;b", b"\x00" * 50, b"--x\r\n\r\n", b"seen=\xb2"])
        charset = chance.choice(["utf-16", "latin-1", "nonsense", "utf-7"])
        types = ["application/x-www-form-urlencoded", "multipart/form-data; boundary=x", "application/json", ""]
        return client.generic("POST", where, content, f"{chance.choice(types)}; charset={charset}", **headers)
    if kind == "post":
        sent = {
            key: value.encode("utf-8", "surrogatepass") if isinstance(value, str) else value
            for key, value in values.items()
        }
        return client.post(where, sent, **headers)
    return getattr(client, kind)(where, **headers)


def test_whatever_is_sent_is_answered_and_what_is_refused_stores_nothing(bench, things, settings, unlogged):
    settings.SOLVE_SECONDS = 20.0
    bench.raise_request_exception = False
    chance = random.Random(20261126)
    before, kept = stored(), dict(things)
    for count in range(REQUESTS):
        pattern, route = chance.choice(ROUTES)
        if pattern.name in LEFT_OUT:
            continue
        values = {
            key: value if chance.random() < 0.8 else chance.choice([0, 10**30, "²", "attic", value])
            for key, value in kept.items()
        }
        where = address(route, values)
        response = send(bench, chance, where)
        now = stored()
        assert response.status_code < 500, (count, where, response.content[:300])
        if response.status_code >= 400 or response.request["REQUEST_METHOD"] in ("GET", "HEAD", "OPTIONS"):
            assert now == before, (count, where)
        if len(now["Project"]) > MOST_PROJECTS:
            for extra in Project.objects.exclude(pk=kept["project_id"]):
                Project.objects.filter(pk=extra.pk).update(current=None, previous=None, variant=None)
                extra.variants.all().delete()
                extra.delete()
            now = stored()
        before = now


def test_every_place_of_an_address_is_filled(things):
    for _, route in ROUTES:
        assert "<" not in address(route, things), route


@pytest.mark.parametrize("signed_in", [True, False])
def test_every_address_is_404_to_another_and_the_sign_in_page_to_nobody(things, stranger, signed_in):
    client = Client(raise_request_exception=False)
    if signed_in:
        client.force_login(stranger)
    before = stored()
    tried = 0
    for pattern, route in ROUTES:
        if "<" not in route and signed_in:
            continue
        where = address(route, things)
        for method in ("get", "head", "post", "put"):
            response = getattr(client, method)(where)
            if signed_in:
                assert response.status_code in (404, 405), (method, where)
            elif pattern.name in ("sign-in", "sign-up", "sign-out"):
                continue
            else:
                assert response.status_code in (302, 404, 405), (method, where)
                if response.status_code == 302:
                    assert response.url.startswith(f"{ours.LOGIN_URL and '/sign-in/'}?next="), where
            tried += 1
    assert tried > 40
    assert stored() == before


def test_a_piece_of_a_page_sends_nobody_to_the_sign_in_page_as_a_whole(client, project):
    at = f"http://testserver/amps/{project.pk}/chain/"
    response = client.post(f"/amps/{project.pk}/chain/undo/", HTTP_HX_REQUEST="true", HTTP_HX_CURRENT_URL=at)
    assert response.status_code == 401
    assert response["HX-Redirect"] == f"/sign-in/?next=/amps/{project.pk}/chain/"


def test_names_cannot_be_taken_for_anothers(client, owner):
    for name in ("ADA", "ａｄａ", "ada ", "аda", "a da", "a\x00da", "", "-ada"):
        answer = client.post(
            "/sign-up/", {"username": name, "password1": "quite-some-thing", "password2": "quite-some-thing"}
        )
        assert answer.status_code in (200, 422), name
    for password in ("        ", "saltmarsh-lane", "aaaaaaaaaaaa", "12345678", "short"):
        made = {"username": "saltmarsh-lane", "password1": password, "password2": password}
        assert client.post("/sign-up/", made).status_code == 422, password
    assert get_user_model().objects.count() == 1
    made = {"username": "Bo.2", "password1": "quite-some-thing", "password2": "quite-some-thing"}
    assert client.post("/sign-up/", made).status_code == 302
    assert OwnTube.objects.count() == 0


def test_wrong_passwords_are_answered_alike_and_then_not_at_all(client, owner):
    for name in ("ada", "nobody"):
        answers = [client.post("/sign-in/", {"username": name, "password": f"guess {n}"}) for n in range(6)]
        assert [answer.status_code for answer in answers] == [200] * 4 + [429] * 2, name
        assert "Wait 5 minutes" in answers[-1].content.decode()
    right = {"username": "ada", "password": "a-long-password"}
    assert client.post("/sign-in/", right).status_code == 429
    assert client.post("/sign-in/", right, REMOTE_ADDR="10.0.0.7").status_code == 302
