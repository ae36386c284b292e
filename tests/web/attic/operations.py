"""Every change to notes."""

from bold_anode.attic.models import Note
from django.db import transaction

from bold_anode.amps.operations import locked


@transaction.atomic
def put_away(user, project_id, text):
    """Keep a note on the current revision. Raises Http404, ValueRefused."""
    project = locked(user, project_id)
    note = Note(project=project, revision=project.at, text=text)
    note.save()
    return note
