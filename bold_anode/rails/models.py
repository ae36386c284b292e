"""What the mains was read to be at the builder's house."""

from __future__ import annotations

from django.conf import settings
from django.db import models

from bold_anode.frame.bounds import Between, Checked, moments
from bold_anode.frame.owned import OfUser

LOWEST, HIGHEST = 80.0, 300.0


class MainsReading(Checked):
    """One reading of the house's mains, V rms, and when it was taken."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="mains_readings")
    volt = models.FloatField()
    read_at = models.DateTimeField()

    objects = OfUser.as_manager()

    stands_alone = True

    class Meta:
        ordering = ["-read_at", "-pk"]
        constraints = [Between("volt", LOWEST, HIGHEST), *moments("read_at")]

    def __str__(self) -> str:
        return f"{self.volt:g} V at {self.read_at:%Y-%m-%d %H:%M}"
