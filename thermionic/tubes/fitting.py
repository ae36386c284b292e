"""Fitting the triode's coefficients to published points.

Data sheets give few points a type, and a curve's general shape is common to the whole family, so the fit
minimises the squared logarithmic errors at the points (each over the accuracy expected of a data sheet figure)
together with a weak pull towards the family's usual shape. What the points say always outweighs the pull.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from thermionic.devices import Triode, TriodeCoefficients
from thermionic.errors import ThermionicError
from thermionic.tubes.stages import PublishedStage, solve_stage

# Expected relative accuracy of a published figure, of a published stage, and of the family's shape. Distortion is
# as a ratio: within a factor of 1.6 or so.
_ACCURACY = {"anode_a": 0.04, "gm_s": 0.06, "mu": 0.03}
_STAGE_CURRENT, _STAGE_GAIN, _STAGE_DISTORTION = 0.05, 0.03, 0.5
_USUAL = {"ex": (1.4, 0.12), "kvb": (300.0, 0.8)}
_KP_WIDTH = 1.0
# The ECC83's of Dempwolf et al. (2011), table 1, with the kg1 it goes with: the control grid of every other
# type is taken to catch the same share of the space current, for want of published grid current curves.
_GRID_G, _GRID_KG1 = 6.177e-4, 1060.0


@dataclass(frozen=True)
class Point:
    """A published operating point in SI units; what the source does not give is None."""

    anode_v: float
    grid_v: float
    anode_a: float
    gm_s: float | None = None
    mu: float | None = None
    ra_ohm: float | None = None
    source: str = ""
    unsure: bool = False


def characteristics(triode: Triode, anode_v: float, grid_v: float) -> dict[str, float]:
    """Anode and grid current, transconductance, amplification factor and anode resistance at a point.

    Keys ``anode_a, grid_a, gm_s, mu, ra_ohm``, SI units; mu and ra are infinite where the tube is cut off.
    """
    i, g = triode.currents(np.array([grid_v, anode_v], dtype=float))
    gm, ga = float(g[1, 0]), float(g[1, 1])
    return {
        "anode_a": float(i[1]),
        "grid_a": float(i[0]),
        "gm_s": gm,
        "mu": gm / ga if ga > 0 else float("inf"),
        "ra_ohm": 1 / ga if ga > 0 else float("inf"),
    }


def errors(triode: Triode, point: Point) -> dict[str, float]:
    """The model's relative error at a published point, for each figure that the point gives."""
    model = characteristics(triode, point.anode_v, point.grid_v)
    return {
        key: model[key] / published - 1.0
        for key in ("anode_a", "gm_s", "mu", "ra_ohm")
        if (published := getattr(point, key)) is not None
    }


def fit(points: Sequence[Point], stages: Sequence[PublishedStage] = ()) -> TriodeCoefficients:
    """The coefficients that fit ``points`` and published ``stages`` best.

    Raises ThermionicError if no point gives mu.
    """
    from scipy.optimize import least_squares  # takes half a second to import, and only a fit needs it

    factors = [point.mu for point in points if point.mu]
    if not factors:
        raise ThermionicError(
            "These points cannot determine a triode: at least one must give its amplification factor."
        )

    usual_mu = float(np.median(factors))

    def coefficients(x: NDArray[np.float64]) -> TriodeCoefficients:
        mu, ex, kg1, kp, kvb = (float(value) for value in np.exp(x))
        return TriodeCoefficients(mu, ex, kg1, kp, kvb, grid_g=_GRID_G * _GRID_KG1 / kg1)

    def residuals(x: NDArray[np.float64]) -> NDArray[np.float64]:
        triode = Triode(coefficients(x))
        rows = [
            np.log(max(1.0 + error, 1e-6)) / _ACCURACY[key] * (0.5 if point.unsure else 1.0)
            for point in points
            for key, error in errors(triode, point).items()
            if key in _ACCURACY
        ]
        for stage in stages:
            found = solve_stage(triode, stage)
            rows.append((found.anode_a / stage.anode_a - 1.0) / _STAGE_CURRENT)
            rows.append((found.gain / stage.gain - 1.0) / _STAGE_GAIN)
            if stage.thd:
                rows.append(np.log(found.thd / stage.thd) / _STAGE_DISTORTION)
        shape = dict(zip(("mu", "ex", "kg1", "kp", "kvb"), x, strict=True))
        rows += [(shape[key] - np.log(usual)) / width for key, (usual, width) in _USUAL.items()]
        # Koren's own constants have kp rise with mu, from 60 at mu 4 to 600 at mu 100.
        rows.append((shape["kp"] - np.log(40.0 + 6.0 * usual_mu)) / _KP_WIDTH)
        return np.array(rows)

    start = np.log([usual_mu, 1.4, 1000.0, 250.0, 300.0])
    best = least_squares(residuals, start, x_scale=0.1)
    return coefficients(best.x)
