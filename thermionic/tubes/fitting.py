"""Fitting a tube's coefficients to points.

Data sheets give few points a type, and a curve's general shape is common to the whole family, so a fit
minimises the squared logarithmic errors at the points (each over the accuracy expected of a data sheet figure)
together with a weak pull towards the family's usual shape. What the points say always outweighs the pull. A fit
whose points do not settle what only they can say is refused.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from thermionic import budget
from thermionic.devices import Pentode, PentodeCoefficients, Triode, TriodeCoefficients, VacuumRectifier
from thermionic.errors import FitRefused
from thermionic.tubes.points import Drop, Point, characteristics, distinct, drop_error, errors
from thermionic.tubes.stages import OutputStage, PublishedStage, solve_output, solve_stage

Vector = NDArray[np.float64]

# Expected relative accuracy of a published figure, of a published stage, and of the family's shape. Distortion is
# as a ratio: within a factor of 1.6 or so.
_ACCURACY = {"anode_a": 0.04, "gm_s": 0.06, "mu": 0.03}
_PENTODE_ACCURACY = {"anode_a": 0.04, "screen_a": 0.08, "gm_s": 0.06, "ra_ohm": 0.4}
_STRAPPED_ACCURACY = {"anode_a": 0.08, "gm_s": 0.10, "mu": 0.05}
_STAGE_CURRENT, _STAGE_GAIN, _STAGE_DISTORTION = 0.05, 0.03, 0.5
_OUTPUT_POWER, _OUTPUT_DISTORTION, _OUTPUT_ANODE, _OUTPUT_SCREEN = 0.05, 0.015, 0.10, 0.25
_USUAL = {"ex": (1.4, 0.12), "kvb": (300.0, 0.8)}
_KP_WIDTH = 1.0
# The space current's exponent is the second parameter of every fit, and stays within what tubes have.
_EXPONENT = (1.1, 1.8)
_SHARPNESS = (2.0, 0.4)
_SHIELD_WIDTH = 1.2
_SLOPE_WIDTH = 0.5
# Where the anode's diode line crosses the screen's voltage, the current over that of the tube at zero bias.
_LINE, _LINE_WIDTH = 8.0, 0.6
# The ECC83's of Dempwolf et al. (2011), table 1, with the kg1 it goes with: the control grid of every other
# type is taken to catch the same share of the space current, for want of published grid current curves.
_GRID_G, _GRID_KG1 = 6.177e-4, 1060.0
# A point that carries hardly any current says little in a logarithm: an absolute floor on what is compared, as a
# share of the largest current.
_FLOOR = 0.01
# How well points must settle mu, as a standard deviation of its logarithm.
_SETTLED = 0.15


@dataclass(frozen=True)
class Fit:
    """A fit: the device's coefficients, the error at each point by figure, and the root mean square of
    the anode current's errors (of the drop's, for a rectifier)."""

    kind: str
    coefficients: TriodeCoefficients | PentodeCoefficients | float
    residuals: tuple[dict[str, float], ...]
    rms: float

    def as_dict(self) -> dict[str, Any]:
        """Plain data, for JSON."""
        coefficients = {"perveance": self.coefficients} if isinstance(self.coefficients, float) else asdict(
            self.coefficients
        )  # fmt: skip
        return {
            "kind": self.kind,
            "coefficients": coefficients,
            "residuals": list(self.residuals),
            "rms_error": self.rms,
        }


def fit_points(kind: str, points: Sequence[Point] | Sequence[Drop]) -> Fit:
    """Fit points alone, as a user measures them. Raises FitRefused where they cannot determine the model."""
    if kind == "rectifier":
        drops = [point for point in points if isinstance(point, Drop)]
        perveance = fit_rectifier(drops)
        residuals: list[dict[str, float]] = [
            {"drop_v": drop_error(VacuumRectifier(perveance), drop)} for drop in drops
        ]
        return Fit(kind, perveance, tuple(residuals), _rms([one["drop_v"] for one in residuals]))
    own = [point for point in points if isinstance(point, Point)]
    coefficients: TriodeCoefficients | PentodeCoefficients
    device: Triode | Pentode
    if kind == "triode":
        coefficients = fit(own)
        device = Triode(coefficients)
    elif kind == "pentode":
        coefficients = fit_pentode(own)
        device = Pentode(coefficients)
    else:
        raise FitRefused(f"“{kind}” cannot be fitted; there are triode, pentode and rectifier.")
    rows = tuple(errors(device, point) if point.anode_a > 0 else {} for point in own)
    return Fit(kind, coefficients, rows, _rms([row["anode_a"] for row in rows if "anode_a" in row]))


def _rms(values: Sequence[float]) -> float:
    return float(np.sqrt(np.mean(np.square(values)))) if values else 0.0


def _space(mu: float, ex: float, kg1: float, kp: float, kvb: float) -> TriodeCoefficients:
    return TriodeCoefficients(mu, ex, kg1, kp, kvb, grid_g=_GRID_G * _GRID_KG1 / kg1)


def _point_rows(device: Triode | Pentode, points: Sequence[Point], accuracy: dict[str, float]) -> list[float]:
    """The weighted logarithmic errors at points; those of tiny currents count by what they are of the largest."""
    largest = max((point.anode_a for point in points), default=0.0)
    rows = []
    for point in points:
        model = characteristics(device, point.anode_v, point.grid_v, point.screen_v, point.strapped)
        for key, width in accuracy.items():
            given = getattr(point, key)
            if given is None or key not in model:
                continue
            floor = _FLOOR * largest if key == "anode_a" else 0.0
            ratio = (min(model[key], 1e9) + floor) / (given + floor) if given + floor > 0 else 1.0
            rows.append(float(np.log(max(ratio, 1e-6))) / width * (0.5 if point.unsure else 1.0))
    return rows


def _family_rows(mu: float, ex: float, kp: float, kvb: float) -> list[float]:
    shape = {"ex": ex, "kvb": kvb}
    rows = [float(np.log(shape[key] / usual)) / width for key, (usual, width) in _USUAL.items()]
    # Koren's own constants have kp rise with mu, from 60 at mu 4 to 600 at mu 100.
    rows.append(float(np.log(kp / (40.0 + 6.0 * mu))) / _KP_WIDTH)
    return rows


def _best(residuals: Callable[[Vector], Vector], starts: Sequence[Vector]) -> Vector:
    from scipy.optimize import least_squares  # takes half a second to import, and only a fit needs it

    def watched(x: Vector) -> Vector:
        budget.check("fitting a tube's coefficients")
        return residuals(x)

    low, high = np.full(len(starts[0]), -np.inf), np.full(len(starts[0]), np.inf)
    low[1], high[1] = np.log(_EXPONENT)
    found = [least_squares(watched, start, x_scale=0.1, max_nfev=400, bounds=(low, high)) for start in starts]
    best: Vector = min(found, key=lambda one: one.cost).x
    return best


def _unsettled(rows: Callable[[Vector], Vector], x: Vector, settled: Sequence[int]) -> list[int]:
    """Which of the parameters ``settled`` the points alone leave open.

    The points' own Jacobian, with the weak pull only on the others, gives each logarithm's standard deviation.
    """
    h = 1e-4
    columns = [(rows(x + h * unit) - rows(x - h * unit)) / (2 * h) for unit in np.eye(len(x))]
    jacobian = np.array(columns).T
    pull = np.array([0.0 if k in settled else 1.0 / 0.3**2 for k in range(len(x))])
    information = jacobian.T @ jacobian + np.diag(pull)
    values, vectors = np.linalg.eigh(information)
    variance = (vectors**2 / np.maximum(values, 1e-12)).sum(axis=1)
    return [k for k in settled if np.sqrt(variance[k]) > _SETTLED]


def fit(points: Sequence[Point], stages: Sequence[PublishedStage] = ()) -> TriodeCoefficients:
    """The triode coefficients that fit ``points`` and published ``stages`` best.

    Raises FitRefused if the points cannot determine mu or the scale of the current: they must give mu, or lie at
    several grid and several anode voltages.
    """
    live = [point for point in points if point.anode_a > 0]
    given = [point.mu for point in live if point.mu]
    _need_points(live)

    def device(x: Vector) -> Triode:
        return Triode(_space(*(float(value) for value in np.exp(x))))

    def rows(x: Vector) -> Vector:
        return np.array(_point_rows(device(x), live, _ACCURACY))

    def residuals(x: Vector) -> Vector:
        triode = device(x)
        found = _point_rows(triode, points, _ACCURACY)
        for stage in stages:
            solved = solve_stage(triode, stage)
            found.append((solved.anode_a / stage.anode_a - 1.0) / _STAGE_CURRENT)
            found.append((solved.gain / stage.gain - 1.0) / _STAGE_GAIN)
            if stage.thd:
                found.append(float(np.log(solved.thd / stage.thd)) / _STAGE_DISTORTION)
        mu, ex, _, kp, kvb = (float(value) for value in np.exp(x))
        return np.array(found + _family_rows(float(np.median(given)) if given else mu, ex, kp, kvb))

    guesses = [float(np.median(given))] if given else [3.0, 8.0, 20.0, 50.0, 100.0]
    best = _best(residuals, [np.log([mu, 1.4, 1000.0, 40.0 + 6.0 * mu, 300.0]) for mu in guesses])
    if _unsettled(rows, best, (0,)):
        raise FitRefused(
            "These points cannot determine a triode: its amplification factor stays open. Give it (mu), or points at "
            "two or more grid and two or more anode voltages."
        )
    mu, ex, kg1, kp, kvb = (float(value) for value in np.exp(best))
    return _space(mu, ex, kg1, kp, kvb)


def _need_points(points: Sequence[Point]) -> None:
    if not points:
        raise FitRefused("There is no point with any anode current, so nothing can be fitted.")
    figures = sum(
        getattr(point, name) is not None for point in points for name in ("anode_a", "screen_a", "gm_s", "mu")
    )
    if figures < 3:
        raise FitRefused(
            f"{len(points)} point{'s' * (len(points) != 1)} cannot determine a tube: give three or more, or its "
            "amplification factor and transconductance."
        )


def fit_pentode(
    points: Sequence[Point], outputs: Sequence[OutputStage] = (), usual_mu: float | None = None
) -> PentodeCoefficients:
    """The pentode coefficients that fit ``points`` and published output stages best.

    ``usual_mu`` is the amplification factor of control grid to screen where it is published. Raises FitRefused if
    the points cannot determine the current or the screen's part of it.
    """
    live = [point for point in points if point.anode_a > 0]
    _need_points(live)
    plain = [point for point in live if not point.strapped]
    strapped = [point for point in live if point.strapped]
    if not any(point.screen_a for point in plain):
        raise FitRefused("These points cannot determine a pentode: at least one must give its screen current.")
    mus = [point.mu for point in strapped if point.mu]
    known_mu = usual_mu or (float(np.median(mus)) if mus else None)
    if known_mu is None and distinct(plain, "screen_v") < 2 and not outputs and distinct(plain, "grid_v") < 2:
        gm = next((point.gm_s for point in plain if point.gm_s), None)
        if gm is None:
            raise FitRefused(
                "These points cannot determine a pentode: give points at two or more grid voltages, or the "
                "transconductance."
            )

    def coefficients(x: Vector) -> PentodeCoefficients:
        mu, ex, kg1, kp, kvb, shield, ratio, line, sharpness = (float(value) for value in np.exp(x[:9]))
        space = _space(mu, ex, kg1, kp, kvb)
        return PentodeCoefficients(space, shield, ratio / (1 + ratio), line, sharpness, max(float(x[9]), 0.0))

    def rows(x: Vector) -> Vector:
        pentode = Pentode(coefficients(x))
        return np.array(
            _point_rows(pentode, plain, _PENTODE_ACCURACY) + _point_rows(pentode, strapped, _STRAPPED_ACCURACY)
        )

    typical = plain[0]
    screen_v = typical.screen_v or 0.0
    if not screen_v:
        raise FitRefused("A pentode's points must give the screen voltage.")

    def residuals(x: Vector) -> Vector:
        pentode = Pentode(coefficients(x))
        found = list(rows(x))
        for stage in outputs:
            solved = solve_output(pentode, stage)
            trust = 0.5 if stage.unsure else 1.0
            found.append(trust * float(np.log(max(solved.power_w, 1e-6) / stage.power_w)) / _OUTPUT_POWER)
            found.append(trust * (solved.thd - stage.thd) / _OUTPUT_DISTORTION)
            if stage.anode_max_a:
                found.append(trust * float(np.log(solved.anode_max_a / stage.anode_max_a)) / _OUTPUT_ANODE)
            if stage.screen_max_a:
                found.append(trust * float(np.log(solved.screen_max_a / stage.screen_max_a)) / _OUTPUT_SCREEN)
        mu, ex, _, kp, kvb, shield, _, line, sharpness = (float(value) for value in np.exp(x[:9]))
        found += _family_rows(mu, ex, kp, kvb)
        found.append(float(np.log(sharpness / _SHARPNESS[0])) / _SHARPNESS[1])
        found.append(float(np.log(shield / 25.0)) / _SHIELD_WIDTH)
        found.append(float(x[9]) / _SLOPE_WIDTH)
        full = np.sum(pentode.currents(np.array([0.0, screen_v, screen_v]))[0][1:])
        usual_line = _LINE * full / screen_v**1.5
        found.append(float(np.log(line / usual_line)) / _LINE_WIDTH)
        if known_mu:
            found.append(float(np.log(mu / known_mu)) / 0.04)
        return np.array(found)

    ratio = float(np.median([point.screen_a / point.anode_a for point in plain if point.screen_a]))
    starts = []
    for mu in [known_mu] if known_mu else [8.0, 18.0, 35.0]:
        for shield in (10.0, 60.0):
            kg1 = 700.0 * 8.0 / mu
            line = _LINE * 2 * typical.anode_a / screen_v**1.5
            logs = np.log([mu, 1.4, kg1, 40.0 + 6.0 * mu, 300.0, shield, ratio, line, 2.0])
            starts.append(np.append(logs, 0.05))
    best = _best(residuals, starts)
    if not known_mu and not outputs and _unsettled(rows, best, (0,)):
        raise FitRefused(
            "These points cannot determine a pentode: the amplification factor of its grid to its screen stays open. "
            "Give points at two or more grid and two or more screen voltages, or the transconductance."
        )
    return coefficients(best)


def fit_rectifier(drops: Sequence[Drop]) -> float:
    """The perveance, A/V^1.5 an anode, that fits published drops best. Raises FitRefused if there is none."""
    if not drops:
        raise FitRefused("A rectifier's fit needs at least one drop at one current.")
    logs = [np.log(drop.anode_a / drop.drop_v**1.5) for drop in drops if drop.anode_a > 0]
    if not logs:
        raise FitRefused("A rectifier's drop must be given at a current above zero.")
    weights = [0.5 if drop.unsure else 1.0 for drop in drops if drop.anode_a > 0]
    return float(np.exp(np.average(logs, weights=weights)))
