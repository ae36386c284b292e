"""The form for a new account."""

from __future__ import annotations

from django import forms
from django.contrib.auth.forms import UserCreationForm
from django.core.validators import RegexValidator


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
