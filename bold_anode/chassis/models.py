"""The layouts of a project, each with every state that it has been in."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.db import models

from bold_anode.amps.models import Project
from bold_anode.frame.bounds import MOST_NUMBER, Between, Checked, moments
from bold_anode.frame.owned import OfUser
from bold_anode.frame.versioned import Version, Versioned
from thermionic.chassis.document import Layout, read_layout


class KeptSize(Checked):
    """A size that the builder measured and keeps in the workshop under a name: across, along, above the sheet and
    below it, m."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="kept_sizes")
    name = models.CharField(max_length=60)
    across = models.FloatField()
    along = models.FloatField()
    above = models.FloatField()
    below = models.FloatField()

    objects = OfUser.as_manager()

    stands_alone = True

    class Meta:
        ordering = ["name"]
        constraints = [
            models.UniqueConstraint(fields=["owner", "name"], name="kept_size_name_once"),
            Between("across", 1e-4, 0.5),
            Between("along", 1e-4, 0.5),
            Between("above", 0.0, 0.5),
            Between("below", 0.0, 0.3),
        ]

    def __str__(self) -> str:
        return self.name


class ChassisLayout(Versioned["LayoutState"], Checked):
    """One of a project's layouts. ``current`` is the state that it stands at; one layout of a project is the chosen
    one."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="layouts")
    name = models.CharField(max_length=60)
    current = models.ForeignKey("LayoutState", null=True, on_delete=models.SET_NULL, related_name="+")
    chosen = models.BooleanField(default=False)
    made_at = models.DateTimeField(auto_now_add=True)

    called = "layout"

    class Meta:
        ordering = ["pk"]
        constraints = [
            models.UniqueConstraint(fields=["project", "name"], name="layout_name_once"),
            models.UniqueConstraint(
                fields=["project"], condition=models.Q(chosen=True), name="one_layout_of_a_project_is_chosen"
            ),
            *moments("made_at"),
        ]

    def __str__(self) -> str:
        return f"{self.project_id}/{self.name}"

    @property
    def versions(self) -> Any:
        """The manager of its states."""
        return self.states


class LayoutState(Version):
    """A layout as it was at one moment. Never changed once made; ``note`` says what its change was."""

    layout = models.ForeignKey(ChassisLayout, on_delete=models.CASCADE, related_name="states")
    parent = models.ForeignKey("self", null=True, on_delete=models.SET_NULL, related_name="children")

    class Meta:
        ordering = ["number"]
        constraints = [
            models.UniqueConstraint(fields=["layout", "number"], name="layout_state_number_once"),
            Between("number", 1, MOST_NUMBER),
            *moments("made_at"),
        ]

    def __str__(self) -> str:
        return f"{self.layout_id}/{self.number}"

    @property
    def read(self) -> Layout:
        """The layout. Raises LayoutRefused if what is stored can no longer be read."""
        return read_layout(self.document)

    def check_content(self) -> None:
        """Raise LayoutRefused where the layout cannot be read."""
        read_layout(self.document)
