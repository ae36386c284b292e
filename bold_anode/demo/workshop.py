"""The demo workshop at Saltmarsh Lane: a healthy amplifier, and the same with two mistakes and a bad build."""

from __future__ import annotations

from django.contrib.auth import get_user_model
from django.db import transaction

from bold_anode.amps.models import Project
from bold_anode.amps.operations import change_design, create_project, forget_projects
from bold_anode.demo.account import DEMO_PASSWORD, DEMO_USER
from bold_anode.frame import carried, samples
from thermionic import design as documents
from thermionic import examples
from thermionic.design import Design

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
        for part in carried.account_parts():
            part.forget(user)
        forget_projects(user)
    if Project.objects.filter(owner=user).exists() or not (made or fresh):
        return
    projects = {}
    for name, title, mistakes in _UNFINISHED:
        design = documents.changed(examples.example(name), "name", title)
        for path, typed in mistakes.items():
            design = documents.changed(design, path, typed)
        projects[name] = create_project(user, design, "first drawing")
    for name in ("lantern_first_drawing", "lantern"):
        projects[name] = create_project(user, examples.example(name), "first drawing")
    samples.fill_demo(user, projects)
    change_design(user, projects["lantern"].pk, _noted)


def _noted(design: Design) -> tuple[Design, str]:
    notes = f"{design.notes} Wound and wired over the winter."
    return documents.changed(design, "notes", notes), "notes after the build"
