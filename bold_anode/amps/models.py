"""Projects and their revisions. A design is stored whole, as an immutable revision."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from django.conf import settings
from django.db import models

from bold_anode.frame.bounds import MOST_NUMBER, Between, Checked, moments
from bold_anode.frame.versioned import Version, Versioned
from thermionic.design import Design, dump
from thermionic.design.reading import validate


class ProjectQuerySet(models.QuerySet["Project"]):
    """Queries that never reach into another owner's workshop."""

    def of(self, user: Any) -> ProjectQuerySet:
        """The projects of one owner that are not deleted."""
        return self.filter(owner=user, deleted_at=None)


class Project(Versioned["Revision"], Checked):
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
    called = "design"

    class Meta:
        constraints = moments("created_at", "deleted_at")

    def __str__(self) -> str:
        return self.name

    @property
    def name(self) -> str:
        """The design's name."""
        return str(self.current.document["name"]) if self.current else "(no design)"

    @property
    def versions(self) -> Any:
        """The manager of its revisions."""
        return self.revisions

    def move_to(self, version: Revision) -> None:
        """Make a revision the current one, of the project and of the variant that is worked on."""
        self.previous = self.current
        super().move_to(version)
        if self.variant_id is not None:
            Variant.objects.filter(pk=self.variant_id).update(head=version)


class Revision(Version):
    """A design as it was at one moment. Never changed once made; ``note`` says what its change was."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="revisions")
    parent = models.ForeignKey("self", null=True, on_delete=models.PROTECT, related_name="children")
    document_hash = models.CharField(max_length=64, db_index=True)

    class Meta:
        ordering = ["number"]
        constraints = [
            models.UniqueConstraint(fields=["project", "number"], name="revision_number_once"),
            Between("number", 1, MOST_NUMBER),
            *moments("made_at"),
        ]

    def __str__(self) -> str:
        return f"{self.project_id}/{self.number}"

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
