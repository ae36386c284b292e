"""What is cleared away by itself, every hour."""

from __future__ import annotations

from datetime import timedelta

from axes.models import AccessAttempt
from django.core.management import call_command
from django.utils import timezone
from procrastinate.contrib.django import app

from bold_anode.accounts import operations

KEPT = timedelta(days=7)


@app.periodic(cron="17 * * * *")
@app.task(name="tidy", queueing_lock="tidy")
def tidy(timestamp: int) -> None:
    """Sessions that have run out, and wrong passwords of long ago."""
    call_command("clearsessions")
    operations.tidy()
    AccessAttempt.objects.filter(attempt_time__lt=timezone.now() - KEPT).delete()
