"""The forms for a new account and for another password."""

from __future__ import annotations

from typing import Any

from django import forms
from django.contrib.auth import authenticate
from django.contrib.auth.forms import PasswordChangeForm, UserCreationForm
from django.core.validators import RegexValidator
from django.http import HttpRequest


class SignUp(UserCreationForm):  # type: ignore[type-arg]
    """Django's own, with names that cannot be taken for another's."""

    username = forms.CharField(
        max_length=60,
        strip=True,
        widget=forms.TextInput(attrs={"autocapitalize": "none", "autocomplete": "username"}),
        validators=[
            RegexValidator(
                r"\A[A-Za-z0-9][A-Za-z0-9._-]*\Z",
                "A name has letters a to z, digits, dots, hyphens, underscores, and begins with a letter or digit.",
            )
        ],
    )


def is_password(request: Any, password: str) -> bool:
    """Whether it is the password of whoever is signed in. A wrong one counts as one at the sign-in page does, and
    after too many the right one is refused for as long as there."""
    return authenticate(request, username=request.user.get_username(), password=password) is not None


class ChangePassword(PasswordChangeForm):
    """Django's own, which cannot be used to guess a password."""

    def __init__(self, request: HttpRequest, data: Any = None) -> None:
        self.request = request
        super().__init__(request.user, data)  # type: ignore[arg-type]

    def clean_old_password(self) -> str:
        """The old password. Raises ValidationError for a wrong one."""
        password: str = self.cleaned_data["old_password"]
        if not is_password(self.request, password):
            raise forms.ValidationError("That is not your password.", code="password_incorrect")
        return password

    def save(self, commit: bool = True) -> Any:
        """Keep the new password, and nothing else of the account."""
        self.user.set_password(self.cleaned_data["new_password1"])
        self.user.save(update_fields=["password"])
        return self.user
