"""What the forms of Chassis send, read into SI units and plain values; nothing here knows of requests or layouts."""

from __future__ import annotations

import json
import math

from thermionic.chassis.document import LayoutRefused
from thermionic.errors import ValueRefused
from thermionic.values import Quantity, read

_MOST_KEYS = 400
_LONGEST = 10.0  # m, that anything on a chassis measures


def length(typed: str) -> float | None:
    """A length typed in mm, or with its unit, in m, of either sign; None for nothing. Raises LayoutRefused."""
    if not typed.strip():
        return None
    try:
        metres = read(typed, Quantity.LENGTH, bare=1e-3)
    except ValueRefused:
        metres = math.inf
    if abs(metres) > _LONGEST:
        raise LayoutRefused(
            f"“{typed.strip()[:20]}” is not a length. "
            "Enter one in mm, for example 120, or with its unit: 12 cm, 4.7 in."
        )
    return metres


def number(typed: str) -> float | None:
    """A number; None for nothing. Raises LayoutRefused."""
    if not typed.strip():
        return None
    try:
        value = float(typed.replace(",", "."))
    except ValueError:
        value = math.nan
    if not math.isfinite(value):
        raise LayoutRefused(f"“{typed.strip()[:20]}” is not a number. Enter one like 12.5.")
    return value


def keys(typed: str) -> list[str]:
    """A list of keys as the page sends it; nothing for anything else."""
    try:
        sent = json.loads(typed or "[]")
    except (ValueError, RecursionError):
        return []
    return [key for key in sent if isinstance(key, str)][:_MOST_KEYS] if isinstance(sent, list) else []


def bends(typed: str) -> list[tuple[float, float]] | None:
    """The bends of a wire as the page sends them, [[x, y], ...] in mm; None for nothing. Raises LayoutRefused."""
    if not typed.strip():
        return None
    try:
        return [(float(x) / 1e3, float(y) / 1e3) for x, y in json.loads(typed)]
    except (ValueError, TypeError, RecursionError, OverflowError):
        raise LayoutRefused("The bends of a wire are places in millimetres: [[120, 40], [120, 90]].") from None
