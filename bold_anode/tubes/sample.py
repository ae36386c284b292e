"""The demo's measured tube, and a tube that an address can name."""

from __future__ import annotations

from collections.abc import Mapping
from importlib import resources
from typing import Any

from bold_anode.tubes.operations import Measured, add_tube


def fill_demo(user: Any, projects: Mapping[str, Any]) -> None:
    """A triode that was measured point by point."""
    points = (resources.files("bold_anode.tubes") / "sample_data" / "jam_jar_triode.csv").read_text()
    add_tube(user, Measured("Jam jar 76", "triode", points, "250 V", "1.4 W"))


def addressed(user: Any, project: Any) -> dict[str, Any]:
    """A rectifier."""
    tube = add_tube(user, Measured("Mine", "rectifier", "drop_v,anode_a\n17,0.225\n10,0.1\n", "300", "1"))
    return {"tube_id": tube.pk, "model": "tubes.owntube", "pk": tube.pk}
