"""What ./start and ./test need on this machine: Debian packages, the Python environment, secrets, ports.

Only the standard library is used here, since nothing else may be installed yet.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import secrets
import shutil
import socket
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
# Everything that is made lies here.
LOCAL = Path(os.environ.get("BOLD_ANODE_LOCAL", ROOT / ".local"))
PYTHON = (3, 11)


class Refused(Exception):
    """Something on this machine stands in the way; the message says what, and what would do."""


def say(text: str) -> None:
    """A line to the person at the terminal; where there is nobody, or no room for it, it is left out."""
    with contextlib.suppress(OSError):
        print(text, flush=True)


def run(command: list[str], what: str, **options: object) -> None:
    """Run a command quietly; if it fails, refuse with ``what`` and the end of what it printed."""
    done = subprocess.run(command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, **options)
    if done.returncode:
        tail = "\n".join(done.stdout.strip().splitlines()[-12:])
        raise Refused(f"{what} failed:\n{tail}")


def need_packages(wanted: dict[str, bool]) -> None:
    """Install the Debian packages (name to whether it is there already) that are missing."""
    missing = [name for name, there in wanted.items() if not there]
    if not missing:
        return
    names = " ".join(missing)
    if not shutil.which("apt-get"):
        raise Refused(
            f"{names} is missing, and this machine has no apt-get to install it with. Install it by hand "
            "(the names are Debian 12's), or set DATABASE_URL to a PostgreSQL server that is already running."
        )
    if os.geteuid() != 0:
        raise Refused(f"{names} is missing. Install it once with:  sudo apt-get install {names}")
    say(f"Installing {names} from Debian's packages ...")
    quiet = {**os.environ, "DEBIAN_FRONTEND": "noninteractive"}
    run(["apt-get", "-q", "update"], "apt-get update", env=quiet)
    # Debian would make and start a cluster of its own on port 5432, which nobody here asked for.
    policy = Path("/usr/sbin/policy-rc.d")
    ours = not policy.exists()
    if ours:
        policy.write_text("#!/bin/sh\nexit 101\n")
        policy.chmod(0o755)
    try:
        run(
            ["apt-get", "-q", "-y", "install", "--no-install-recommends", *missing],
            f"Installing {names}",
            env=quiet,
        )
    finally:
        if ours:
            policy.unlink()


def write_whole(file: Path, text: str, mode: int = 0o644) -> None:
    """Write a file so that it is there whole or not at all, whatever happens meanwhile."""
    beside = file.with_name(f"{file.name}-{os.getpid()}")
    beside.unlink(missing_ok=True)
    with os.fdopen(os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL, mode), "w") as out:
        out.write(text)
        out.flush()
        os.fsync(out.fileno())
    beside.rename(file)


def environment(*, tests: bool) -> Path:
    """The Python environment under .local/venv with the locked packages. Returns its interpreter.

    While packages are put in, a mark says so: an environment that was left in the middle of that is made anew.
    """
    if sys.version_info[:2] != PYTHON:
        raise Refused("Python 3.11 is needed; this is " + ".".join(map(str, sys.version_info[:2])) + ".")
    folder = LOCAL / "venv"
    python = folder / "bin" / "python"
    locks = [ROOT / "requirements" / "app.txt"] + ([ROOT / "requirements" / "test.txt"] if tests else [])
    installer = ROOT / "requirements" / "installer.txt"
    locked = [installer, *locks]
    state = hashlib.sha256(b"".join(lock.read_bytes() for lock in locked) + sys.version.encode()).hexdigest()
    mark, unfinished = folder / ("installed-test" if tests else "installed-app"), LOCAL / "venv-unfinished"
    if mark.exists() and mark.read_text() == state and not unfinished.exists():
        return python
    try:
        import ensurepip  # noqa: F401
    except ImportError:
        need_packages({"python3-venv": False})
    LOCAL.mkdir(parents=True, exist_ok=True)
    whole = any(folder.glob("installed-*")) and not unfinished.exists()
    write_whole(unfinished, "")
    if not whole:
        say("Making the Python environment ...")
        run([sys.executable, "-m", "venv", "--clear", str(folder)], "Making the Python environment")
    say("Installing the locked Python packages ...")
    pip = [str(python), "-m", "pip", "-q", "--disable-pip-version-check"]
    # What Python brings along to install with is years old: the locked pip replaces it; nothing needs setuptools.
    run([*pip, "install", "--require-hashes", "-r", str(installer)], "Installing pip")
    run([*pip, "uninstall", "-y", "setuptools"], "Removing setuptools")
    command = [*pip, "install", "--require-hashes"]
    for lock in locks:
        command += ["-r", str(lock)]
    run(command, "Installing the Python packages")
    write_whole(mark, state)
    if tests:  # the application's packages are among them
        only = installer.read_bytes() + locks[0].read_bytes() + sys.version.encode()
        write_whole(folder / "installed-app", hashlib.sha256(only).hexdigest())
    unfinished.unlink()
    return python


def secret(name: str) -> str:
    """A secret kept in .local/, made at its first use and readable by its owner alone."""
    LOCAL.mkdir(parents=True, exist_ok=True)
    file = LOCAL / name
    if not file.exists() or not file.read_text():
        write_whole(file, secrets.token_urlsafe(48), mode=0o600)
    return file.read_text()


def state_of_application() -> str:
    """Names the application's files as they are, so that what depends on them is done again when they change."""
    names = hashlib.sha256()
    for file in sorted([*(ROOT / "bold_anode").rglob("*"), *(ROOT / "thermionic").rglob("*")]):
        if file.is_file() and "__pycache__" not in file.parts:
            facts = file.stat()
            names.update(f"{file} {facts.st_mtime_ns} {facts.st_size}\n".encode())
    return names.hexdigest()


def free_port() -> int:
    """A port on loopback that nothing listens on."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


def settings(url: str, **extra: str) -> dict[str, str]:
    """The environment that the application runs in."""
    return {
        **os.environ,
        "DATABASE_URL": url,
        "BOLD_ANODE_SECRET_KEY": secret("secret-key"),
        "BOLD_ANODE_STATIC": os.environ.get("BOLD_ANODE_STATIC", str(LOCAL / "static")),
        "BOLD_ANODE_BACKUPS": os.environ.get("BOLD_ANODE_BACKUPS", str(LOCAL / "backups")),
        "BOLD_ANODE_SHARED": os.environ.get("BOLD_ANODE_SHARED", str(LOCAL / "shared")),
        "DJANGO_SETTINGS_MODULE": "bold_anode.settings",
        "PYTHONPATH": str(ROOT),
        # One thread a worker: the matrices are small, and two workers share two cores.
        "OPENBLAS_NUM_THREADS": "1",
        # Or each thread of a process keeps memory of its own that the others could have used.
        "MALLOC_ARENA_MAX": "1",
        # Or the memory that a password is hashed in stays with the process for good, as does any that is as large.
        "MALLOC_MMAP_THRESHOLD_": "4194304",
        **extra,
    }
