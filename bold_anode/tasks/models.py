"""Work that takes longer than a page may: asked for by a user, done by a worker process, its result kept."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.db import models


class State(models.TextChoices):
    """How far a piece of work is."""

    WAITING = "waiting"
    WORKING = "working"
    DONE = "done"
    REFUSED = "refused"
    CANCELLED = "cancelled"


class WorkQuerySet(models.QuerySet["Work"]):
    """Queries over work."""

    def of(self, user: Any) -> WorkQuerySet:
        """That of one user."""
        return self.filter(owner=user)

    def under_way(self) -> WorkQuerySet:
        """That which waits or is worked on."""
        return self.filter(state__in=(State.WAITING, State.WORKING))


class Work(models.Model):
    """One piece of work.

    ``kind`` names what is done (see ``bold_anode.tasks.kinds``), ``about`` what it is done to, so that the same is
    not asked for twice; ``revision`` is the revision that it belongs to, if any. ``part`` is the share done, 0 to 1,
    and ``said`` what is being done; ``result`` is plain data, ``refusal`` the sentence where it was refused. ``job``
    is the job of the queue that last took it up.
    """

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="work")
    kind = models.CharField(max_length=40)
    about = models.CharField(max_length=200)
    revision = models.ForeignKey("amps.Revision", null=True, on_delete=models.CASCADE, related_name="work")
    arguments = models.JSONField(default=dict)
    state = models.CharField(max_length=12, choices=State.choices, default=State.WAITING)
    part = models.FloatField(default=0.0)
    said = models.CharField(max_length=200, blank=True)
    result = models.JSONField(null=True)
    refusal = models.TextField(blank=True)
    asked_at = models.DateTimeField(auto_now_add=True)
    started_at = models.DateTimeField(null=True)
    job = models.BigIntegerField(null=True)
    ended_at = models.DateTimeField(null=True)

    objects = WorkQuerySet.as_manager()

    class Meta:
        ordering = ["-pk"]
        constraints = [
            models.UniqueConstraint(
                fields=["owner", "kind", "about"],
                condition=models.Q(state__in=("waiting", "working", "done")),
                name="the_same_work_once",
            )
        ]

    def __str__(self) -> str:
        return f"{self.kind} {self.about}: {self.state}"

    @property
    def is_under_way(self) -> bool:
        """Whether it waits or is worked on."""
        return self.state in (State.WAITING, State.WORKING)

    @property
    def is_off(self) -> bool:
        """Whether it was refused or cancelled."""
        return self.state in (State.REFUSED, State.CANCELLED)
