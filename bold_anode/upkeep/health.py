"""Whether the application serves, for whatever watches over it."""

from __future__ import annotations

from collections.abc import Callable

from django.db import DatabaseError, connection
from django.http import HttpRequest, HttpResponse, JsonResponse

PATH = "/healthz"


class Health:
    """Answers before all else, so that it waits for nobody's turn: 200 where the database answers, 503 where it does
    not."""

    def __init__(self, answer: Callable[[HttpRequest], HttpResponse]) -> None:
        self.answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponse:
        if request.path != PATH:
            return self.answer(request)
        try:
            with connection.cursor() as cursor:
                cursor.execute("SELECT 1")
        except DatabaseError:
            response = JsonResponse({"serves": False, "reason": "The database does not answer."}, status=503)
        else:
            response = JsonResponse({"serves": True})
        response["Content-Length"] = len(response.content)  # no middleware behind this one adds it
        return response
