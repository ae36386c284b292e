"""Work on the tasks of the database until told to stop."""

from typing import Any

from django.core.management.base import BaseCommand
from procrastinate.contrib.django import app
from procrastinate.contrib.django.django_connector import DjangoConnector


class Command(BaseCommand):
    """One worker process; ./start runs as many as there is use for."""

    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        connector = app.connector
        assert isinstance(connector, DjangoConnector)
        with app.replace_connector(connector.get_worker_connector()):
            app.run_worker(
                concurrency=1,
                shutdown_graceful_timeout=0.5,
                update_heartbeat_interval=5,
                stalled_worker_timeout=20,
                delete_jobs="successful",
            )
