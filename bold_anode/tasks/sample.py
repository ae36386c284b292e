"""Work that an address can name."""

from __future__ import annotations

from typing import Any

from bold_anode.tasks import kinds
from bold_anode.tasks.models import Work


def addressed(user: Any, project: Any) -> dict[str, Any]:
    """Work that was asked for and not begun."""
    return {"work_id": Work.objects.create(owner=user, kind=kinds.names()[0], about="nothing").pk}
