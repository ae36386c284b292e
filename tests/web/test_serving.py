"""The web process at its own socket: limits, time-outs, what is answered to HEAD; the log that nobody can fill."""

import logging
import resource
import socket
import threading
import time
from contextlib import contextmanager, suppress

import pytest

from bold_anode.frame.logs import Sparing
from bold_anode.serving import connections
from bold_anode.serving.__main__ import server_for

PAGE = b"p" * 3000


def application(environ, start_response):
    """Answers of every kind: of known and unknown length, without a body, large, and what the client sent."""
    path = environ["PATH_INFO"]
    headers = [("Content-Type", "text/plain"), ("Content-Length", str(len(PAGE)))]
    if path == "/echo":
        sent = environ["wsgi.input"].read()
        start_response("200 OK", [("Content-Length", str(len(sent)))])
        return [sent]
    if path == "/slow":
        time.sleep(1.5)
    if path == "/streamed":
        start_response("200 OK", headers[:1])
        return (PAGE[at : at + 1000] for at in range(0, 3000, 1000))
    if path == "/moved":
        start_response("302 Found", [("Location", "/page"), ("Content-Length", "0")])
        return [b""]
    if path == "/large":
        start_response("200 OK", [("Content-Length", str(2**25))])
        return (b"x" * 2**20 for _ in range(32))
    start_response("404 Not Found" if path == "/nothing" else "200 OK", headers)
    return [PAGE]


@contextmanager
def serving():
    ear = socket.socket()
    ear.bind(("127.0.0.1", 0))
    port = ear.getsockname()[1]
    server = server_for(application, ear)
    thread = threading.Thread(target=server.run)
    thread.start()
    try:
        yield server, port
    finally:
        server.close()
        for one in list(server._map.values()):
            one.close()
        thread.join(10)
        server.task_dispatcher.shutdown()
        assert not thread.is_alive()


def client(port, source="127.0.0.1", sent=b""):
    made = socket.create_connection(("127.0.0.1", port), 10, (source, 0))
    made.sendall(sent)
    return made


def request(path, method=b"GET", extra=b""):
    return method + b" " + path.encode() + b" HTTP/1.1\r\nHost: localhost\r\n" + extra + b"\r\n"


def header_of(stream):
    """The next answer's status and headers."""
    lines = []
    while (line := stream.readline()) not in (b"\r\n", b""):
        lines.append(line.decode().strip())
    return int(lines[0].split()[1]) if lines else None, dict(line.split(": ", 1) for line in lines[1:])


def is_closed(made):
    made.settimeout(0.05)
    try:
        return made.recv(1) == b""
    except TimeoutError:
        return False
    except ConnectionError:
        return True


def closes(made, seconds=5):
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        if is_closed(made):
            return True
    return False


def is_served(made):
    with made:
        made.settimeout(10)
        made.sendall(request("/page"))
        stream = made.makefile("rb")
        status, headers = header_of(stream)
        return status == 200 and len(stream.read(int(headers["Content-Length"]))) == len(PAGE)


def test_newcomers_do_not_inherit_the_event_of_the_connection_that_made_room(monkeypatch):
    """A descriptor is used again at once: what was reported of the old connection says nothing about the new one."""
    monkeypatch.setattr(connections, "MOST_CONNECTIONS", 16)
    with serving() as (server, port):
        idle = [client(port, f"127.0.0.{2 + number % 2}") for number in range(16)]
        until = time.monotonic() + 10
        while len(server.active_channels) < 16 and time.monotonic() < until:
            time.sleep(0.02)
        stalled, go_on = threading.Event(), threading.Event()
        server.trigger.pull_trigger(lambda: (stalled.set(), go_on.wait(10)))
        assert stalled.wait(10)
        for connection in idle:
            connection.sendall(b"G")
        newcomers = [client(port) for _ in range(3)]  # the first makes room, the second takes its place
        go_on.set()
        time.sleep(0.3)  # they are taken before they send
        assert [is_served(newcomer) for newcomer in newcomers] == [True] * 3
        for connection in idle:
            connection.close()


