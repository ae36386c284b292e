"""Notes in an export; a copy of a project has none, as they are of the original's revisions."""

from bold_anode.attic.models import Note
from pydantic import AwareDatetime, Field

from bold_anode.frame.carried import Carried, ProjectPart, stored, when
from thermionic.errors import DesignRefused


class _Note(Carried):
    revision: int
    text: str = Field(max_length=100)
    count: int
    made_at: AwareDatetime


class _Notes(Carried):
    notes: list[_Note] = []  # an export from before there was an attic has none


def _pack(project, numbers):
    return {
        "notes": [
            {
                "revision": numbers[note.revision_id],
                "text": note.text,
                "count": note.count,
                "made_at": when(note.made_at),
            }
            for note in project.notes.order_by("pk")
        ]
    }


def _store(project, made, data):
    for note in data.notes:
        if note.revision not in made:
            raise DesignRefused(f"A note belongs to revision {note.revision}, which is not among the revisions.")
        row = Note(project=project, revision=made[note.revision], text=note.text, count=note.count)
        stored(row, made_at=note.made_at)


def _forget(project):
    project.notes.all().delete()


NOTES = ProjectPart(_Notes, _pack, _store, forget=_forget)
