"""The demo workshop at Saltmarsh Lane: a healthy amplifier, and the same with two mistakes and a bad build."""

from __future__ import annotations

import json
from importlib import resources
from typing import Any

from django.contrib.auth import get_user_model
from django.db import transaction

from bold_anode.amps.models import Project
from bold_anode.amps.operations import change_design, create_project, forget_projects
from bold_anode.chassis.operations import change_layout
from bold_anode.demo.account import DEMO_PASSWORD, DEMO_USER
from bold_anode.iron.models import ShelfItem, UnknownIron
from bold_anode.powerup.models import Reading
from bold_anode.powerup.operations import start_set_on
from bold_anode.tubes.models import OwnTube
from bold_anode.tubes.operations import Measured, add_tube
from thermionic import design as documents
from thermionic import examples
from thermionic.chassis.document import read_layout
from thermionic.powerup import Step

# The other amplifiers on the bench, each with what its builder has not seen yet.
_UNFINISHED: tuple[tuple[str, str, dict[str, str]], ...] = (
    ("plover", "Plover phono preamplifier", {"blocks/ht3/capacitor/rating_volt": "250 V"}),
    (
        "sluice",
        "Sluice line preamplifier",
        {"blocks/winding/winding_volt": "270 V", "blocks/ht1/resistor/rating_watt": "0.25 W"},
    ),
    ("reedbed", "Reedbed parallel single-ended", {"blocks/output/cathode_resistor/ohm": "82"}),
    ("mill", "Mill transformer-coupled 45", {"blocks/output/filament/travel": "0.46"}),
    ("osier", "Osier line preamplifier", {}),
    ("sedge", "Sedge line stage", {"blocks/converter/ampere": "15m"}),
    ("weir", "Weir single-ended", {"blocks/standby/breaks_volt": "250 V"}),
    (
        "saltpan",
        "Wrack, as it came in",
        {
            "blocks/bias/form": "half-wave",
            "blocks/bias/diode/material": "selenium",
            "blocks/bias/diode/reverse_volt": "26 V",
            "blocks/bias/diode/in_series": "5",
            "blocks/bias/diode/ampere": "0.05",
            "blocks/reservoir/capacitor/farad": "50u",
        },
    ),
    ("saltpan", "Saltpan push-pull", {"blocks/splitter/anode_load_b/ohm": "150k", "blocks/bias/trim/travel": "0.3"}),
)


@transaction.atomic
def load_demo(*, fresh: bool = False) -> None:
    """Make the demo account and its workshop, unless it is there; ``fresh`` makes the workshop anew."""
    user, made = get_user_model().objects.get_or_create(username=DEMO_USER)
    if made or fresh:
        user.set_password(DEMO_PASSWORD)
        user.save()
        OwnTube.objects.filter(owner=user).delete()
        forget_projects(user)
    if Project.objects.filter(owner=user).exists() or not (made or fresh):
        return
    points = (resources.files("bold_anode.demo") / "data" / "jam_jar_triode.csv").read_text()
    add_tube(user, Measured("Jam jar 76", "triode", points, "250 V", "1.4 W"))
    _fill_shelf(user)
    for name, title, mistakes in _UNFINISHED:
        design = documents.changed(examples.example(name), "name", title)
        for path, typed in mistakes.items():
            design = documents.changed(design, path, typed)
        drawn = create_project(user, design, "first drawing")
        if name == "plover":
            _lay_out(drawn, name)
    flawed = create_project(user, examples.example("lantern_first_drawing"), "first drawing")
    _take_readings(flawed)
    _lay_out(flawed, "first_drawing")
    healthy = create_project(user, examples.example("lantern"), "first drawing")
    _lay_out(healthy, "lantern")
    change_design(
        user,
        healthy.pk,
        lambda design: (
            documents.changed(design, "notes", f"{design.notes} Wound and wired over the winter."),
            "notes after the build",
        ),
    )


def _lay_out(project: Project, name: str) -> None:
    """A layout as it was drawn: one well, one with three lessons to learn."""
    kept = json.loads((resources.files("bold_anode.demo") / "data" / "layouts.json").read_text())
    layout = read_layout(kept[name])
    change_layout(project.owner, project.pk, lambda first: (layout, "drawn"))


def _fill_shelf(user: Any) -> None:
    """Iron in hand, and a transformer from the shed that nobody knows yet."""
    ShelfItem.objects.of(user).delete()
    UnknownIron.objects.of(user).delete()
    kept = json.loads((resources.files("bold_anode.demo") / "data" / "iron.json").read_text())
    ShelfItem.objects.bulk_create(ShelfItem(owner=user, **one) for one in kept["shelf"])
    UnknownIron.objects.bulk_create(UnknownIron(owner=user, **one) for one in kept["unknown"])


def _take_readings(project: Project) -> None:
    """The readings of the bad build, as they were written down."""
    kept = json.loads((resources.files("bold_anode.demo") / "data" / "readings.json").read_text())
    for one in kept:
        assert project.current is not None
        reading_set = start_set_on(project.current, Step(one["step"]), one["mains_volt"], one["channel"])
        Reading.objects.bulk_create(
            Reading(reading_set=reading_set, point=point, volt=volt) for point, volt in one["volts"].items()
        )
