"""Pages for when something is not there, went wrong, or cannot be had now."""

from __future__ import annotations

import errno
import sys

from django.db import InterfaceError, OperationalError
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.template.loader import render_to_string
from psycopg import errors

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
