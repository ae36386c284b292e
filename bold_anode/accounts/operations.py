"""Every change to accounts."""

from __future__ import annotations

import zlib
from datetime import timedelta
from ipaddress import ip_address
from typing import Any

from django.conf import settings
from django.contrib.auth.models import User
from django.db import connection, transaction
from django.utils import timezone

from bold_anode.accounts.forms import SignUp
from bold_anode.accounts.models import Invitation, SignedIn, SignUpFrom
from bold_anode.amps.operations import forget_projects
from bold_anode.demo.account import DEMO_USER
from thermionic.errors import ValueRefused

SIGN_UPS_AN_HOUR = 10
OPEN, BY_INVITATION, CLOSED = "open", "invitation", "closed"
WAYS = (OPEN, BY_INVITATION, CLOSED)
_HOUR = timedelta(hours=1)


def may_sign_up(token: str) -> str:
    """Why nobody makes an account here with this invitation, in a sentence; "" where they may."""
    if settings.SIGN_UP == CLOSED:
        return "Nobody makes an account here. Ask whoever runs this workshop for one."
    if settings.SIGN_UP == BY_INVITATION and not _invitations(token).exists():
        return (
            "An account is made here with an invitation: open the link that you were given. Each works once, and for "
            f"{Invitation.VALID.days} days."
        )
    return ""


def _invitations(token: str) -> Any:
    return Invitation.objects.filter(token=token[:60], made_at__gte=timezone.now() - Invitation.VALID)


def invite() -> Invitation:
    """A new invitation."""
    return Invitation.objects.create()


@transaction.atomic
def sign_up(form: SignUp, token: str = "", address: str = "127.0.0.1") -> User | None:
    """The account that a form asks for; None if the form is refused, with its reasons in it.

    ``address`` is the client's; a machine other than this one makes SIGN_UPS_AN_HOUR at most. Raises ValueRefused
    where nobody may sign up so.
    """
    # Two who want one name at the same moment, in whatever case, come one after the other; two from one address, too.
    name = str(form.data.get("username", "")).strip().casefold()
    with connection.cursor() as cursor:
        for lock in sorted(zlib.crc32(text.encode("utf-8", "replace")) - 2**31 for text in (name, address)):
            cursor.execute("SELECT pg_advisory_xact_lock(1, %s)", [lock])
    refusal = may_sign_up(token)
    if refusal:
        raise ValueRefused(refusal)
    lately = SignUpFrom.objects.filter(made_at__gte=timezone.now() - _HOUR, address=address)
    counts = not ip_address(address).is_loopback
    if counts and lately.count() >= SIGN_UPS_AN_HOUR:
        raise ValueRefused(f"{SIGN_UPS_AN_HOUR} accounts were made from your address in an hour. Wait an hour.")
    if not form.is_valid():
        return None
    if settings.SIGN_UP == BY_INVITATION and not _invitations(token).delete()[0]:
        raise ValueRefused("That invitation was used at this very moment. Ask for another.")
    if counts:
        SignUpFrom.objects.create(address=address)
    made: User = form.save()
    return made


def sign_out_everywhere(user: Any) -> int:
    """End every session of an account, in all browsers; how many there were."""
    return SignedIn.objects.filter(account=user).delete()[0]


@transaction.atomic
def delete_account(user: Any) -> None:
    """Delete an account with everything in it, for good."""
    forget_projects(user)
    user.delete()


def is_demo(user: Any) -> bool:
    """Whether it is the account that everybody has the password of."""
    return settings.DEMO_MODE and user.get_username() == DEMO_USER


def tidy() -> None:
    """Delete invitations that are no longer valid and sign-ups that no longer count."""
    now = timezone.now()
    Invitation.objects.filter(made_at__lt=now - Invitation.VALID).delete()
    SignUpFrom.objects.filter(made_at__lt=now - _HOUR).delete()
