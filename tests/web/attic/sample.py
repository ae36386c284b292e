"""A note in the demo, and a note that an address can name."""

from bold_anode.attic.operations import put_away


def fill_demo(user, projects):
    """A note."""
    put_away(user, projects["lantern"].pk, "The old chassis")


def addressed(user, project):
    """A note."""
    return {"note_id": put_away(user, project.pk, "The old chassis").pk}
