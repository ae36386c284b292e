"""How far a law is from what is published: rows of a least-squares fit, each over what it is sure to."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from thermionic.devices import Pentode, Triode
from thermionic.tubes.points import (
    Cutoff,
    Point,
    characteristics,
    cutoff_ratio,
)

# Expected relative accuracy of a published figure, of a published stage, and of the family's shape. Distortion is
# as a ratio: within a factor of 1.6 or so.
ACCURACY = {"anode_a": 0.04, "gm_s": 0.06, "mu": 0.03}
# The family's usual shape and how far types differ from it (widths of logarithms).
USUAL = {"ex": (1.4, 0.12), "kvb": (300.0, 0.8)}
KP_WIDTH = 1.0
# What is left near cut-off, as the width of its logarithm; how coarse the coarse turns of a grid usually are, as
# their mu over that of the rest; and their share, which the published cut-offs cannot tell from it (see Triode).
CUTOFF = 0.25
COARSE, COARSE_WIDTH, COARSE_SHARE = 0.4, 0.35, 0.005
# A remote cut-off grid is wound with a pitch that changes over much of its length.
REMOTE_SHARE, REMOTE_WIDTH = 0.1, 1.5
# A point that carries hardly any current says little in a logarithm: an absolute floor on what is compared, as a
# share of the largest current.
FLOOR = 0.01


def cutoff_rows(device: Triode | Pentode, cutoffs: Sequence[Cutoff]) -> list[float]:
    """How far from the published cut-offs, in widths."""
    return [
        float(np.log(max(cutoff_ratio(device, cutoff), 1e-9))) / CUTOFF * (0.5 if cutoff.unsure else 1.0)
        for cutoff in cutoffs
    ]


def is_remote(cutoffs: Sequence[Cutoff]) -> bool:
    """Whether what was published is of a grid with a remote cut-off."""
    return any(cutoff.gm_s for cutoff in cutoffs)


def coarse_rows(coarse: float, share: float, remote: bool) -> list[float]:
    """The pull on the two; where the share is not fitted its row only keeps it where it is."""
    if remote:
        return [0.0, float(np.log(share / REMOTE_SHARE)) / REMOTE_WIDTH]
    return [float(np.log(coarse / COARSE)) / COARSE_WIDTH, float(np.log(share / COARSE_SHARE)) / 1e-3]


def point_rows(device: Triode | Pentode, points: Sequence[Point], accuracy: dict[str, float]) -> list[float]:
    """The weighted logarithmic errors at points; those of tiny currents count by what they are of the largest."""
    largest = max((point.anode_a for point in points), default=0.0)
    rows = []
    for point in points:
        model = characteristics(device, point.anode_v, point.grid_v, point.screen_v, point.strapped)
        for key, width in accuracy.items():
            given = getattr(point, key)
            if given is None or key not in model:
                continue
            floor = FLOOR * largest if key == "anode_a" else 0.0
            ratio = (min(model[key], 1e9) + floor) / (given + floor) if given + floor > 0 else 1.0
            rows.append(float(np.log(max(ratio, 1e-6))) / width * (0.5 if point.unsure else 1.0))
    return rows


def family_rows(mu: float, ex: float, kp: float, kvb: float) -> list[float]:
    """How far from the usual shape of the family, in widths."""
    shape = {"ex": ex, "kvb": kvb}
    rows = [float(np.log(shape[key] / usual)) / width for key, (usual, width) in USUAL.items()]
    # Koren's own constants have kp rise with mu, from 60 at mu 4 to 600 at mu 100.
    rows.append(float(np.log(kp / (40.0 + 6.0 * mu))) / KP_WIDTH)
    return rows
