"""Bounds of what is stored: declared once, in the model, held by the database, and checked before anything is saved,
whether it was typed or came in a file."""

from __future__ import annotations

import math
from datetime import UTC, datetime
from typing import Any

from django.core.exceptions import ValidationError
from django.db import models

from thermionic.errors import ValueRefused

# Moments that anything stored can be of.
EARLIEST, LATEST = datetime(1990, 1, 1, tzinfo=UTC), datetime(2200, 1, 1, tzinfo=UTC)
MOST_NUMBER = 1_000_000  # of revisions or states of one thing


class Between(models.CheckConstraint):
    """A check constraint of the database on one field, from ``low`` to ``high``; an empty field passes."""

    def __init__(self, field: str, low: Any, high: Any) -> None:
        self.field, self.low, self.high = field, low, high
        inside = models.Q(**{f"{field}__gte": low, f"{field}__lte": high})
        super().__init__(condition=inside, name=f"%(app_label)s_%(class)s_{field}_bounds")

    def refusal(self, row: models.Model) -> str:
        """What is wrong with a row's field, in a sentence; "" where nothing is."""
        value = getattr(row, self.field)
        if value is None or self.low <= value <= self.high:
            return ""
        bounds = f"from {_written(self.low)} to {_written(self.high)}"
        return f"{_words(self.field)} is {_written(value)}; it must be {bounds}."

    def deconstruct(self) -> tuple[str, Any, dict[str, Any]]:
        """As the plain constraint that it is to a migration."""
        return "django.db.models.CheckConstraint", (), {"condition": self.condition, "name": self.name}

    def clone(self) -> Between:
        """The same; Django gives each model one of its own, with its name filled in."""
        copy = Between(self.field, self.low, self.high)
        copy.name = self.name
        return copy


def moments(*fields: str) -> list[models.BaseConstraint]:
    """Constraints on fields that hold a date and time."""
    return [Between(field, EARLIEST, LATEST) for field in fields]


class Checked(models.Model):
    """A row that is saved only within its bounds."""

    stands_alone = False  # whether its owner can remove it by itself, though it cannot be read

    class Meta:
        abstract = True

    def save(self, *args: Any, **options: Any) -> None:
        """Save it. Raises ValueRefused where it is out of its bounds."""
        self.check_bounds()
        super().save(*args, **options)

    def check_bounds(self) -> None:
        """Raise ValueRefused for the first field that is out of its bounds, too long, or none of its choices."""
        for field in self._meta.concrete_fields:
            value = getattr(self, field.attname)
            if field.is_relation or field.primary_key or value is None:
                continue
            if isinstance(value, float) and not math.isfinite(value):
                raise ValueRefused(f"{_words(field.name)} is {value}, which is no number that can be kept.")
            if field.choices and value not in dict(field.flatchoices):
                raise ValueRefused(f"{_words(field.name)} is none of {', '.join(dict(field.flatchoices))}.")
            try:
                field.run_validators(value)
            except ValidationError as fault:
                raise ValueRefused(f"{_words(field.name)}: {' '.join(fault.messages)}") from None
        for constraint in self._meta.constraints:
            refusal = constraint.refusal(self) if isinstance(constraint, Between) else ""
            if refusal:
                raise ValueRefused(refusal)

    def check_content(self) -> None:
        """Raise ThermionicError where its documents cannot be read or shown; for a row that came in a file."""


def _words(field: str) -> str:
    return field.replace("_", " ").capitalize()


def _written(value: Any) -> str:
    return f"{value:%Y-%m-%d}" if isinstance(value, datetime) else f"{value:g}"


def repaired_moments(app: str, **fields: str) -> Any:
    """A migration's step: what is stored of dates before EARLIEST or after LATEST becomes the bound; such a row could
    not be read at all. ``fields`` has the fields' names by model, with blanks between."""
    from django.db import migrations

    def repair(apps: Any, schema_editor: Any) -> None:
        for model, names in fields.items():
            rows = apps.get_model(app, model).objects
            for name in names.split():
                rows.filter(**{f"{name}__lt": EARLIEST}).update(**{name: EARLIEST})
                rows.filter(**{f"{name}__gt": LATEST}).update(**{name: LATEST})

    return migrations.RunPython(repair, migrations.RunPython.noop)
