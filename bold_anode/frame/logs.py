"""A log that no client can fill."""

from __future__ import annotations

import logging
import time
from threading import Lock

from cachetools import LRUCache

LINES_A_MINUTE = 20
MOST_KINDS = 200


class Sparing(logging.Filter):
    """Lets at most LINES_A_MINUTE of one kind of message through in a minute; the first of the next minute says how
    many were left out. Messages of one logger with one template are of a kind."""

    def __init__(self, lines: int = LINES_A_MINUTE) -> None:
        super().__init__()
        self.lines = lines
        # Kind to the minute, the lines in it and those left out.
        self._counts: LRUCache[tuple[str, str], list[int]] = LRUCache(MOST_KINDS)
        self._lock = Lock()

    def filter(self, record: logging.LogRecord) -> bool | logging.LogRecord:  # type: ignore[override]
        """Whether the message is written; with a count where some were left out before it."""
        kind, minute = (record.name, str(record.msg)), int(time.time() // 60)
        with self._lock:
            count = self._counts.setdefault(kind, [minute, 0, 0])
            left_out = 0
            if count[0] != minute:
                left_out, count[:] = count[2], [minute, 0, 0]
            count[1] += 1
            if count[1] > self.lines:
                count[2] += 1
                return False
        if not left_out:
            return True
        counted = logging.makeLogRecord(record.__dict__)
        counted.msg, counted.args = f"{record.getMessage()} (and {left_out} like it left out)", ()
        return counted
