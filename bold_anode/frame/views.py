"""Pages for when something is not there, went wrong, or cannot be had now."""

from __future__ import annotations

import errno
import sys
from typing import Any

from django.apps import apps
from django.contrib import messages
from django.db import InterfaceError, OperationalError, connection, models
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.template.loader import render_to_string
from django.views.decorators.http import require_http_methods
from psycopg import errors

from bold_anode.frame.bounds import Checked

_NO_ROOM = (errno.ENOSPC, errno.EDQUOT)


def not_found(request: HttpRequest, exception: Exception) -> HttpResponse:
    """There is no such page, or it is not this user's."""
    return render(request, "frame/not_found.html", status=404)


def failed(request: HttpRequest) -> HttpResponse:
    """What went wrong: something that this machine lacks now (503), or an error of our own, which the log has."""
    reason = _lacking(sys.exc_info()[1])
    if not reason:
        return render(request, "frame/failed.html", status=500)
    # Nothing here reads the database: who is signed in is not known now.
    is_piece = bool(request.headers.get("HX-Request"))
    template = "frame/refusal.html" if is_piece else "frame/unavailable.html"
    headers = {"Retry-After": "10", "Cache-Control": "no-store"}
    if is_piece:
        headers |= {"HX-Retarget": "#notice", "HX-Reswap": "innerHTML"}
    return HttpResponse(render_to_string(template, {"reason": reason}), status=503, headers=headers)


def _lacking(fault: BaseException | None) -> str:
    """What of this machine an exception shows to be missing, as a sentence; "" where it shows none."""
    while fault is not None:
        if isinstance(fault, errors.DiskFull) or (isinstance(fault, OSError) and fault.errno in _NO_ROOM):
            return "The disk of this machine is full, so nothing can be stored. What was stored is as it was."
        if isinstance(fault, (OperationalError, InterfaceError)):
            if isinstance(fault.__cause__, errors.DiskFull):
                fault = fault.__cause__
                continue
            return "The database does not answer now. What was stored is as it was; try again in a moment."
        fault = fault.__cause__ or fault.__context__
    return ""


def _own_row(request: HttpRequest, model: str, pk: int) -> models.Model:
    """A row that its owner can remove by itself. Raises Http404 for any other."""
    try:
        kind = apps.get_model(model)
    except (LookupError, ValueError):
        raise Http404 from None
    if not (issubclass(kind, Checked) and kind.stands_alone):
        raise Http404
    rows: Any = kind._default_manager
    row: models.Model | None = rows.filter(owner=request.user, pk=pk).only("pk").first()
    if row is None:
        raise Http404
    return row


@require_http_methods(["GET", "HEAD", "POST"])
def row(request: HttpRequest, model: str, pk: int) -> HttpResponse:
    """A row as it is stored, whether or not it can be read; a POST removes it."""
    own = _own_row(request, model, pk)
    if request.method == "POST":
        own.delete()
        messages.warning(request, "What could not be read is removed.")
        return redirect("workshop")
    table = connection.ops.quote_name(own._meta.db_table)
    with connection.cursor() as cursor:
        cursor.execute(f"SELECT row_to_json(stored)::text FROM {table} stored WHERE id = %s", [pk])
        stored = cursor.fetchone()[0]
    return HttpResponse(
        stored,
        content_type="application/json",
        headers={"Content-Disposition": f'attachment; filename="{own._meta.model_name}-{pk}.json"'},
    )
