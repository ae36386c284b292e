"""Lists of what is stored, of which a row that cannot be read never breaks the rest."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

from django.db import models

from thermionic.errors import ThermionicError

_log = logging.getLogger("bold_anode.rows")


@dataclass(frozen=True)
class Unreadable:
    """A row that cannot be shown: which, its name, and why."""

    model: str
    pk: int
    name: str
    reason: str


def each(rows: Iterable[Any], make: Callable[[Any], Any]) -> tuple[list[Any], list[Unreadable]]:
    """What ``make`` makes of each row, and the rows of which it could make nothing."""
    made, unreadable = [], []
    for row in rows:
        try:
            made.append(make(row))
        except Exception as fault:
            unreadable.append(Unreadable(row._meta.label_lower, row.pk, _name(row), _why(row, fault)))
    return made, unreadable


def _name(row: models.Model) -> str:
    try:
        return str(row)[:60] or "no name"
    except Exception:
        return "no name"


def _why(row: models.Model, fault: Exception) -> str:
    if isinstance(fault, ThermionicError):
        return str(fault)[:300]
    _log.warning("%s %s cannot be shown: %r", row._meta.label, row.pk, fault)
    return "What is stored of it does not fit together."
