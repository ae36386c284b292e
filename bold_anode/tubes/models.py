"""Tube types of the user's own: the points they measured, and what was fitted to them."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.core.validators import MaxLengthValidator
from django.db import models
from django.db.models.functions import Upper

from bold_anode.frame.bounds import Checked, moments
from thermionic import tubes
from thermionic.design import OwnTriode, check_own_tube
from thermionic.errors import FitRefused

MOST_POINTS_TEXT = 500_000  # characters

KINDS = [("triode", "Triode"), ("pentode", "Pentode or beam tetrode"), ("rectifier", "Rectifier")]


class OwnTubes(models.QuerySet["OwnTube"]):
    """Queries over own types."""

    def of(self, user: Any) -> OwnTubes:
        """Those of a user."""
        return self.filter(owner=user)

    def triodes_of(self, user: Any) -> OwnTubes:
        """The triodes of a user, which a stage can hold."""
        return self.of(user).filter(kind="triode").order_by("name")


class OwnTube(Checked):
    """A type in a user's own drawer. ``points`` is the CSV as given; ``fitted`` the fit as plain data; ``document``
    the type as a design carries it, for a triode (else empty)."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="own_tubes")
    name = models.CharField(max_length=40)
    kind = models.CharField(max_length=12, choices=KINDS)
    points = models.TextField(validators=[MaxLengthValidator(MOST_POINTS_TEXT)])
    fitted = models.JSONField()
    document = models.JSONField(default=dict)
    made_at = models.DateTimeField(auto_now_add=True)

    objects = OwnTubes.as_manager()

    stands_alone = True

    class Meta:
        constraints = [
            models.UniqueConstraint("owner", Upper("name"), name="one_type_of_a_name_each"),
            *moments("made_at"),
        ]

    def __str__(self) -> str:
        return self.name

    @property
    def triode(self) -> OwnTriode:
        """It as a design carries it."""
        return OwnTriode.model_validate(self.document)

    @property
    def fit(self) -> tubes.Fit:
        """What was fitted to its points. Raises FitRefused where what is stored is no fit of this kind."""
        return tubes.read_fit(self.kind, self.fitted)

    def check_content(self) -> None:
        """Raise FitRefused where its points, its fit or the type that a design carries cannot be read."""
        check_own_tube(self.name, "300 V", "1 W")
        points = tubes.read_points(self.points, self.kind)
        if len(self.fit.residuals) != len(points):
            raise FitRefused(f"{self.name} was fitted to {len(self.fit.residuals)} points and has {len(points)}.")
        if self.kind == "triode":
            try:
                type_ = self.triode
            except ValueError as fault:
                raise FitRefused(f"{self.name}: what a design carries of it cannot be read: {fault}") from None
            if type_.name != self.name:
                raise FitRefused(f"{self.name} calls itself {type_.name} in designs.")
