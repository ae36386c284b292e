"""What was measured: sets of readings, each belonging to a revision and to the conditions it was taken in."""

from __future__ import annotations

from django.db import models

from bold_anode.amps.models import Project, Revision
from bold_anode.frame.bounds import Between, Checked, moments
from thermionic.powerup import METER_OHM, Step

LEAST_METER, MOST_METER = 1e3, 1e12  # Ω: a moving coil on its lowest range, an electrometer


class ReadingSet(Checked):
    """One round of measuring: which revision was on the bench, how far the power-up was, which channel, the mains
    voltage at the wall, and the meter's input resistance, Ω. A round with other conditions is another set."""

    project = models.ForeignKey(Project, on_delete=models.CASCADE, related_name="reading_sets")
    revision = models.ForeignKey(Revision, on_delete=models.PROTECT, related_name="reading_sets")
    step = models.CharField(max_length=20, choices=[(step.value, step.title) for step in Step])
    channel = models.CharField(max_length=20, blank=True)
    mains_volt = models.FloatField()
    meter_ohm = models.FloatField(default=METER_OHM)
    started_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-pk"]
        constraints = [
            Between("mains_volt", 1.0, 1000.0),
            Between("meter_ohm", LEAST_METER, MOST_METER),
            *moments("started_at"),
        ]

    def __str__(self) -> str:
        return f"{self.revision}, {self.step}, {self.channel}"

    def latest(self) -> dict[str, float]:
        """The last reading at each test point, V."""
        last = {reading.point: reading.volt for reading in self.readings.order_by("pk")}
        return {point: volt for point, volt in last.items() if volt is not None}


class Reading(Checked):
    """One reading, V. Never changed: a corrected reading is another one, and the last counts. ``volt`` is None
    where a reading was taken back."""

    reading_set = models.ForeignKey(ReadingSet, on_delete=models.CASCADE, related_name="readings")
    point = models.CharField(max_length=80)
    volt = models.FloatField(null=True)
    taken_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["pk"]
        constraints = [Between("volt", -1e5, 1e5), *moments("taken_at")]

    def __str__(self) -> str:
        return f"{self.point}: {self.volt}"
