"""Reading what an address or a form says."""

from __future__ import annotations

import re

_WHOLE = re.compile(r"[0-9]{1,9}", re.ASCII)


def whole_number(text: str) -> int | None:
    """A number of at most nine digits; None for anything else."""
    return int(text) if _WHOLE.fullmatch(text) else None