@pytest.mark.parametrize("path", ["/page", "/nothing", "/moved", "/streamed", "/large"])
def test_head_is_answered_by_the_header_alone_and_the_next_request_by_its_own(path):
    with serving() as (_, port), client(port, sent=request(path, b"HEAD") + request("/page")) as made:
        stream = made.makefile("rb")
        status, headers = header_of(stream)
        assert status == {"/nothing": 404, "/moved": 302}.get(path, 200)
        if headers.get("Connection") == "close":
            assert stream.read() == b""
            return
        assert path in ("/page", "/nothing", "/moved", "/large")
        assert headers["Content-Length"] == {"/moved": "0", "/large": str(2**25)}.get(path, str(len(PAGE)))
        status, headers = header_of(stream)
        assert (status, stream.read(int(headers["Content-Length"]))) == (200, PAGE)


def test_a_wrong_request_by_head_gets_no_body_either():
    with serving() as (_, port), client(port, sent=request("/page", b"HEAD", b"Content-Length: x\r\n")) as made:
        stream = made.makefile("rb")
        assert header_of(stream)[0] == 400
        assert stream.read() == b""


@pytest.mark.parametrize("kind", ["nothing", "header", "body", "unread", "between"])
def test_whoever_is_late_is_closed_and_nobody_else(kind, monkeypatch):
    for name in ("HEADER_SECONDS", "BODY_SECONDS", "SEND_SECONDS", "KEPT_OPEN_SECONDS"):
        monkeypatch.setattr(connections, name, 60.0)
    monkeypatch.setattr(connections, "LEAST_BODY_RATE", 1e3)
    sent = {
        "nothing": b"",
        "header": request("/page")[:20],
        "body": request("/echo", b"POST", b"Content-Length: 1000\r\n"),
        "unread": request("/large"),
        "between": request("/page"),
    }[kind]
    with serving() as (_, port), client(port, sent=sent) as made:
        if kind == "between":
            stream = made.makefile("rb")
            stream.read(int(header_of(stream)[1]["Content-Length"]))
        time.sleep(1.2)  # the loop has looked for who is late
        if kind not in ("between", "unread"):
            assert not is_closed(made)
        short = {"nothing": "HEADER_SECONDS", "header": "HEADER_SECONDS", "body": "BODY_SECONDS",
                 "unread": "SEND_SECONDS", "between": "KEPT_OPEN_SECONDS"}[kind]  # fmt: skip
        monkeypatch.setattr(connections, short, 0.5)
        if kind == "body":
            monkeypatch.setattr(connections, "HEADER_SECONDS", 0.0)
        if kind == "unread":
            time.sleep(2.5)
            made.settimeout(5)
            got = 0
            while piece := made.recv(2**20):
                got += len(piece)
            assert got < 2**25
            return
        trickle = {"header": b"x", "body": b"x"}.get(kind)
        until, ended = time.monotonic() + 5, False
        while time.monotonic() < until and not ended:  # a byte now and then buys no time
            if trickle:
                with suppress(OSError):
                    made.sendall(trickle)
            ended = is_closed(made)
        assert ended


def test_a_large_body_has_the_time_that_its_length_takes(monkeypatch):
    for name in ("HEADER_SECONDS", "BODY_SECONDS"):
        monkeypatch.setattr(connections, name, 0.2)
    monkeypatch.setattr(connections, "LEAST_BODY_RATE", 100.0)
    with serving() as (_, port), client(port, sent=request("/echo", b"POST", b"Content-Length: 400\r\n")) as made:
        for _ in range(4):
            time.sleep(0.6)
            made.sendall(b"x" * 100)
        stream = made.makefile("rb")
        assert header_of(stream)[0] == 200
        assert stream.read(400) == b"x" * 400


