"""Rows that belong to a user."""

from __future__ import annotations

from typing import Any

from django.db import models


class OfUser(models.QuerySet[Any]):
    """Queries that stay within one user's workshop."""

    def of(self, user: Any) -> OfUser:
        """Those of a user."""
        return self.filter(owner=user)
