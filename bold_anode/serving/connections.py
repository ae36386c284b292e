"""Connections of one web process: how many there may be, how long each may take, and which is closed first.

The limits hold before anything is known of a client, so that nobody can keep others out by opening connections, by
sending slowly, or by not reading. A request is worked on only once all of it has come.
"""

from __future__ import annotations

import errno
import resource
import time
from collections import Counter
from typing import Any

from waitress.channel import HTTPChannel
from waitress.server import TcpWSGIServer
from waitress.task import ErrorTask, Task, WSGITask

MOST_CONNECTIONS = 500
SHARE_OF_AN_ADDRESS = 0.8  # of those, what one address may have
# Each connection can hold its socket and a file that a large body or answer is kept in.
DESCRIPTORS_A_CONNECTION = 2
DESCRIPTORS_OF_THE_PROCESS = 150  # database connections, files of the application, the solver's libraries

HEADER_SECONDS = 15.0  # from the first moment of a connection, or the first byte of a later request
BODY_SECONDS = 30.0  # beside what the least rate gives
LEAST_BODY_RATE = 50_000.0  # bytes a second that a body must come at
SEND_SECONDS = 30.0  # a client that reads nothing of its answer for so long is gone
KEPT_OPEN_SECONDS = 180  # after an answer, for the next request
NEW_SECONDS = 1.0  # so long after its first moment a connection is spared before one that sends nothing
IN_USE_SECONDS = 30.0  # so long after an answer, too
LOOK_SECONDS = 1.0  # between looks for who is late
ACCEPTED_AT_ONCE = 64
PAUSE_SECONDS = 1.0  # without a free descriptor, nothing is accepted for so long


