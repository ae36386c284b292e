"""Signing in, out and up, with Django's own accounts."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.contrib.auth import login
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.forms import UserCreationForm
from django.contrib.auth.views import LoginView
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render

from bold_anode.demo.account import DEMO_PASSWORD, DEMO_USER


class SignIn(LoginView):
    """The sign-in page; in demo mode it shows the demo account."""

    template_name = "accounts/sign_in.html"
    redirect_authenticated_user = True

    def get_context_data(self, **kwargs: Any) -> dict[str, Any]:
        demo = {"user": DEMO_USER, "password": DEMO_PASSWORD} if settings.DEMO_MODE else None
        return super().get_context_data(demo=demo, **kwargs)


@login_not_required
def sign_up(request: HttpRequest) -> HttpResponse:
    """A new account, signed in at once."""
    form = UserCreationForm(request.POST or None)
    if request.method == "POST" and form.is_valid():
        login(request, form.save())
        return redirect("workshop")
    return render(request, "accounts/sign_up.html", {"form": form})
