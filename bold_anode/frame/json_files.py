"""JSON from outside: limited by what its bytes show before it is parsed, and read as plain data."""

from __future__ import annotations

import json
import math
from typing import Any

import numpy as np

from thermionic.errors import DesignRefused
from thermionic.text import all_readable

MOST_DEPTH = 100
# Of values in a file: a design has one for every twenty bytes.
LEAST_BYTES_A_VALUE = 6
FREE_VALUES = 10_000
_STEP = 1 << 20


def read_json(name: str, content: bytes) -> Any:
    """The data in a file called ``name``. Raises DesignRefused where it nests too deep, holds too many values for its
    length, or is not JSON with finite numbers and readable text."""
    values = sum(content.count(mark) for mark in (b",", b"[", b"{"))
    if values > FREE_VALUES + len(content) // LEAST_BYTES_A_VALUE:
        raise DesignRefused(
            f"{name} holds {values} values in {len(content) / 1e6:.1f} MB: it is no export of a workshop."
        )
    if _depth(content) > MOST_DEPTH:
        raise DesignRefused(f"{name} nests more than {MOST_DEPTH} levels deep; an export has some ten.")
    try:
        data = json.loads(content, parse_constant=_refused, parse_float=_finite)
    except RecursionError:
        raise DesignRefused(f"{name} nests too deep.") from None
    except ValueError as fault:
        raise DesignRefused(f"{name} is not JSON: {str(fault)[:120]}.") from None
    all_readable(data)
    return data


def _refused(constant: str) -> None:
    raise DesignRefused(f"The file holds {constant}, which is no number.")


def _finite(digits: str) -> float:
    value = float(digits)
    if not math.isfinite(value):
        raise DesignRefused(f"The file holds {digits[:20]}, which is larger than any number that is kept.")
    return value


def _depth(content: bytes) -> int:
    """How deep brackets nest, those within text counted too."""
    deepest = level = 0
    for start in range(0, len(content), _STEP):
        piece = np.frombuffer(content, np.uint8, min(_STEP, len(content) - start), start)
        opening, closing = (piece == ord("[")) | (piece == ord("{")), (piece == ord("]")) | (piece == ord("}"))
        levels = level + np.cumsum(opening.astype(np.int32) - closing)
        deepest, level = max(deepest, int(levels.max())), int(levels[-1])
    return deepest
