"""Projects and their revisions. A design is stored whole, as an immutable revision."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from django.conf import settings
from django.db import models

from bold_anode.frame.bounds import MOST_NUMBER, Between, Checked, moments
from thermionic.design import Design, dump
from thermionic.design.reading import validate


class ProjectQuerySet(models.QuerySet["Project"]):
    """Queries that never reach into another owner's workshop."""

    def of(self, user: Any) -> ProjectQuerySet:
        """The projects of one owner that are not deleted."""
        return self.filter(owner=user, deleted_at=None)


class Project(Checked):
    """One amplifier in somebody's workshop.

    ``current`` is the revision being worked on; ``previous`` the one it was before the last change, undo or redo,
    against which changed numbers are marked. ``variant`` is the variant that is worked on; none until a second is
    kept.
    """

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="projects")
    current = models.ForeignKey("Revision", null=True, on_delete=models.PROTECT, related_name="+")
    previous = models.ForeignKey("Revision", null=True, on_delete=models.PROTECT, related_name="+")
    variant = models.ForeignKey("Variant", null=True, on_delete=models.SET_NULL, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)
    deleted_at = models.DateTimeField(null=True)

    objects = ProjectQuerySet.as_manager()

    class Meta:
        constraints = moments("created_at", "deleted_at")

    def __str__(self) -> str:
        return self.name

    @property
    def at(self) -> Revision:
        """The revision that it stands at; one without is only there while it is made or deleted."""
        assert self.current is not None
        return self.current

    @property
    def name(self) -> str:
        """The design's name."""
        return str(self.current.document["name"]) if self.current else "(no design)"

    def can_undo(self) -> bool:
        """Whether there is a revision to go back to."""
        return self.current is not None and self.current.parent_id is not None

    def can_redo(self) -> bool:
        """Whether there is a revision to go forward to."""
        return not self.at.is_just_made and self.revisions.filter(parent=self.current).exists()

    def next_revision(self) -> Revision | None:
        """The revision that redo would go to: the latest made from the current one."""
        return self.revisions.filter(parent=self.current).order_by("-number").first()


class Revision(Checked):
    """A design as it was at one moment. Never changed once made; ``note`` says what its change was."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="revisions")
    number = models.PositiveIntegerField()
    parent = models.ForeignKey("self", null=True, on_delete=models.PROTECT, related_name="children")
    document = models.JSONField()
    document_hash = models.CharField(max_length=64, db_index=True)
    note = models.CharField(max_length=200)
    made_at = models.DateTimeField(auto_now_add=True)

    # Known of one that was made a moment ago: nothing has been made from it yet.
    is_just_made = False

    class Meta:
        ordering = ["number"]
        constraints = [
            models.UniqueConstraint(fields=["project", "number"], name="revision_number_once"),
            Between("number", 1, MOST_NUMBER),
            *moments("made_at"),
        ]

    def __str__(self) -> str:
        return f"{self.project_id}/{self.number}"

    def save(self, *args: Any, **kwargs: Any) -> None:
        """Store a new revision; an existing one is refused."""
        if not self._state.adding:
            raise TypeError("A revision is never changed; make another.")
        super().save(*args, **kwargs)

    @property
    def design(self) -> Design:
        """The design document. Raises DesignRefused if what is stored can no longer be read."""
        return validate(self.document)

    def check_content(self) -> None:
        """Raise DesignRefused where the design cannot be read."""
        validate(self.document)


class Variant(Checked):
    """One of several designs that are kept beside each other in a project: its name, the revision that it stands
    at, and its cost as the builder reckons it, in words, "" where it is not known. Of the one that is chosen, the
    revision is the project's current one."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="variants")
    name = models.CharField(max_length=60)
    cost = models.CharField(max_length=20, blank=True)
    head = models.ForeignKey(Revision, on_delete=models.PROTECT, related_name="+")
    made_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]
        constraints = [
            models.UniqueConstraint(fields=["project", "name"], name="variant_name_once"),
            *moments("made_at"),
        ]

    def __str__(self) -> str:
        return f"{self.project_id}/{self.name}"


class Summary(models.Model):
    """What the workshop shows of a revision, so that it need not be solved for that: plain data of the edition of
    the computation that made it (see ``bold_anode.amps.summaries``)."""

    revision = models.OneToOneField(Revision, on_delete=models.CASCADE, primary_key=True, related_name="summary")
    edition = models.CharField(max_length=16)
    data = models.JSONField()

    def __str__(self) -> str:
        return f"{self.revision}, {self.edition}"


def hash_of(design: Design) -> str:
    """Names a design by its content: equal designs have equal hashes."""
    text = json.dumps(dump(design), sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(text.encode()).hexdigest()
