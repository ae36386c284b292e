"""What is kept of accounts beside Django's own: who is signed in where, invitations, sign-ups."""

from __future__ import annotations

import secrets
from datetime import timedelta

from django.conf import settings
from django.contrib.sessions.backends.base import SessionBase
from django.contrib.sessions.base_session import AbstractBaseSession
from django.db import models


class SignedIn(AbstractBaseSession):
    """A session of one browser; ``account`` is who is signed in there, None before that. It ends with its row, in
    whichever process the next request arrives."""

    account = models.ForeignKey(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.CASCADE, related_name="signed_in"
    )

    @classmethod
    def get_session_store_class(cls) -> type[SessionBase]:
        """What reads and writes it."""
        from bold_anode.accounts.sessions import SessionStore

        return SessionStore


def _token() -> str:
    return secrets.token_urlsafe(24)


class Invitation(models.Model):
    """Leave to make one account. Gone once it is used, or after VALID."""

    VALID = timedelta(days=14)

    token = models.CharField(max_length=40, unique=True, default=_token)
    made_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return f"of {self.made_at:%Y-%m-%d}"


class SignUpFrom(models.Model):
    """An account was made from an address; kept for an hour, to count them."""

    address = models.GenericIPAddressField(db_index=True)
    made_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return self.address


class Upload(models.Model):
    """An export that somebody sent, until a worker has read it; it goes in the same transaction that stores what it
    holds."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="uploads")
    name = models.CharField(max_length=80)
    content = models.BinaryField()
    made_at = models.DateTimeField(auto_now_add=True)

    def __str__(self) -> str:
        return self.name
