"""Tube types of the user's own: the points they measured, and what was fitted to them."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.db import models
from django.db.models.functions import Upper

from thermionic.design import OwnTriode

KINDS = [("triode", "Triode"), ("pentode", "Pentode or beam tetrode"), ("rectifier", "Rectifier")]


class OwnTubes(models.QuerySet["OwnTube"]):
    """Queries over own types."""

    def of(self, user: Any) -> OwnTubes:
        """Those of a user."""
        return self.filter(owner=user)

    def triodes_of(self, user: Any) -> OwnTubes:
        """The triodes of a user, which a stage can hold."""
        return self.of(user).filter(kind="triode").order_by("name")


class OwnTube(models.Model):
    """A type in a user's own drawer. ``points`` is the CSV as given; ``fitted`` the fit as plain data; ``document``
    the type as a design carries it, for a triode (else empty)."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="own_tubes")
    name = models.CharField(max_length=40)
    kind = models.CharField(max_length=12, choices=KINDS)
    points = models.TextField()
    fitted = models.JSONField()
    document = models.JSONField(default=dict)
    made_at = models.DateTimeField(auto_now_add=True)

    objects = OwnTubes.as_manager()

    class Meta:
        constraints = [models.UniqueConstraint("owner", Upper("name"), name="one_type_of_a_name_each")]

    def __str__(self) -> str:
        return self.name

    @property
    def triode(self) -> OwnTriode:
        """It as a design carries it."""
        return OwnTriode.model_validate(self.document)
