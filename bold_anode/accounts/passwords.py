"""How passwords are kept, and which are taken."""

from __future__ import annotations

from typing import Any

from django.contrib.auth.hashers import Argon2PasswordHasher
from django.core.exceptions import ValidationError

_FEWEST_CHARACTERS = 4


class Argon2(Argon2PasswordHasher):
    """Argon2id with 19 MiB and two passes, so that many sign-ins at once fit into a small machine's memory.

    Source: OWASP, *Password Storage Cheat Sheet* (2023), "Argon2id".
    """

    time_cost = 2
    memory_cost = 19 * 1024
    parallelism = 1


class Varied:
    """A password of blanks, or of one character over and over, is none."""

    def validate(self, password: str, user: Any = None) -> None:
        """Raise ValidationError for one with hardly any different characters."""
        if len(set(password) - {" ", "\t"}) < _FEWEST_CHARACTERS:
            raise ValidationError(self.get_help_text(), code="password_monotonous")

    def get_help_text(self) -> str:
        """What is asked of a password."""
        return f"At least {_FEWEST_CHARACTERS} different characters other than blanks."
