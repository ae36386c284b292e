"""What our middleware adds to Django's request."""

from __future__ import annotations

from django.contrib.auth.models import User
from django.http import HttpRequest
from django_htmx.middleware import HtmxDetails


class Request(HttpRequest):
    """A request of somebody who is signed in; ``revision`` is the number of the revision that it is about, for the
    log."""

    user: User
    htmx: HtmxDetails
    revision: int
