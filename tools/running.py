"""What runs for this folder: who holds it, which processes belong to it, how they are kept running and stopped."""

from __future__ import annotations

import ctypes
import fcntl
import json
import os
import signal
import subprocess
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Protocol

import local
from local import Refused, say, write_whole

_LIBC = ctypes.CDLL(None)
_PR_SET_PDEATHSIG, _PR_SET_CHILD_SUBREAPER = 1, 36


def dies_with_parent() -> None:
    """Called in a new process: it is asked to stop when that which started it is gone."""
    _LIBC.prctl(_PR_SET_PDEATHSIG, signal.SIGINT)


@contextmanager
def nothing_left_behind() -> Iterator[None]:
    """At its end every process is ended that was started within, by this one or by one of those; SIGTERM and SIGHUP
    end this process as Ctrl-C does."""

    def ended(number: int, _: object) -> None:
        raise SystemExit(128 + number)

    for number in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, ended)
    # Whose parent has gone is ours, not init's, so that it can be found.
    _LIBC.prctl(_PR_SET_CHILD_SUBREAPER, 1)
    try:
        yield
    finally:
        for number in (signal.SIGTERM, signal.SIGKILL):
            for pid in _descendants(os.getpid()):
                with suppress(ProcessLookupError):
                    os.kill(pid, number)
            wait_until(lambda: not _descendants(os.getpid()), 10)


def _descendants(pid: int) -> list[int]:
    """The processes that this one has started, and those that they have; what has ended is waited for."""
    children: dict[int, list[int]] = {}
    for folder in Path("/proc").glob("[0-9]*"):
        with suppress(OSError):
            state, parent = (folder / "stat").read_text().rpartition(")")[2].split()[:2]
            if state == "Z" and int(parent) == pid:
                with suppress(ChildProcessError):
                    os.waitpid(int(folder.name), os.WNOHANG)
                continue
            children.setdefault(int(parent), []).append(int(folder.name))
    found = list(children.get(pid, []))
    for one in found:
        found += children.get(one, [])
    return found


@dataclass(frozen=True)
class Process:
    """A process, told apart from a later one of the same number by when it was started."""

    pid: int
    started: str

    def is_alive(self) -> bool:
        """Whether it still runs."""
        return identity(self.pid) == self

    def send(self, number: int) -> None:
        """Send it a signal, if it still runs."""
        if self.is_alive():
            os.kill(self.pid, number)

    def wait(self, seconds: float) -> bool:
        """Wait for its end; whether that came in time."""
        return wait_until(lambda: not self.is_alive(), seconds)

    def end(self, seconds: float = 15) -> None:
        """Have it stop by itself, else kill it."""
        self.send(signal.SIGTERM)
        if not self.wait(seconds):
            self.send(signal.SIGKILL)
            self.wait(5)


def identity(pid: int) -> Process | None:
    """The process that has this number now; None if there is none, or it is only waited for."""
    try:
        facts = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
        boot = Path("/proc/sys/kernel/random/boot_id").read_text().strip()
    except OSError:
        return None
    return None if facts[0] == "Z" else Process(pid, f"{boot} {facts[19]}")


