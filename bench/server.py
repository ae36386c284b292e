"""A ./start of one's own for a bench: everything that it makes lies in a folder that is thrown away."""

import contextlib
import os
import random
import resource
import shutil
import signal
import socket
import subprocess
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PATIENCE = 90
ANYTHING = ("start", "all", "postgres", "web", "start")
MARKS = (("postgres", "postgres"), ("serving", "web"), ("manage.py work", "worker"))


def quiet_port() -> int:
    """A free port of loopback that no outgoing connection is given meanwhile: below those that the system chooses."""
    while True:
        port = random.randrange(20_000, 30_000)
        with socket.socket() as probe, contextlib.suppress(OSError):
            probe.bind(("127.0.0.1", port))
            return port


def first_start(folder: Path) -> None:
    """An empty folder but for the Python environment, which takes minutes to make and is tried by itself."""
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()
    (folder / "venv").symlink_to(ROOT / ".local" / "venv")


class Run:
    """One ./start with everything that it makes in a folder of its own."""

    def __init__(
        self, folder: Path, port: int, descriptors: int | None = None, log: Path | None = None, **settings: str
    ) -> None:
        self.port, self.folder = port, folder
        ours = {key: value for key, value in os.environ.items() if key != "DATABASE_URL"}
        surroundings = {**ours, "BOLD_ANODE_LOCAL": str(folder), **settings}
        limit = (lambda: resource.setrlimit(resource.RLIMIT_NOFILE, (descriptors,) * 2)) if descriptors else None
        self.log = (log or folder.parent / "start.log").open("a+")
        self.at = self.log.tell()
        self.process = subprocess.Popen(
            [ROOT / "start", "--port", str(port)], env=surroundings, stdout=self.log, stderr=self.log,
            start_new_session=True, preexec_fn=limit,
        )  # fmt: skip

    def said(self) -> str:
        self.log.flush()
        return Path(self.log.name).read_text()[self.at :]

    def serves(self) -> bool:
        """Wait until it says that it serves; False if it ended or took too long."""
        until = time.monotonic() + PATIENCE
        while time.monotonic() < until:
            if f"http://127.0.0.1:{self.port}" in self.said():
                return True
            if self.process.poll() is not None:
                return False
            time.sleep(0.05)
        return False

    def family(self) -> dict[str, list[int]]:
        """The processes that it started, by what they are."""
        listing = subprocess.run(["ps", "-eo", "pid,ppid,args"], capture_output=True, text=True).stdout
        rows = [line.split(None, 2) for line in listing.splitlines()[1:]]
        parents = {self.process.pid}
        found: dict[str, list[int]] = {"start": [self.process.pid]}
        for _ in range(3):
            for pid, parent, words in rows:
                if int(parent) in parents and int(pid) not in parents:
                    parents.add(int(pid))
                    kind = next((name for mark, name in MARKS if mark in words), "other")
                    found.setdefault(kind, []).append(int(pid))
        return found

    def kill(self, chance: random.Random, among: tuple[str, ...] = ANYTHING) -> str:
        """Kill some or all of it; what was killed, in words."""
        family = self.family()
        what = chance.choice(among)
        victims = (
            [pid for pids in family.values() for pid in pids]
            if what == "all"
            else family.get(what) or family["start"]
        )
        for pid in victims:
            try:
                os.kill(pid, signal.SIGKILL)
            except ProcessLookupError:
                continue
        return what

    def end(self) -> None:
        """Stop it if it still runs."""
        if self.process.poll() is None:
            self.process.send_signal(signal.SIGTERM)
            self.process.wait(60)
        self.log.close()
