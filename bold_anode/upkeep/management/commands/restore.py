"""Put back what a backup holds; what is in the database now is backed up first."""

import sys
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management import CommandError, call_command
from django.core.management.base import BaseCommand

from bold_anode.upkeep import backups


class Command(BaseCommand):
    """./start --restore FILE."""

    help = __doc__

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("file", type=Path)
        parser.add_argument("--yes", action="store_true")

    def handle(self, *args: Any, **options: Any) -> None:
        try:
            manifest = backups.manifest_of(options["file"])
            if backups.holds_data():
                self._ask(manifest, sure=options["yes"])
                kept = backups.of_before(settings.BACKUPS, "restore")
                self.stdout.write(f"What was there is kept in {kept}")
            backups.put_back(options["file"])
        except backups.BackupRefused as refusal:
            raise CommandError(str(refusal)) from None
        call_command("migrate", verbosity=0, interactive=False)
        held = manifest["counts"]
        self.stdout.write(
            f"Restored as of {manifest['made_at']}: {held.get('auth_user', 0)} accounts, "
            f"{held.get('amps_project', 0)} projects, {held.get('amps_revision', 0)} revisions."
        )

    def _ask(self, manifest: dict[str, Any], *, sure: bool) -> None:
        if sure:
            return
        now = backups.counts()
        self.stdout.write(
            f"The database holds {now.get('auth_user', 0)} accounts and {now.get('amps_project', 0)} projects. They "
            f"are backed up first, and then replaced by the state of {manifest['made_at']}."
        )
        if not sys.stdin.isatty():
            raise CommandError("Nothing was touched. Add --yes to restore over it.")
        if input("Type restore to go on: ").strip() != "restore":
            raise CommandError("Nothing was touched.")
