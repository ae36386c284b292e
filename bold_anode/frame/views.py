"""Pages for when something is not there, or went wrong."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render


def not_found(request: HttpRequest, exception: Exception) -> HttpResponse:
    """There is no such page, or it is not this user's."""
    return render(request, "frame/not_found.html", status=404)


def failed(request: HttpRequest) -> HttpResponse:
    """An error of our own; the log has it."""
    return render(request, "frame/failed.html", status=500)