def most_connections() -> int:
    """Connections that this process may have by its limit of descriptors in force, at most MOST_CONNECTIONS."""
    soft, _ = resource.getrlimit(resource.RLIMIT_NOFILE)
    if soft == resource.RLIM_INFINITY:
        return MOST_CONNECTIONS
    return max(16, min(MOST_CONNECTIONS, (soft - DESCRIPTORS_OF_THE_PROCESS) // DESCRIPTORS_A_CONNECTION))


class _HeadTask(Task):  # type: ignore[misc]
    """A task that answers HEAD with the header alone (RFC 9110, section 9.3.2): what the application writes is
    counted and not sent."""

    def write(self, data: bytes) -> None:
        """Send a piece of the answer; of one to HEAD, the header."""
        if self.request.command != "HEAD":
            super().write(data)
            return
        if not self.wrote_header:
            super().write(b"")
        self.content_bytes_written += len(data)

    def finish(self) -> None:
        """End the answer; one to HEAD has no last chunk."""
        if self.request.command == "HEAD":
            self.write(b"")
            self.chunked_response = False
        super().finish()


class _Task(_HeadTask, WSGITask):  # type: ignore[misc]
    pass


class _ErrorTask(_HeadTask, ErrorTask):  # type: ignore[misc]
    pass


class Connection(HTTPChannel):  # type: ignore[misc]
    """A client's connection, and since when it has been expected to send or to read."""

    task_class = _Task
    error_task_class = _ErrorTask

    def __init__(self, *args: Any, **options: Any) -> None:
        self.answers = 0
        self.began = time.time()  # of the request that is being received, or of the wait for the first
        super().__init__(*args, **options)

    @property
    def is_at_work(self) -> bool:
        """Whether a request is being worked on."""
        return bool(self.requests)

    def worth(self, now: float) -> tuple[int, float]:
        """What it is worth while it is idle, the least first: one that sends nothing, one that is new or has had one
        answer, one in use; within these the one that has been quiet for longest."""
        quiet = now - self.last_activity
        if quiet > (IN_USE_SECONDS if self.answers else NEW_SECONDS):
            return 0, self.last_activity
        return (2 if self.answers > 1 else 1), self.last_activity

    def received(self, data: bytes) -> bool:
        """Take in what was sent."""
        if self.request is None and self.answers:
            self.began = time.time()
        taken: bool = super().received(data)
        self.answers += len(self.requests)
        return taken

    def is_late(self, now: float) -> bool:
        """Whether the client has had its time, to send a request, to read an answer, or between the two."""
        quiet: float = now - self.last_activity
        if self.total_outbufs_len:
            return quiet > SEND_SECONDS
        if self.is_at_work:
            return False
        if self.request is None:
            return quiet > (KEPT_OPEN_SECONDS if self.answers else HEADER_SECONDS)
        allowed = HEADER_SECONDS
        if self.request.headers_finished:
            allowed += BODY_SECONDS + self.request.content_length / LEAST_BODY_RATE
        return now - self.began > allowed


class Server(TcpWSGIServer):  # type: ignore[misc]
    """A server whose full house never keeps a newcomer out: whoever has the most connections loses an idle one."""

    channel_class = Connection
    proxy: str | None = None

    def __init__(self, *args: Any, **options: Any) -> None:
        self.most = most_connections()
        self.paused_until = self.next_look = 0.0
        self.clients_wait = False
        super().__init__(*args, **options)

    def run(self) -> None:
        """Serve until SystemExit is raised.

        Connections are accepted, and closed for want of room or time, only between two turns of the loop. Within a
        turn a new connection could be given the descriptor of one just closed, and with it that one's event: it would
        be closed without an answer.
        """
        loop = self.asyncore.loop
        try:
            while self._map:
                self.between_turns()
                loop(timeout=self.adj.asyncore_loop_timeout, map=self._map, use_poll=True, count=1)
        except (SystemExit, KeyboardInterrupt):
            self.task_dispatcher.shutdown()

    def between_turns(self) -> None:
        """Close the connections that are late, and take the clients that wait."""
        now = time.time()
        if now >= self.next_look:
            self.next_look = now + LOOK_SECONDS
            self.maintenance(now)
        if self.clients_wait:
            self.clients_wait = False
            self._accept_waiting()

    def readable(self) -> bool:
        """Whether connections are accepted now."""
        return time.time() >= self.paused_until

    def maintenance(self, now: float) -> None:
        """Close the connections that have had their time."""
        for connection in list(self.active_channels.values()):
            if connection.is_late(now):
                connection.handle_close()

    def handle_accept(self) -> None:
        """Clients wait: they are taken when this turn of the loop has ended."""
        self.clients_wait = True

    def _accept_waiting(self) -> None:
        for _ in range(ACCEPTED_AT_ONCE):
            try:
                accepted = self.accept()
            except OSError as fault:
                if fault.errno not in (errno.EMFILE, errno.ENFILE, errno.ENOBUFS, errno.ENOMEM):
                    continue  # the client has gone already
                self.logger.error("No connection is accepted for a second: %s", fault)
                self.paused_until = time.time() + PAUSE_SECONDS
                return
            if accepted is None:
                return
            self._take(*accepted)

    def _take(self, client: Any, address: Any) -> None:
        """Serve a client, closing an idle connection where there is no room; without one, the client's own."""
        host = address[0]
        if host != self.proxy and self._of(host) >= SHARE_OF_AN_ADDRESS * self.most:
            has_room = self._close_idle(host)
        else:
            has_room = len(self.active_channels) < self.most or self._close_idle(self._host_with_most())
        if not has_room:
            client.close()
            return
        try:
            self.set_socket_options(client)
            self.channel_class(self, client, address, self.adj, map=self._map)
        except OSError:  # the client has gone already
            client.close()

    def _of(self, host: str) -> int:
        return sum(connection.addr[0] == host for connection in self.active_channels.values())

    def _host_with_most(self) -> str:
        hosts = Counter(
            connection.addr[0] for connection in self.active_channels.values() if not connection.is_at_work
        )
        return hosts.most_common(1)[0][0] if hosts else ""

    def _close_idle(self, host: str) -> bool:
        """Close the connection of an address that can best be spared, none that is at work. Whether there was any."""
        idle = [c for c in self.active_channels.values() if c.addr[0] == host and not c.is_at_work]
        if not idle:
            return False
        now = time.time()
        min(idle, key=lambda connection: connection.worth(now)).handle_close()
        return True
