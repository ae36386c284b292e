"""Whether the application serves, for whatever watches over it."""

from django.contrib.auth.decorators import login_not_required
from django.db import DatabaseError, connection
from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_safe


@require_safe
@login_not_required
def health(request: HttpRequest) -> JsonResponse:
    """200 where the database answers, 503 where it does not."""
    try:
        with connection.cursor() as cursor:
            cursor.execute("SELECT 1")
    except DatabaseError:
        return JsonResponse({"serves": False, "reason": "The database does not answer."}, status=503)
    return JsonResponse({"serves": True})
