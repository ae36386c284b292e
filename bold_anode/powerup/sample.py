"""The readings of the demo's bad build, and a set of readings that an address can name."""

from __future__ import annotations

import json
from collections.abc import Mapping
from importlib import resources
from typing import Any

from bold_anode.powerup.models import Reading
from bold_anode.powerup.operations import start_set_on
from thermionic.powerup import Step


def fill_demo(user: Any, projects: Mapping[str, Any]) -> None:
    """The readings as they were written down."""
    kept = json.loads((resources.files("bold_anode.powerup") / "sample_data" / "readings.json").read_text())
    for example, sets in kept.items():
        for taken in sets:
            reading_set = start_set_on(
                projects[example].at, Step(taken["step"]), taken["mains_volt"], taken["channel"]
            )
            Reading.objects.bulk_create(
                Reading(reading_set=reading_set, point=point, volt=volt) for point, volt in taken["volts"].items()
            )


def addressed(user: Any, project: Any) -> dict[str, Any]:
    """A set without a reading."""
    return {"set_id": start_set_on(project.at, Step.NO_TUBES, 230.0, "left").pk}
