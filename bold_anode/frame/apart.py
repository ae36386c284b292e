"""Reading what came as a file in a process of its own, with limits of time and memory: whoever sent it waits, nobody
else does."""

from __future__ import annotations

import contextlib
import logging
import multiprocessing
import os
import resource
import signal
import time
import traceback
from collections.abc import Callable
from importlib import import_module
from multiprocessing.connection import Connection
from threading import BoundedSemaphore
from typing import Any, TypeVar

from bold_anode.frame.shares import SHARES
from thermionic import budget
from thermionic.errors import ThermionicError, ValueRefused

Result = TypeVar("Result")
SECONDS = 10  # of processor time
MEGABYTES = 400  # beside what the process has before it reads
AT_ONCE = 2
_WAIT_SECONDS = 30.0
_log = logging.getLogger("bold_anode.apart")
_PATIENCE = 4  # so many times the processor time may pass by the clock, on a machine that is busy

# The first file waits for this process to start; it has the readers loaded, and each file is read by a copy of it.
_context = multiprocessing.get_context("forkserver")
_context.set_forkserver_preload(["thermionic.design", "thermionic.tubes", "thermionic.chassis.reading_holes"])
_places = BoundedSemaphore(AT_ONCE)


def apart(function: Callable[..., Result], *args: Any, seconds: int = SECONDS, megabytes: int = MEGABYTES) -> Result:
    """What a module's function returns for these arguments, called in another process.

    Function, arguments and result are pickled. Raises what the function raises, and ValueRefused where it takes
    longer or needs more memory than it may, or too many files are being read.
    """
    SHARES.make_way()
    if not _places.acquire(timeout=_WAIT_SECONDS):
        raise ValueRefused("Other files are being read at this moment. Try again in a minute.")
    try:
        result: Result = _read(function, args, seconds, megabytes)
        return result
    finally:
        _places.release()


def _read(function: Callable[..., Any], args: tuple[Any, ...], seconds: int, megabytes: int) -> Any:
    receiving, sending = _context.Pipe(duplex=False)
    process = _context.Process(target=_work, args=(sending, seconds, megabytes, function, args), daemon=True)
    process.start()
    sending.close()
    try:
        answer = _answer(receiving, _PATIENCE * seconds)
        process.join(1.0)
        is_late = process.is_alive() or process.exitcode in (-signal.SIGXCPU, -signal.SIGKILL)
    finally:
        receiving.close()
        if process.is_alive():
            process.kill()
            process.join()
        process.close()
    if answer is not None:
        done, result = answer
        if not done:
            raise result
        return result
    if is_late:
        raise ValueRefused(f"Reading it takes more than {seconds} s; no file of this kind needs as long.")
    _log.error("The reader %s ended without an answer.", function)
    raise ValueRefused("It cannot be read: something in it is as no file of this kind has it.")


def _answer(receiving: Connection, seconds: float) -> Any:
    """What the reader sends; None where it ends without an answer, or the time is up. Raises what stops whoever
    waits: a budget that is spent, work that is called off."""
    until = time.monotonic() + seconds
    while not receiving.poll(0.1):
        budget.check("Reading the file")
        if time.monotonic() > until:
            return None
    try:
        return receiving.recv()
    except (EOFError, OSError):
        return None


def _work(
    sending: Connection, seconds: int, megabytes: int, function: Callable[..., Any], args: tuple[Any, ...]
) -> None:
    """In the other process: call the function within its limits, and send what came of it."""
    os.nice(10)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    used = int(time.process_time())
    resource.setrlimit(resource.RLIMIT_CPU, (used + seconds + 1, used + seconds + 2))
    with open("/proc/self/statm") as sizes:
        has = int(sizes.read().split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (has + megabytes * 2**20,) * 2)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    try:
        answer: tuple[bool, Any] = True, function(*args)
    except MemoryError:
        answer = (
            False,
            ValueRefused(f"Reading it needs more than {megabytes} MB of memory; no file of this kind needs as much."),
        )
    except ThermionicError as refusal:
        answer = False, refusal
    except Exception:
        traceback.print_exc()  # which the log has; to the sender it is a file that cannot be read
        return
    with contextlib.suppress(OSError):  # nobody waits for it any more
        sending.send(answer)


def in_application(place: str, *args: Any) -> Any:
    """Call a function of the application, named ``module:function``, where Django is not set up yet."""
    import django

    django.setup()
    module, _, name = place.partition(":")
    return getattr(import_module(module), name)(*args)
