"""The demo's layouts, and a layout that an address can name."""

from __future__ import annotations

import json
from collections.abc import Mapping
from functools import partial
from importlib import resources
from typing import Any

from bold_anode.chassis.operations import change_layout, keep_variant
from thermionic.chassis.document import Layout, read_layout


def fill_demo(user: Any, projects: Mapping[str, Any]) -> None:
    """Layouts as they were drawn: some well, one with three lessons to learn."""
    kept = json.loads((resources.files("bold_anode.chassis") / "sample_data" / "layouts.json").read_text())
    for example, document in kept.items():
        change_layout(user, projects[example].pk, partial(_drawn, document))


def _drawn(document: Any, first: Layout) -> tuple[Layout, str]:
    return read_layout(document), "drawn"


def addressed(user: Any, project: Any) -> dict[str, Any]:
    """A layout beside the first; a sheet and a file of it."""
    return {"layout_id": keep_variant(user, project.pk, "Another").pk, "kind": "changes", "name": "top.svg"}
