"""The demo's iron, and iron that an address can name."""

from __future__ import annotations

import json
from collections.abc import Mapping
from importlib import resources
from typing import Any

from bold_anode.iron.models import ShelfItem, UnknownIron
from bold_anode.iron.operations import add_item, begin_unknown, read_unknown


def fill_demo(user: Any, projects: Mapping[str, Any]) -> None:
    """Iron in hand, and a transformer from the shed that nobody knows yet."""
    kept = json.loads((resources.files("bold_anode.iron") / "sample_data" / "iron.json").read_text())
    ShelfItem.objects.bulk_create(ShelfItem(owner=user, **item) for item in kept["shelf"])
    UnknownIron.objects.bulk_create(UnknownIron(owner=user, **item) for item in kept["unknown"])


def addressed(user: Any, project: Any) -> dict[str, Any]:
    """A choke on the shelf, and unknown iron with a reading."""
    unknown = begin_unknown(user, "From the shed", "red blue black")
    read_unknown(user, unknown.pk, {"a": "red", "b": "blue", "ohms": "12"})
    return {"item_id": add_item(user, "choke", "A choke", "", "", {}).pk, "unknown_id": unknown.pk, "place": 0}
