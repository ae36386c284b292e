"""Accounts: signing in, out and up; the password; everything out as one file, and in again; the end."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.contrib import messages
from django.contrib.auth import login, logout, update_session_auth_hash
from django.contrib.auth.decorators import login_not_required
from django.contrib.auth.forms import AuthenticationForm
from django.contrib.auth.views import LoginView
from django.http import HttpResponse
from django.shortcuts import redirect, render
from django.utils import timezone
from django.views.decorators.debug import sensitive_post_parameters
from django.views.decorators.http import require_POST, require_safe

from bold_anode.accounts import arriving, carrying, operations
from bold_anode.accounts.forms import ChangePassword, SignUp, is_password
from bold_anode.demo.account import DEMO_PASSWORD, DEMO_USER
from bold_anode.frame.refusing import refuse
from bold_anode.frame.requests import Request
from bold_anode.tasks.operations import is_worker_alive
from thermionic.errors import DesignRefused, ThermionicError

_ACCOUNT_OF_ALL = "This is the demo account, which everybody has the password of; make one of your own for that."


def _demo() -> dict[str, str] | None:
    return {"user": DEMO_USER, "password": DEMO_PASSWORD} if settings.DEMO_MODE else None


class SignIn(LoginView):
    """The sign-in page; in demo mode it shows the demo account."""

    template_name = "accounts/sign_in.html"
    redirect_authenticated_user = True

    def get_context_data(self, **kwargs: Any) -> dict[str, Any]:
        return super().get_context_data(demo=_demo(), can_sign_up=settings.SIGN_UP == operations.OPEN, **kwargs)


def locked_out(request: Any, response: HttpResponse | None = None, credentials: Any = None) -> HttpResponse:
    """After too many wrong passwords: the same sentence whether or not there is such an account."""
    minutes = int(settings.AXES_COOLOFF_TIME.total_seconds() // 60)
    if request.user.is_authenticated:  # at the deletion of the account, or a change of its password
        return refuse(request, f"Too many wrong passwords from here. Wait {minutes} minutes, then try again.", 429)
    context = {"form": AuthenticationForm(), "demo": _demo(), "locked_minutes": minutes}
    return render(request, "accounts/sign_in.html", context, status=429)


@sensitive_post_parameters()
@login_not_required
def sign_up(request: Request) -> HttpResponse:
    """A new account, signed in at once."""
    form = SignUp(request.POST or None)
    token = request.POST.get("invitation", request.GET.get("invitation", ""))
    refusal = operations.may_sign_up(token)
    if request.method == "POST":
        try:
            user = operations.sign_up(form, token, request.META["REMOTE_ADDR"])
        except ThermionicError as reason:
            refusal, user = str(reason), None
        if user is not None:
            login(request, user, backend="django.contrib.auth.backends.ModelBackend")
            return redirect("workshop")
    refused = bool(form.errors) or (bool(refusal) and request.method == "POST")
    context = {"form": form, "refusal": refusal, "invitation": token}
    return render(request, "accounts/sign_up.html", context, status=422 if refused else 200)


@require_safe
def account(request: Request) -> HttpResponse:
    """What can be done to the account as a whole."""
    return _account(request, ChangePassword(request))


def _account(request: Request, form: ChangePassword, status: int = 200) -> HttpResponse:
    context = {"form": form, "is_demo": operations.is_demo(request.user), **_import(request)}
    return render(request, "accounts/account.html", context, status=status)


@sensitive_post_parameters()
@require_POST
def change_password(request: Request) -> HttpResponse:
    """Another password; other browsers that are signed in are signed out by it."""
    if operations.is_demo(request.user):
        messages.error(request, _ACCOUNT_OF_ALL)
        return redirect("account")
    form = ChangePassword(request, request.POST)
    if not form.is_valid():
        return _account(request, form, status=422)
    form.save()
    update_session_auth_hash(request, form.user)
    messages.success(request, "The password is changed.")
    return redirect("account")


@require_POST
def sign_out_everywhere(request: Request) -> HttpResponse:
    """The end of every session of the account, this one among them."""
    if operations.is_demo(request.user):
        messages.error(request, _ACCOUNT_OF_ALL)
        return redirect("account")
    user = request.user
    logout(request)
    operations.sign_out_everywhere(user)
    messages.success(request, "You are signed out in every browser.")
    return redirect("sign-in")


@require_safe
def export_all(request: Request) -> HttpResponse:
    """Everything in the workshop as one zip."""
    name = f"workshop-{timezone.now():%Y-%m-%d}.zip"
    return HttpResponse(
        carrying.packed(request.user),
        content_type="application/zip",
        headers={"Content-Disposition": f'attachment; filename="{name}"'},
    )


@require_POST
def import_all(request: Request) -> HttpResponse:
    """What an export holds, to be put beside what is there by a worker."""
    upload = request.FILES.get("file")
    try:
        if upload is None:
            raise DesignRefused("Choose a file first: the .zip that Export everything gave.")
        arriving.ask(request.user, upload.name or "", upload.read(arriving.MOST_BYTES + 1))
    except ThermionicError as reason:
        messages.error(request, f"{((upload and upload.name) or 'No file')[:80]}: {reason} Nothing was stored.")
    return redirect("account")


@require_safe
def import_state(request: Request) -> HttpResponse:
    """How far the import is."""
    return render(request, "accounts/import.html", _import(request))


def _import(request: Request) -> dict[str, Any]:
    work = arriving.latest(request.user)
    return {"arriving": work, "worker_alive": work is None or not work.is_under_way or is_worker_alive()}


@sensitive_post_parameters()
@require_POST
def delete(request: Request) -> HttpResponse:
    """The account with everything in it, once the password has been given again."""
    if operations.is_demo(request.user):
        messages.error(request, _ACCOUNT_OF_ALL)
        return redirect("account")
    if not is_password(request, request.POST.get("password", "")):
        messages.error(request, "That is not your password. Nothing was deleted.")
        return redirect("account")
    user = request.user
    logout(request)
    operations.delete_account(user)
    messages.success(request, "The account and everything in it are deleted.")
    return redirect("sign-in")
