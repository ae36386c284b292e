"""The workshop's own iron: what lies on the shelf, and transformers being found out."""

from __future__ import annotations

from django.conf import settings
from django.db import models

from bold_anode.frame.bounds import Between, Checked, moments
from bold_anode.frame.owned import OfUser
from thermionic.errors import ThermionicError, ValueRefused
from thermionic.iron.readings import Reading, Resistance, Voltage
from thermionic.iron.unknown import Found, find

MOST_LEAD_NAME = 20
LEAST_CORE, MOST_CORE = 0.2, 200.0  # of the middle limb, cm²

KINDS = [
    ("output", "Output transformer"),
    ("driver", "Driver transformer"),
    ("mains", "Mains transformer winding"),
    ("choke", "Choke"),
    ("converter", "HT converter module"),
]


class ShelfItem(Checked):
    """A piece of iron in hand. ``figures`` maps a figure's name to its value as written and where it came from
    (``measured``, ``label``, ``data sheet``, ``assumed``); ``project`` is the amplifier that holds it."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="iron")
    kind = models.CharField(max_length=12, choices=KINDS)
    name = models.CharField(max_length=60)
    figures = models.JSONField(default=dict)
    state = models.CharField(max_length=120, blank=True)
    place = models.CharField(max_length=120, blank=True)
    project = models.ForeignKey("amps.Project", null=True, on_delete=models.SET_NULL, related_name="iron")
    made_at = models.DateTimeField(auto_now_add=True)

    objects = OfUser.as_manager()

    stands_alone = True

    class Meta:
        ordering = ["kind", "name", "pk"]
        constraints = moments("made_at")

    def __str__(self) -> str:
        return self.name


SOURCES = ("measured", "label", "data sheet", "assumed")


class Origin(Checked):
    """Where a value of a project's iron came from, as long as it is what stands in the design: ``text`` is the value
    as written. What has none is assumed."""

    project = models.ForeignKey("amps.Project", on_delete=models.CASCADE, related_name="origins")
    path = models.CharField(max_length=120)
    text = models.CharField(max_length=40)
    source = models.CharField(max_length=12)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["project", "path"], name="one_origin_a_value")]

    def __str__(self) -> str:
        return f"{self.path} {self.text}: {self.source}"


class UnknownIron(Checked):
    """A transformer that is being found out. ``leads`` are its leads' names; ``readings`` what was read, in order,
    each plain data as ``thermionic.iron.readings`` has it."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="unknown_iron")
    name = models.CharField(max_length=60)
    leads = models.JSONField()
    readings = models.JSONField(default=list)
    core_cm2 = models.FloatField(null=True)
    mains_volt = models.FloatField(default=230.0)
    made_at = models.DateTimeField(auto_now_add=True)

    objects = OfUser.as_manager()

    stands_alone = True

    class Meta:
        ordering = ["-pk"]
        constraints = [
            Between("core_cm2", LEAST_CORE, MOST_CORE),
            Between("mains_volt", 1.0, 1000.0),
            *moments("made_at"),
        ]

    def __str__(self) -> str:
        return self.name

    @property
    def read(self) -> list[Reading]:
        """Its readings."""
        return [
            Voltage(**{**reading, "joined": tuple(reading["joined"]) if reading["joined"] else None})
            if "volt" in reading
            else Resistance(**reading)
            for reading in self.readings
        ]

    @property
    def found(self) -> Found:
        """What its readings tell. Raises ValueRefused."""
        return find(self.leads, self.read)

    def check_content(self) -> None:
        """Raise ValueRefused where its leads or readings cannot be read."""
        try:
            if not all(isinstance(lead, str) and 1 <= len(lead) <= MOST_LEAD_NAME for lead in self.leads):
                raise ValueRefused(f"{self.name}: a lead's name has 1 to {MOST_LEAD_NAME} characters.")
            _ = self.found
        except ThermionicError:
            raise
        except Exception:
            raise ValueRefused(f"{self.name}: its readings cannot be read.") from None
