"""Sessions in the database, each with the account that it belongs to, so that all of an account can be ended."""

from __future__ import annotations

from typing import Any

from django.contrib.auth import SESSION_KEY
from django.contrib.sessions.backends.db import SessionStore as InDatabase

from bold_anode.accounts.models import SignedIn


class SessionStore(InDatabase):
    """Django's own, which writes down whose session it is. No process keeps a copy: a session that has ended is
    refused by all at once."""

    @classmethod
    def get_model_class(cls) -> type[Any]:
        """The table."""
        return SignedIn

    def create_model_instance(self, data: dict[str, Any]) -> Any:
        """The row to be stored."""
        row: Any = super().create_model_instance(data)
        row.account_id = data.get(SESSION_KEY)
        return row
