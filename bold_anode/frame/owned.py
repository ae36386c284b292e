"""Rows that belong to a user."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from django.contrib.auth import get_user_model
from django.db import models, transaction


class OfUser(models.QuerySet[Any]):
    """Queries that stay within one user's workshop."""

    def of(self, user: Any) -> OfUser:
        """Those of a user."""
        return self.filter(owner=user)


@contextmanager
def alone(user: Any) -> Iterator[None]:
    """A transaction in which nobody else is in such a one for the same account: what is counted or looked up within
    still holds when it is stored."""
    with transaction.atomic():
        list(get_user_model().objects.select_for_update(no_key=True).filter(pk=user.pk).values_list("pk"))
        yield
