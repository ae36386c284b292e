"""What holds for every request: who is signed in, what it may hold, how long it may take and how many at once."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from typing import Any
from urllib.parse import urlsplit

from django.conf import settings
from django.contrib.auth.middleware import LoginRequiredMiddleware
from django.contrib.auth.views import redirect_to_login
from django.http import HttpRequest, HttpResponse
from django.shortcuts import resolve_url

from bold_anode.frame.refusing import refuse
from bold_anode.frame.shares import SHARES
from thermionic import budget
from thermionic.errors import TextRefused
from thermionic.text import readable

Handler = Callable[[HttpRequest], HttpResponse]
_log = logging.getLogger("bold_anode.requests")


class SignInRequired(LoginRequiredMiddleware):
    """Django's own, but what asked for a piece of a page is sent to the sign-in page as a whole."""

    def handle_no_permission(self, request: HttpRequest, view_func: Any) -> HttpResponse:  # type: ignore[override]
        """Send to the sign-in page."""
        if not request.headers.get("HX-Request"):
            return super().handle_no_permission(request, view_func)
        page = urlsplit(request.headers.get("HX-Current-URL", "")).path or "/"
        back = redirect_to_login(page, resolve_url(settings.LOGIN_URL)).url
        return HttpResponse(status=401, headers={"HX-Redirect": back})


class NothingKept:
    """What is shown to somebody who is signed in is kept by no browser and no proxy."""

    def __init__(self, answer: Handler) -> None:
        self.answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = self.answer(request)
        if request.user.is_authenticated and not response.has_header("Cache-Control"):
            response["Cache-Control"] = "no-store"
        return response


class FairShare:
    """Each account has a few requests at work at once and one budget for each: a heavy design slows its owner."""

    def __init__(self, answer: Handler) -> None:
        self.answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponse:
        user = getattr(request, "user", None)
        who = user.pk if user is not None and user.is_authenticated else request.META.get("REMOTE_ADDR")
        began = time.monotonic()
        with SHARES.turn(who, settings.SOLVE_SECONDS, edit=request.method == "POST") as turn:
            if turn is None:
                much = "Much is being worked out for you already. Wait for that, then try again."
                return refuse(request, much, 429)
            with budget.limit(settings.SOLVE_SECONDS, meanwhile=turn.make_room):
                response = self.answer(request)
        self._note(request, response, time.monotonic() - began)
        return response

    def _note(self, request: HttpRequest, response: HttpResponse, seconds: float) -> None:
        """Log what was slow or failed: which page, project and revision, never what was in it."""
        if seconds < settings.SLOW_SECONDS and response.status_code < 500:
            return
        match = request.resolver_match
        _log.warning(
            "%s %s: %d after %.2f s, project %s, revision %s",
            request.method,
            match.view_name if match else "no such page",
            response.status_code,
            seconds,
            match.kwargs.get("project_id", "-") if match else "-",
            getattr(request, "revision", "-"),
        )


class ReadableText:
    """Nothing gets in that is no text: NUL, lone surrogates, other control characters than new lines and tabs."""

    def __init__(self, answer: Handler) -> None:
        self.answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponse:
        try:
            posted = request.method == "POST"
            for sent in (request.GET, request.POST) if posted else (request.GET,):
                for name, values in sent.lists():
                    for text in (name, *values):
                        readable(text)
            for _, uploads in request.FILES.lists() if posted else ():
                for upload in uploads:
                    readable(getattr(upload, "name", "") or "")
        except TextRefused as refusal:
            return refuse(request, str(refusal), 422)
        return self.answer(request)
