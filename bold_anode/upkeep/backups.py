"""Backups: a zip of PostgreSQL's own custom-format dump and a manifest of what it holds."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import tempfile
import zipfile
from pathlib import Path
from typing import Any

from django.apps import apps
from django.db import connection, transaction
from django.db.migrations.executor import MigrationExecutor
from django.utils import timezone

FORMAT = 1
_MANIFEST, _DUMP = "manifest.json", "database.dump"


class BackupRefused(Exception):
    """A backup cannot be made or put back; the message says why."""


def counts() -> dict[str, int]:
    """Rows by table, of all that the database has but the queue, which workers write to at any time."""
    queue = {model._meta.db_table for model in apps.get_app_config("procrastinate").get_models()}
    result = {}
    with connection.cursor() as cursor:
        for table in sorted(set(connection.introspection.table_names(cursor)) - queue):
            cursor.execute(f"SELECT count(*) FROM {connection.ops.quote_name(table)}")
            result[table] = cursor.fetchone()[0]
    return result


def holds_data() -> bool:
    """Whether there is an account in the database."""
    return counts().get("auth_user", 0) > 0


def _program(name: str) -> str:
    """PostgreSQL's client program, of the server's version or a later one. Raises BackupRefused."""
    wanted = connection.pg_version // 10000  # type: ignore[attr-defined]
    result = {int(path.parent.parent.name): str(path) for path in Path("/usr/lib/postgresql").glob(f"*/bin/{name}")}
    fitting = [version for version in result if version >= wanted]
    if fitting:
        return result[min(fitting)]
    anywhere = shutil.which(name)
    if anywhere:
        return anywhere
    raise BackupRefused(f"{name} of PostgreSQL {wanted} is missing: apt-get install postgresql-client-{wanted}")


def _surroundings() -> dict[str, str]:
    at: dict[str, Any] = connection.settings_dict
    names = {"PGHOST": "HOST", "PGPORT": "PORT", "PGUSER": "USER", "PGPASSWORD": "PASSWORD", "PGDATABASE": "NAME"}
    return os.environ | {ours: str(at[theirs]) for ours, theirs in names.items() if at.get(theirs)}


def _run(command: list[str], what: str) -> None:
    done = subprocess.run(command, env=_surroundings(), capture_output=True, text=True)
    if done.returncode:
        lines = [line for line in done.stderr.strip().splitlines() if line] or ["no reason given"]
        raise BackupRefused(f"{what} failed: {lines[-1]}")


def make(file: Path) -> dict[str, Any]:
    """Write a backup, whole or not at all; returns its manifest. Raises BackupRefused.

    What is counted and what is dumped are one and the same moment's.
    """
    if not file.parent.is_dir():
        raise BackupRefused(f"There is no folder {file.parent} to write {file.name} to.")
    program = _program("pg_dump")
    beside = file.with_name(f"{file.name}-making")
    with tempfile.TemporaryDirectory(dir=file.parent) as folder, transaction.atomic():
        dump = Path(folder) / _DUMP
        with connection.cursor() as cursor:
            cursor.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ")
            cursor.execute("SELECT pg_export_snapshot()")
            snapshot = cursor.fetchone()[0]
        manifest = {
            "format": FORMAT,
            "made_at": timezone.now().isoformat(timespec="seconds"),
            "postgresql": connection.pg_version,  # type: ignore[attr-defined]
            "migrations": sorted(".".join(key) for key in MigrationExecutor(connection).loader.applied_migrations),
            "counts": counts(),
        }
        _run(
            [program, "--format=custom", "--no-owner", "--no-acl", f"--snapshot={snapshot}", f"--file={dump}"],
            "Dumping the database",
        )
        with zipfile.ZipFile(beside, "w") as out:  # the dump is compressed already
            out.writestr(_MANIFEST, json.dumps(manifest, indent=1))
            out.write(dump, _DUMP)
        beside.chmod(0o600)
    beside.rename(file)
    return manifest


def manifest_of(file: Path) -> dict[str, Any]:
    """What a backup says of itself. Raises BackupRefused for what is none, or is of a later version than this."""
    try:
        with zipfile.ZipFile(file) as backup:
            manifest: dict[str, Any] = json.loads(backup.read(_MANIFEST))
            backup.getinfo(_DUMP)
    except FileNotFoundError:
        raise BackupRefused(f"There is no file {file}.") from None
    except (OSError, zipfile.BadZipFile, KeyError, ValueError):
        raise BackupRefused(f"{file} is no backup that ./start --backup made. Nothing was touched.") from None
    if not _is_manifest(manifest):
        raise BackupRefused(f"{file} does not say what it holds: its manifest is damaged. Nothing was touched.")
    loader = MigrationExecutor(connection).loader
    known = {".".join(key) for key in loader.disk_migrations} | {".".join(key) for key in loader.replacements}
    unknown = [name for name in manifest["migrations"] if name not in known]
    if manifest.get("format") != FORMAT or unknown:
        raise BackupRefused(
            f"{file} was made by a later version of Bold Anode than this one "
            f"({', '.join(unknown[:3]) or 'its format is unknown here'}). Nothing was touched."
        )
    return manifest


def _is_manifest(manifest: Any) -> bool:
    """Whether it has what a restore goes by: migrations by name, and a count of rows for each table."""
    if not isinstance(manifest, dict) or not isinstance(manifest.get("counts"), dict):
        return False
    names, counts_ = manifest.get("migrations"), manifest["counts"]
    return (
        isinstance(names, list)
        and all(isinstance(name, str) for name in names)
        and bool(counts_)
        and all(isinstance(count, int) for count in counts_.values())
        and isinstance(manifest.get("made_at"), str)
    )


def put_back(file: Path) -> dict[str, Any]:
    """Make the database what it was when a backup was made, all or nothing; returns the backup's manifest.

    Raises BackupRefused; then the database is as it was, unless the message says that rows are missing. Migrations
    are for the caller to apply.
    """
    manifest = manifest_of(file)
    restore, shell = _program("pg_restore"), _program("psql")
    with tempfile.TemporaryDirectory() as folder:
        with zipfile.ZipFile(file) as backup:
            dump = Path(backup.extract(_DUMP, folder))
        script = Path(folder) / "script.sql"
        _run([restore, "--no-owner", "--no-acl", f"--file={script}", str(dump)], "Reading the backup")
        begin = Path(folder) / "begin.sql"
        begin.write_text("DROP SCHEMA public CASCADE;\nCREATE SCHEMA public;\n")
        connection.close()
        _run(
            [shell, "--quiet", "--no-psqlrc", "--single-transaction", "--set=ON_ERROR_STOP=1", f"--file={begin}",
             f"--file={script}"],
            "Putting the backup back",
        )  # fmt: skip
    there = counts()
    off = {name: (count, there.get(name)) for name, count in manifest["counts"].items() if there.get(name) != count}
    if off:
        raise BackupRefused(f"After restoring, rows are missing: {off}.")
    return manifest


def of_before(folder: Path, why: str) -> Path:
    """A backup in the folder kept for them, named by when and why it was made. Raises BackupRefused."""
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    now = timezone.now()
    names = (f"{now:%Y-%m-%d-%H%M%S}{f'-{count}' if count else ''}-before-{why}.backup" for count in range(1000))
    file = next(folder / name for name in names if not (folder / name).exists())
    make(file)
    return file
