"""Notes on what was put away."""

from django.db import models

from bold_anode.amps.models import Project, Revision
from bold_anode.frame.bounds import Between, Checked, moments


class Note(Checked):
    """A note on a revision, which it holds on to, and how many of the thing there are."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="notes")
    revision = models.ForeignKey(Revision, on_delete=models.PROTECT, related_name="+")
    text = models.CharField(max_length=100)
    count = models.PositiveIntegerField(default=1)
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        constraints = [Between("count", 1, 1000), *moments("made_at")]
