"""Make an invitation: the address at which one account can be made."""

from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand
from django.urls import reverse

from bold_anode.accounts.models import Invitation
from bold_anode.accounts.operations import invite


class Command(BaseCommand):
    """./start --invite."""

    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        address = f"{reverse('sign-up')}?invitation={invite().token}"
        scheme = "https" if settings.SESSION_COOKIE_SECURE else "http"
        self.stdout.write(f"{scheme}://{settings.ALLOWED_HOSTS[0]}{address}")
        self.stdout.write(f"It makes one account, within {Invitation.VALID.days} days.")
