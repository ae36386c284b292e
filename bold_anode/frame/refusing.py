"""How a refusal reaches the user: in the page's notice, or as a page."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render


def refuse(request: HttpRequest, reason: str, status: int = 422) -> HttpResponse:
    """A sentence: htmx puts it into the page's notice and everything else stays; else it is a page of its own."""
    if not request.headers.get("HX-Request"):
        return render(request, "frame/refused.html", {"reason": reason}, status=status)
    response = render(request, "frame/refusal.html", {"reason": reason}, status=status)
    response["HX-Retarget"] = "#notice"
    response["HX-Reswap"] = "innerHTML"
    return response
