"""The real server at its real socket, over all of its web processes: who is signed out, and who holds it up."""

import http.client
import resource
import socket
import subprocess
import sys
import time
import uuid
from pathlib import Path
from urllib.parse import urlsplit

import psycopg
import pytest

from thermionic.design import dump
from thermionic.examples import example

sys.path.insert(0, str(Path(__file__).resolve().parents[2] / "bench"))
from workshop import Refused, Workshop

RESISTOR = "blocks/output/cathode_resistor/ohm"
PASSWORD = "lamp-over-the-water"
CONNECTIONS = 24  # so many that both processes have some of them


@pytest.fixture
def sign_in(address):
    """Opens sessions, each on a connection of its own, and closes them at the end."""
    opened = []

    def open_(*words, **options):
        opened.append(Workshop(address, *words, **options))
        return opened[-1]

    yield open_
    for workshop in opened:
        workshop.connection.close()


@pytest.fixture
def account(sign_in):
    """Somebody signed in, with an amplifier."""
    name = f"guest-{uuid.uuid4().hex[:8]}"
    workshop = sign_in(name, PASSWORD, new=True)
    workshop.name = name
    workshop.project = workshop.upload(dump(example("lantern")))
    return workshop


@pytest.fixture
def crowd(account):
    made = Crowd(account)
    yield made
    for connection in made.connections:
        connection.close()


class Crowd:
    """Many kept connections that send one account's cookies as they were."""

    def __init__(self, account):
        self.account, self.cookies = account, dict(account.cookies)
        where = urlsplit(account.address).netloc
        self.connections = [http.client.HTTPConnection(where, timeout=60) for _ in range(CONNECTIONS)]

    def _ask(self, method, path, body=None):
        answers = []
        headers = {
            "Cookie": "; ".join(f"{key}={value}" for key, value in self.cookies.items()),
            "X-CSRFToken": self.cookies["csrftoken"], "Referer": self.account.address,
            "Content-Type": "application/x-www-form-urlencoded",
        }  # fmt: skip
        for connection in self.connections:
            connection.request(method, path, body, headers)
            answer = connection.getresponse()
            answer.read()
            answers.append((answer.status, answer.getheader("Location", "")))
        return answers

    def pages(self):
        return self._ask("GET", "/account/")

    def edits(self):
        project = self.account.project
        return self._ask("POST", f"/amps/{project}/chain/change/", f"path={RESISTOR}&value=810".encode())


@pytest.mark.parametrize("way", ["sign-out", "everywhere", "disabled", "deleted"])
def test_a_cookie_of_before_opens_nothing_in_any_process(way, account, crowd, sign_in, database):
    other = sign_in(account.name, PASSWORD)
    assert {status for status, _ in crowd.pages()} == {200}
    if way == "sign-out":
        account.post("/sign-out/")
    elif way == "everywhere":
        other.post("/account/sign-out-everywhere/")
    elif way == "deleted":
        other.post("/account/delete/", password=PASSWORD)
    else:
        with psycopg.connect(database) as connection:
            connection.execute("UPDATE auth_user SET is_active = false WHERE username = %s", [account.name])
    for status, place in crowd.pages() + crowd.edits():
        assert (status, place.startswith("/sign-in/")) == (302, True)
    if way == "sign-out":  # of one browser only
        other.edit(account.project, RESISTOR, "790")
    drawn = example("lantern").block("output").cathode_resistor.ohm
    with psycopg.connect(database) as connection:
        rows = connection.execute("SELECT document FROM amps_revision JOIN amps_project p ON p.id = project_id "
                                  "JOIN auth_user u ON u.id = owner_id WHERE username = %s "
                                  "ORDER BY amps_revision.id DESC LIMIT 1", [account.name]).fetchone()  # fmt: skip
    if way != "deleted":
        stored = next(block for block in rows[0]["blocks"] if block["id"] == "output")["cathode_resistor"]["ohm"]
        assert stored == (790.0 if way == "sign-out" else drawn)


def test_idle_connections_keep_nobody_out_and_end_nothing(account, address, sign_in):
    where = urlsplit(address)
    before = _web_processes()
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = 2600  # over 1,024 for each of two processes
    resource.setrlimit(resource.RLIMIT_NOFILE, (max(soft, min(wanted + 200, hard)), hard))
    idle = []
    try:
        for _ in range(min(wanted, hard - 200)):
            try:
                idle.append(socket.create_connection((where.hostname, where.port), 2, ("127.0.0.2", 0)))
                idle[-1].send(b"G")
            except OSError:  # closed again at once
                continue
        for value in ("820", "830"):
            account.edit(account.project, RESISTOR, value)
            sign_in().get("/")
        assert _web_processes() == before
    finally:
        for one in idle:
            one.close()
        resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))
    time.sleep(0.5)
    assert "Lantern" in account.get("/")


def _web_processes():
    listing = subprocess.run(["ps", "-eo", "pid,args"], capture_output=True, text=True).stdout
    return {line.split()[0] for line in listing.splitlines() if "bold_anode.serving" in line}


def test_head_leaves_the_connection_as_it_should_be_for_every_kind_of_page(account):
    paths = ["/", "/account/", "/nothing/", "/healthz", f"/amps/{account.project}/chain/", "/amps/new/",
             f"/amps/{account.project}/export/", "/account/export/", "/sign-in/"]  # fmt: skip
    where = urlsplit(account.address)
    cookie = "; ".join(f"{key}={value}" for key, value in account.cookies.items())
    with socket.create_connection((where.hostname, where.port), 60) as made:
        stream = made.makefile("rb")
        for path in paths:
            for method in ("HEAD", "OPTIONS", "PUT", "HEAD"):
                made.sendall(f"{method} {path} HTTP/1.1\r\nHost: {where.netloc}\r\nCookie: {cookie}\r\n\r\n".encode())
                first = stream.readline()
                assert first.startswith(b"HTTP/1.1 "), (method, path, first)
                length = 0
                while (line := stream.readline()) != b"\r\n":
                    name, _, value = line.decode().partition(":")
                    length = int(value) if name.lower() == "content-length" else length
                    assert (name.lower(), value.strip()) != ("connection", "close"), (method, path)
                if method != "HEAD":
                    assert len(stream.read(length)) == length


def test_pages_of_somebody_who_is_signed_in_are_kept_by_no_browser(account, address):
    connection = account.connection
    cookie = "; ".join(f"{key}={value}" for key, value in account.cookies.items())
    for path in (
        "/",
        "/account/",
        f"/amps/{account.project}/chain/",
        f"/amps/{account.project}/export/",
        "/nothing/",
    ):
        connection.request("GET", path, headers={"Cookie": cookie})
        answer = connection.getresponse()
        answer.read()
        assert answer.getheader("Cache-Control") == "no-store", path


def test_a_password_cannot_be_guessed_where_the_account_is_deleted(account, address):
    for guess in range(4):
        account.post("/account/delete/", password=f"guess {guess}")
    with pytest.raises(Refused, match="429"):
        account.post("/account/delete/", password="guess 5")
    with pytest.raises(Refused, match="429"):
        account.post("/account/delete/", password=PASSWORD)
    assert "Lantern" in account.get("/")
