"""What addresses of a project name: a variant, a room, a block."""

from __future__ import annotations

from typing import Any

from bold_anode.amps import rooms, variants


def addressed(user: Any, project: Any) -> dict[str, Any]:
    """A variant kept beside the design, the first room, the last block."""
    variants.keep(user, project.pk, "Beside")
    return {
        "variant_id": project.variants.first().pk,
        "slug": rooms.rooms()[0].slug,
        "block_id": project.at.design.blocks[-1].id,
    }
