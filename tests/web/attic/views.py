"""The room and what can be done in it."""

from bold_anode.attic.models import Note
from bold_anode.attic.operations import put_away
from django.http import Http404
from django.views.decorators.http import require_POST

from bold_anode.amps.rooms import after


def draw(request, shown):
    """The notes."""
    return "attic/attic.html", {"notes": shown.project.notes.order_by("pk")}


@require_POST
def add(request, project_id):
    """A new note."""
    return after(
        request, project_id, "attic", lambda: put_away(request.user, project_id, request.POST.get("text", ""))
    )


@require_POST
def remove(request, note_id):
    """Delete a note of one's own."""
    note = Note.objects.filter(project__owner=request.user, project__deleted_at=None, pk=note_id).first()
    if note is None:
        raise Http404
    return after(request, note.project_id, "attic", lambda: note.delete())
