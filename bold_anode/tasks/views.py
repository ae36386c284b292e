"""Calling work off."""

from __future__ import annotations

from django.http import HttpResponse
from django.views.decorators.http import require_POST

from bold_anode.frame.requests import Request
from bold_anode.tasks import operations


@require_POST
def cancel(request: Request, work_id: int) -> HttpResponse:
    """Call work off; the page that shows it looks again by itself."""
    operations.cancel(request.user, work_id)
    return HttpResponse(status=204)
