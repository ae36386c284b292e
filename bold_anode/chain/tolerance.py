"""A thousand builds: how the figures spread, and what matters."""

from __future__ import annotations

from typing import Any

from bold_anode.amps.rooms import Shown
from bold_anode.amps.studies import shown as study_shown
from bold_anode.frame.requests import Request
from thermionic.performance.builds import partners


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The tab."""
    return "chain/tolerances.html", {
        **study_shown(request, shown.project, "tolerances"),
        "pairs": bool(partners(shown.solved.amplifier)),
    }
