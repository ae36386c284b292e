"""A reading of the mains that an address can name."""

from __future__ import annotations

from typing import Any

from bold_anode.rails.operations import add_reading


def addressed(user: Any, project: Any) -> dict[str, Any]:
    """One reading."""
    return {"reading_id": add_reading(user, "231").pk}