def test_a_full_house_closes_what_is_idle_of_whoever_has_most(monkeypatch):
    monkeypatch.setattr(connections, "NEW_SECONDS", 0.2)
    monkeypatch.setattr(connections, "most_connections", lambda: 20)
    with serving() as (server, port):
        mine = client(port, sent=request("/page") + request("/page"))
        busy = client(port, "127.0.0.2", request("/slow"))  # which is the oldest of those that are closed
        time.sleep(0.3)
        others = [client(port, "127.0.0.2", b"G") for _ in range(30)]
        time.sleep(0.3)
        assert len(server.active_channels) <= 20
        assert sum(is_closed(other) for other in others) >= 11
        assert is_served(client(port))
        assert is_served(client(port, "127.0.0.2"))
        stream = mine.makefile("rb")
        mine.settimeout(10)
        for _ in range(2):
            assert header_of(stream)[0] == 200
            stream.read(len(PAGE))
        assert is_served(mine)
        with busy:
            busy.settimeout(10)
            assert header_of(busy.makefile("rb"))[0] == 200
        for other in others:
            other.close()


def test_a_newcomer_to_a_full_house_takes_the_place_of_whoever_has_most(monkeypatch):
    monkeypatch.setattr(connections, "most_connections", lambda: 20)
    with serving() as (server, port):
        many = [client(port, "127.0.0.2", b"G") for _ in range(16)]
        few = [client(port, "127.0.0.3", b"G") for _ in range(4)]
        time.sleep(0.3)
        assert len(server.active_channels) == 20
        assert is_served(client(port, "127.0.0.4"))
        assert sum(is_closed(one) for one in many) == 1
        assert not any(is_closed(one) for one in few)
        for one in many + few:
            one.close()


def test_whoever_has_only_connections_at_work_loses_none_to_a_newcomer(monkeypatch):
    monkeypatch.setattr(connections, "most_connections", lambda: 10)
    with serving() as (server, port):
        busy = [client(port, "127.0.0.2", request("/slow")) for _ in range(7)]
        idle = [client(port, "127.0.0.3", b"G") for _ in range(3)]
        time.sleep(0.3)
        assert len(server.active_channels) == 10
        assert is_served(client(port, "127.0.0.4"))
        assert sum(is_closed(one) for one in idle) == 1
        for one in busy + idle:
            one.close()


@pytest.mark.parametrize(("proxy", "most"), [(None, 16), ("127.0.0.2", 20)])
def test_one_address_has_a_share_but_the_proxy_has_all(proxy, most, monkeypatch):
    monkeypatch.setattr(connections, "most_connections", lambda: 20)
    with serving() as (server, port):
        server.proxy = proxy
        others = [client(port, "127.0.0.2", b"G") for _ in range(30)]
        time.sleep(0.5)
        assert len(server.active_channels) == most
        for other in others:
            other.close()


def test_connections_stay_well_below_the_descriptors_in_force(monkeypatch):
    for soft, most in ((1024, 437), (20_000, 500), (resource.RLIM_INFINITY, 500), (180, 16)):
        monkeypatch.setattr(resource, "getrlimit", lambda _, soft=soft: (soft, soft))
        assert connections.most_connections() == most


def test_without_a_free_descriptor_the_loop_pauses_and_goes_on(monkeypatch):
    import errno

    with serving() as (server, port):
        tries = []

        def accept():
            tries.append(1)
            raise OSError(errno.EMFILE, "Too many open files")

        monkeypatch.setattr(connections, "PAUSE_SECONDS", 0.5)
        with monkeypatch.context() as without:
            without.setattr(server, "accept", accept)
            made = client(port)
            time.sleep(1.0)
        assert 1 <= len(tries) <= 4
        assert is_served(made)


def test_of_one_kind_of_message_so_many_are_written_in_a_minute(monkeypatch):
    now = [600.0]
    monkeypatch.setattr(time, "time", lambda: now[0])
    sparing = Sparing(lines=3)

    def written(number, msg="No such page: %s"):
        record = logging.LogRecord("requests", logging.WARNING, "", 0, msg, (number,), None)
        passed = sparing.filter(record)
        return passed if isinstance(passed, bool) else passed.getMessage()

    assert [written(number) for number in range(5)] == [True, True, True, False, False]
    assert written(5, "Something else: %s") is True
    now[0] += 60
    assert written(6) == "No such page: 6 (and 2 like it left out)"
    assert written(7) is True