class Lock:
    """Held by one ./start or ./test a folder (and, with a database given, a port); gone with its process."""

    def __init__(self, name: str) -> None:
        self.file = local.LOCAL / f"{name}.lock"

    def holder(self) -> Process | None:
        """The process that holds it."""
        if not self.file.exists():
            return None
        with self.file.open() as probe:
            try:
                fcntl.flock(probe, fcntl.LOCK_SH | fcntl.LOCK_NB)
            except BlockingIOError:
                return _read_process(probe.read())
        return None

    def __enter__(self) -> Lock:
        local.LOCAL.mkdir(parents=True, exist_ok=True)
        self._held = self.file.open("a")
        # One that looks who holds it has it for a moment.
        if not wait_until(self._is_taken, 2):
            self._held.close()
            raise Refused(
                "Bold Anode is already running from this folder. Stop it with Ctrl-C where it runs, or with "
                "./start --stop"
            )
        self._held.truncate(0)
        self._held.write(json.dumps(asdict(own())))
        self._held.flush()
        return self

    def _is_taken(self) -> bool:
        try:
            fcntl.flock(self._held, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            return False
        return True

    def __exit__(self, *_: object) -> None:
        self._held.close()


def own() -> Process:
    """This process."""
    found = identity(os.getpid())
    assert found is not None
    return found


def _read_process(text: str) -> Process | None:
    try:
        return Process(**json.loads(text))
    except (ValueError, TypeError):
        return None


class Record:
    """The processes of a run, kept on disk so that the next run can end what a killed one left."""

    def __init__(self, name: str) -> None:
        self.file = local.LOCAL / f"{name}.running"

    def write(self, children: Sequence[Process], **facts: object) -> None:
        """Keep what runs now."""
        write_whole(self.file, json.dumps({"children": [asdict(child) for child in children], **facts}), mode=0o600)

    def read(self) -> dict[str, object]:
        """What was kept; empty if nothing was."""
        try:
            kept = json.loads(self.file.read_text())
        except (OSError, ValueError):
            return {}
        return kept if isinstance(kept, dict) else {}

    def end_left_over(self) -> bool:
        """End what is left of a run whose ./start is gone; whether there was anything."""
        kept = self.read().get("children")
        left = [Process(**one) for one in kept] if isinstance(kept, list) else []
        alive = [process for process in left if process.is_alive()]
        for process in alive:
            process.send(signal.SIGTERM)
        for process in alive:
            process.end()
        self.file.unlink(missing_ok=True)
        return bool(alive)


_SOON = 10.0  # a process that ends sooner than this has failed to start
_OFTEN = 5  # failures before anything was served after which ./start gives up
_FIRST_WAIT, _LONGEST_WAIT = 0.5, 60.0  # seconds before a process that keeps ending is started again


def cause_of_end(status: int) -> str:
    """What ended a process, in words, by its return code."""
    if status >= 0:
        return f"with status {status}"
    try:
        return f"by signal {-status}, {signal.Signals(-status).name}"
    except ValueError:
        return f"by signal {-status}"


@dataclass
class Child:
    """A process that is kept running: what it is in words, and how it is started."""

    what: str
    command: Sequence[str]
    options: dict[str, object]
    process: subprocess.Popen[bytes] | None = None
    since: float = 0.0
    failures: int = 0
    due: float | None = None  # when it is to be started again

    @property
    def has_ended(self) -> bool:
        """Whether it was started and runs no more."""
        return self.process is not None and self.process.poll() is not None

    def launch(self) -> None:
        """Start it, in a session of its own so that Ctrl-C is ours to pass on."""
        self.since, self.due = time.monotonic(), None
        self.process = subprocess.Popen(
            self.command, start_new_session=True, preexec_fn=dies_with_parent, **self.options
        )  # type: ignore[call-overload]

    def note_end(self) -> float:
        """Count an end that came soon after the start. Returns the seconds to wait before the next start: twice as
        many each time, up to a minute."""
        self.failures = self.failures + 1 if time.monotonic() - self.since < _SOON else 0
        wait = min(_LONGEST_WAIT, _FIRST_WAIT * 2 ** (self.failures - 1)) if self.failures else 0.0
        self.due = time.monotonic() + wait
        return wait


class Database(Protocol):
    """A database server of ours."""

    process: subprocess.Popen[bytes] | None

    def serve(self) -> None:
        """Start it and wait until it answers. Raises Refused."""


class Supervisor:
    """Keeps the children running, and the database under them, until told to stop.

    Once ``has_served`` is set, nothing that ends makes it give up: each is started again, after a pause that grows.
    """

    def __init__(self, children: list[Child], record: Record, database: Database | None, **facts: object) -> None:
        self.children = children
        self.record = record
        self.database = database
        self.facts = facts
        self.has_served = False
        self._database_failures = 0
        self._database_due = 0.0

    def launch(self, *children: Child) -> None:
        """Start some of the children, or all; those that were not started are left alone."""
        for child in children or self.children:
            child.launch()
            self._note()

    def _note(self) -> None:
        running = [identity(child.process.pid) for child in self.children if child.process]
        try:
            self.record.write([process for process in running if process], **self.facts)
        except OSError as fault:  # a full disk stops nobody
            say(f"What runs could not be written down: {fault}")

    def watch(self) -> None:
        """Start again what ends. Returns never; raises Refused where nothing was ever served."""
        while True:
            time.sleep(0.2)
            self.look()

    def look(self) -> None:
        """Start again what has ended and has waited long enough. Raises Refused where nothing was ever served."""
        self._database_again()
        for child in self.children:
            if child.process is None:
                continue
            if not child.has_ended:
                self.has_served |= time.monotonic() - child.since > _SOON
                continue
            if child.due is None:
                self._say_end(child)
            if child.due is not None and time.monotonic() >= child.due:
                child.launch()
                self._note()

    def _say_end(self, child: Child) -> None:
        assert child.process is not None
        status, wait = child.process.poll() or 0, child.note_end()
        if child.failures >= _OFTEN and not self.has_served:
            raise Refused(f"The {child.what} ended {_OFTEN} times as soon as it was started; why stands above.")
        when = f"in {wait:.0f} s" if wait >= 1 else "now"
        what = f"{child.what} {child.process.pid}"
        say(f"{_clock()} The {what} ended {cause_of_end(status)}; it is started again {when}.")

    def _database_again(self) -> None:
        process = self.database.process if self.database else None
        if self.database is None or process is None or process.poll() is None:
            return
        if time.monotonic() < self._database_due:
            return
        say(f"{_clock()} PostgreSQL ended {cause_of_end(process.poll() or 0)}; it is started again.")
        try:
            self.database.serve()
            self._database_failures = 0
        except Refused as refusal:
            self._database_failures += 1
            wait = min(_LONGEST_WAIT, 2.0**self._database_failures)
            self._database_due = time.monotonic() + wait
            say(f"{_clock()} {refusal} The next try is in {wait:.0f} s.")

    def stop(self) -> None:
        """Stop every child: all are asked, and those that do not in 15 s are killed."""
        running = [child.process for child in self.children if child.process and child.process.poll() is None]
        for process in running:
            process.terminate()
        for process in running:
            try:
                process.wait(15)
            except subprocess.TimeoutExpired:
                process.kill()
                process.wait()
        self.record.file.unlink(missing_ok=True)


def _clock() -> str:
    return time.strftime("%Y-%m-%d %H:%M:%S")


def stop_other(lock: Lock, record: Record) -> bool:
    """Stop the ./start that holds ``lock``, or what one that was killed has left. Whether anything ran."""
    holder = lock.holder()
    if holder is None:
        return record.end_left_over()
    holder.send(signal.SIGTERM)
    if not holder.wait(60):
        raise Refused(f"The process {holder.pid} was asked to stop and has not in a minute.")
    return True


def wait_until(ready: Callable[[], bool], seconds: float, every: float = 0.05) -> bool:
    """Wait for something; whether it came in time."""
    deadline = time.monotonic() + seconds
    while not ready():
        if time.monotonic() > deadline:
            return False
        time.sleep(every)
    return True
