"""What an export of an account carries: each app registers its own part, as schemas and functions."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from pydantic import BaseModel, ConfigDict, TypeAdapter, ValidationError

from bold_anode.frame.bounds import Checked
from thermionic.errors import DesignRefused, ThermionicError


class Carried(BaseModel):
    """What is in the files of an export; anything else is refused."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)


@dataclass(frozen=True)
class AccountPart:
    """A file of an export.

    ``pack`` gives a user's data as plain data; ``schema`` is the type that it is read as; ``store`` puts what was
    read into a user's workshop, beside what is there, and returns how many things came; ``things`` is what they are
    called in the manifest and to the user, "" for what is not counted; ``forget`` deletes a user's. An export without
    the file has ``empty``.
    """

    file: str
    schema: Any
    empty: Any
    pack: Callable[[Any], Any]
    store: Callable[[Any, Any], int]
    forget: Callable[[Any], None]
    things: str = ""
    needed: bool = False


@dataclass(frozen=True)
class ProjectPart:
    """What a project carries in its file under some keys, beside its revisions.

    ``pack`` gives the keys with plain data for a project, ``store`` puts what was read of them into a project; both
    are given the revisions' numbers, by key, or the revisions, by number. ``copy`` gives a copy of a project what the
    original has of it, where it goes along; ``forget`` deletes a project's, where that does not go with the project.
    """

    schema: type[Carried]
    pack: Callable[[Any, dict[int, int]], dict[str, Any]]
    store: Callable[[Any, dict[int, Any], Any], None]
    copy: Callable[[Any, Any], None] = lambda original, copy: None
    forget: Callable[[Any], None] = lambda project: None


_account_parts: dict[str, AccountPart] = {}
_project_parts: list[ProjectPart] = []


def register(*parts: AccountPart | ProjectPart) -> None:
    """Add parts; called once by each app."""
    for part in parts:
        if isinstance(part, ProjectPart):
            _project_parts.append(part)
        else:
            assert part.file not in _account_parts, f"two parts of an export are called {part.file}"
            _account_parts[part.file] = part


def account_parts() -> list[AccountPart]:
    """The files of an export, in the order that they were registered in."""
    return list(_account_parts.values())


def project_parts() -> list[ProjectPart]:
    """What a project carries."""
    return list(_project_parts)


def read(where: str, schema: Any, data: Any) -> Any:
    """Plain data as a schema's type. Raises DesignRefused with where it does not fit, and why."""
    try:
        return TypeAdapter(schema).validate_python(data)
    except ValidationError as fault:
        first = fault.errors()[0]
        place = ".".join(str(step) for step in first["loc"])
        raise DesignRefused(f"{where}, {place or 'at its top'}: {first['msg']}.") from None
    except RecursionError:
        raise DesignRefused(f"{where} nests too deep.") from None


def checked(row: Checked) -> Checked:
    """A row that came in a file, within its bounds and with what it holds read. Raises DesignRefused."""
    try:
        row.check_bounds()
        row.check_content()
    except ThermionicError as refusal:
        words = f"{type(row)._meta.verbose_name} {str(row)[:60]}: {refusal}"
        raise DesignRefused(f"{words.rstrip('.')}.") from None
    return row


def stored(row: Checked, **moments: datetime | None) -> Any:
    """The row, checked and saved with the moments that are set by themselves as they were. Raises DesignRefused."""
    for name, moment in moments.items():
        setattr(row, name, moment)
    checked(row)
    row.save(force_insert=True)
    type(row)._default_manager.filter(pk=row.pk).update(**moments)
    return row


def when(moment: datetime | None) -> str | None:
    """A moment as it is carried."""
    return moment.isoformat() if moment else None
