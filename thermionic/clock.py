"""Time as budgets count it: while a kernel is compiled or loaded, which a first solve waits for, the clock stands."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager

_lock = threading.Lock()
_own = threading.local()
_stood = 0.0  # s, that the clock has stood in this process


def seconds() -> float:
    """Monotonic seconds, without those in which the clock stood."""
    return time.monotonic() - _stood


@contextmanager
def standing() -> Iterator[None]:
    """The clock stands within, for every thread; once, where it is entered again within."""
    global _stood
    if getattr(_own, "stands", False):
        yield
        return
    _own.stands, began = True, time.monotonic()
    try:
        yield
    finally:
        _own.stands = False
        with _lock:
            _stood += time.monotonic() - began
