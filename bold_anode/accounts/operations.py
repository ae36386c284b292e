"""Every change to accounts."""

from __future__ import annotations

import zlib
from typing import Any

from django.conf import settings
from django.db import connection, transaction

from bold_anode.accounts.forms import SignUp
from bold_anode.amps.operations import forget_projects
from bold_anode.demo.account import DEMO_USER


@transaction.atomic
def sign_up(form: SignUp) -> Any:
    """The account that a form asks for; None if the form is refused, with its reasons in it."""
    # Two who want one name at the same moment, in whatever case, come one after the other.
    name = str(form.data.get("username", "")).strip().casefold()
    with connection.cursor() as cursor:
        number = zlib.crc32(name.encode("utf-8", "replace")) - 2**31
        cursor.execute("SELECT pg_advisory_xact_lock(1, %s)", [number])
    return form.save() if form.is_valid() else None


@transaction.atomic
def delete_account(user: Any) -> None:
    """Delete an account with everything in it, for good."""
    forget_projects(user)
    user.delete()


def is_demo(user: Any) -> bool:
    """Whether it is the account that everybody has the password of."""
    return settings.DEMO_MODE and user.get_username() == DEMO_USER
