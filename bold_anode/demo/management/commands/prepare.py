"""Make the database and the static files ready to serve; in demo mode, load the demo workshop once."""

from typing import Any

from django.conf import settings
from django.core.management import CommandError, call_command
from django.core.management.base import BaseCommand
from django.db.utils import OperationalError

from bold_anode.demo.workshop import load_demo
from thermionic import compiled


class Command(BaseCommand):
    """What ./start runs before it serves."""

    help = __doc__

    def add_arguments(self, parser: Any) -> None:
        parser.add_argument("--fresh-demo", action="store_true", help="put the demo workshop back as it was made")

    def handle(self, *args: Any, **options: Any) -> None:
        compiled.forget_older()
        try:
            call_command("migrate", verbosity=0, interactive=False)
        except OperationalError as fault:
            raise CommandError(f"The database cannot be reached: {str(fault).splitlines()[0]}") from None
        call_command("collectstatic", verbosity=0, interactive=False, clear=True)
        if settings.DEMO_MODE or options["fresh_demo"]:
            load_demo(fresh=options["fresh_demo"])
