"""Make the database and the static files ready to serve; in demo mode, load the demo workshop once."""

import shutil
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management import CommandError, call_command
from django.core.management.base import BaseCommand
from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.db.utils import OperationalError

from bold_anode.demo.workshop import load_demo
from bold_anode.upkeep import backups
from thermionic import compiled


class Command(BaseCommand):
    """What ./start runs before it serves."""

    help = __doc__

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("--fresh-demo", action="store_true", help="put the demo workshop back as it was made")

    def handle(self, *args: Any, **options: Any) -> None:
        compiled.forget_older()
        compiled.make_ready()
        try:
            self._migrate()
        except OperationalError as fault:
            raise CommandError(f"The database cannot be reached: {str(fault).splitlines()[0]}") from None
        self._collect(Path(settings.STATIC_ROOT))
        if settings.DEMO_MODE or options["fresh_demo"]:
            load_demo(fresh=options["fresh_demo"])

    def _migrate(self) -> None:
        """Apply what migrations are missing; a database that holds data is backed up before."""
        executor = MigrationExecutor(connection)
        if not executor.migration_plan(executor.loader.graph.leaf_nodes()):
            return
        if backups.holds_data():
            try:
                kept = backups.of_before(settings.BACKUPS, "update")
            except backups.BackupRefused as refusal:
                raise CommandError(f"Before the database is brought up to date it is backed up. {refusal}") from None
            self.stdout.write(f"The database is brought up to date; as it was, it is kept in {kept}")
        call_command("migrate", verbosity=0, interactive=False)

    def _collect(self, place: Path) -> None:
        """The static files, gathered beside their place and moved there when they are whole."""
        beside, aside = place.with_name(f"{place.name}-making"), place.with_name(f"{place.name}-old")
        for folder in (beside, aside):
            shutil.rmtree(folder, ignore_errors=True)
        settings.STATIC_ROOT = beside
        call_command("collectstatic", verbosity=0, interactive=False)
        if place.exists():
            place.rename(aside)
        beside.rename(place)
        shutil.rmtree(aside, ignore_errors=True)
