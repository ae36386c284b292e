"""Write everything that is stored to a file."""

from pathlib import Path
from typing import Any

from django.core.management import CommandError
from django.core.management.base import BaseCommand

from bold_anode.upkeep import backups


class Command(BaseCommand):
    """./start --backup FILE."""

    help = __doc__

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("file", type=Path)

    def handle(self, *args: Any, **options: Any) -> None:
        try:
            manifest = backups.make(options["file"])
        except backups.BackupRefused as refusal:
            raise CommandError(str(refusal)) from None
        held = manifest["counts"]
        self.stdout.write(
            f"{options['file']}: {held.get('auth_user', 0)} accounts, {held.get('amps_project', 0)} projects, "
            f"{held.get('amps_revision', 0)} revisions, {held.get('powerup_reading', 0)} readings."
        )
