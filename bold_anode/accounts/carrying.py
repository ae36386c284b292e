"""A whole account as one zip, and back: its projects, and the files that apps register."""

from __future__ import annotations

import io
import json
import zipfile
import zlib
from typing import Any

from django.db import transaction
from django.utils import timezone

from bold_anode.amps import carrying as projects
from bold_anode.amps.models import Project
from bold_anode.frame.carried import account_parts, read
from bold_anode.frame.json_files import read_json
from bold_anode.frame.owned import alone
from thermionic.errors import DesignRefused

FORMAT = 1
MOST_BYTES = 200_000_000  # unpacked, of all files
MOST_BYTES_A_FILE = 100_000_000
MOST_FILES = 5_000
_MANIFEST, _PROJECTS = "manifest.json", "projects/"
_DAMAGED = (zipfile.BadZipFile, OSError, EOFError, ValueError, NotImplementedError)
_NO_EXPORT = "The file is no export of a workshop: choose the .zip that Export everything gave."


def packed(user: Any) -> bytes:
    """Everything in a user's workshop as a zip."""
    out = io.BytesIO()
    manifest: dict[str, Any] = {"format": FORMAT, "made_at": timezone.now().isoformat(timespec="seconds")}
    with transaction.atomic(), zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        rows = Project.objects.filter(owner=user).order_by("pk")
        manifest["projects"] = len(rows)
        for place, project in enumerate(rows, start=1):
            made.writestr(f"{_PROJECTS}{place:04d}.json", _text(projects.packed(project)))
        for part in account_parts():
            data = part.pack(user)
            made.writestr(part.file, _text(data))
            if part.things:
                manifest[part.things] = len(data)
        made.writestr(_MANIFEST, _text(manifest))
    return out.getvalue()


def _text(data: Any) -> str:
    return json.dumps(data, indent=1, ensure_ascii=False) + "\n"


def unpack(user: Any, content: Any) -> dict[str, int]:
    """Put an export into a user's workshop, beside what is there: how many things of each kind came.

    All or nothing. Raises DesignRefused.
    """
    try:
        given = zipfile.ZipFile(content)
    except _DAMAGED:
        raise DesignRefused(_NO_EXPORT) from None
    with given, alone(user):
        return _unpack(user, given)


def _json(given: zipfile.ZipFile, name: str) -> Any:
    """What a file of the zip holds. Raises DesignRefused for one that is missing, locked, damaged or not JSON."""
    try:
        content = given.read(name)
    except (*_DAMAGED, zlib.error, KeyError, RuntimeError):
        raise DesignRefused(_NO_EXPORT) from None
    return read_json(name, content)


def _unpack(user: Any, given: zipfile.ZipFile) -> dict[str, int]:
    _limit(given)
    manifest = _json(given, _MANIFEST)
    if not isinstance(manifest, dict) or manifest.get("format") != FORMAT:
        raise DesignRefused("The file was exported by a later version of Bold Anode than this one.")
    came = {"projects": 0}
    schema = projects.schema()
    there = set(given.namelist())
    for name in sorted(name for name in there if name.startswith(_PROJECTS)):
        # One at a time, so that no more than one is in memory.
        projects.store(user, read(name, schema, _json(given, name)))
        came["projects"] += 1
    for part in account_parts():
        data = _json(given, part.file) if part.needed or part.file in there else part.empty
        count = part.store(user, read(part.file, part.schema, data))
        if part.things:
            came[part.things] = count
    return came


def _limit(given: zipfile.ZipFile) -> None:
    """Raise DesignRefused for what unpacks to more than is read, or is in the file twice."""
    sizes = [one.file_size for one in given.filelist]
    if len(sizes) > MOST_FILES or sum(sizes) > MOST_BYTES or max(sizes, default=0) > MOST_BYTES_A_FILE:
        raise DesignRefused(
            f"The file unpacks to more than {MOST_FILES} files, {MOST_BYTES_A_FILE / 1e6:.0f} MB in one, or "
            f"{MOST_BYTES / 1e6:.0f} MB in all, which is more than is read."
        )
    if len(set(given.namelist())) < len(sizes):
        raise DesignRefused("The file holds two files of one name.")
