"""Fitting a tube's coefficients to points.

Data sheets give few points a type, and a curve's general shape is common to the whole family, so a fit
minimises the squared logarithmic errors at the points (each over the accuracy expected of a data sheet figure)
together with a weak pull towards the family's usual shape. What the points say always outweighs the pull. A fit
whose points do not settle what only they can say is refused.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from thermionic import budget
from thermionic.devices import Pentode, PentodeCoefficients, Triode, TriodeCoefficients, VacuumRectifier
from thermionic.errors import FitRefused
from thermionic.tubes.points import (
    Cutoff,
    Drop,
    GridCurrent,
    Point,
    distinct,
    drop_error,
    errors,
)
from thermionic.tubes.residuals import (
    ACCURACY,
    COARSE,
    COARSE_SHARE,
    REMOTE_SHARE,
    coarse_rows,
    cutoff_rows,
    family_rows,
    is_remote,
    point_rows,
)
from thermionic.tubes.stages import OutputStage, PublishedStage, solve_output, solve_stage

Vector = NDArray[np.float64]

_PENTODE_ACCURACY = {"anode_a": 0.04, "screen_a": 0.08, "gm_s": 0.06, "ra_ohm": 0.4}
_STRAPPED_ACCURACY = {"anode_a": 0.08, "gm_s": 0.10, "mu": 0.05}
_STAGE_CURRENT, _STAGE_GAIN, _STAGE_DISTORTION = 0.05, 0.03, 0.5
_OUTPUT_POWER, _OUTPUT_DISTORTION, _OUTPUT_ANODE, _OUTPUT_SCREEN = 0.05, 0.015, 0.10, 0.25
_MU_WIDTH = 0.06  # of the law's own mu, which it has at high currents, about those published
# The space current's exponent is the second parameter of every fit, and stays within what tubes have.
_EXPONENT = (1.1, 1.8)
_SHARPNESS = (2.0, 0.4)
_SHIELD_WIDTH = 1.2
_SLOPE_WIDTH = 0.5
_DRIVE_WIDTH = 0.6
_LEAST_POWER = 0.03
# Where the anode's diode line crosses the screen's voltage, the current over that of the tube at zero bias.
_LINE, _LINE_WIDTH = 8.0, 0.6
# The ECC83's grid current of Dempwolf et al. (2011), table 1, A/V^1.314.
_GRID_G, _GRID_MU = 6.177e-4, 100.0
# How fast it dies with a negative grid, 1/V: a cathode's own temperature, the same for every tube.
_GRID_TAIL = 9.901 * 1.314
# Where its anode is when its grid begins to draw, V, and the space current there by Koren's own constants, A.
_GRID_ANODE, _GRID_SPACE = 125.0, 5.1e-3
# With the grid as far from its neighbours, the open part of a grid over its wires rises as its mu falls: for mu from
# 4 to 100 by the usual formula of a grid of parallel wires (Spangenberg, *Vacuum Tubes* (1948), ch. 7).
_OPENNESS = 0.7
# How well points must settle mu, as a standard deviation of its logarithm.
_SETTLED = 0.15
# Sums of squares, halved, that differ by less tell no fit from another: by as much as one standard deviation adds.
_HARDLY_WORSE = 0.5


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
        return Fit(kind, perveance, tuple(residuals), _rms([residual["drop_v"] for residual in residuals]))
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


def _space(
    mu: float, ex: float, kg1: float, kp: float, kvb: float, coarse: float, share: float
) -> TriodeCoefficients:
    """Without its grid current, which is none of what is fitted."""
    return TriodeCoefficients(
        mu, ex, kg1, kp, kvb, grid_g=_GRID_G, coarse_share=share, coarse_mu=mu * min(coarse, 1.0)
    )  # fmt: skip


def with_grid_current(
    space: TriodeCoefficients, anode_v: float, published: Sequence[GridCurrent] = ()
) -> TriodeCoefficients:
    """The coefficients with a grid current for a tube whose anode (a pentode's screen) is at ``anode_v`` then.

    By Spangenberg's primary grid current (*Vacuum Tubes* (1948), ch. 9), ig = ia / (D sqrt(Va / Vg)), at one and at
    ten volts (or the highest published); D is the ECC83's as measured by Dempwolf, Holters and Zölzer, made larger as
    the grid is more open, or what published grid currents say. Unsure by a factor of two and a half without those, of
    one and a half with them.
    """
    triode = Triode(space)

    def passed(volt: float) -> float:
        return float(triode.currents(np.array([volt, anode_v]))[0][1]) * float(np.sqrt(volt / anode_v))

    openness = _GRID_SPACE / _GRID_ANODE**0.5 / _GRID_G * (_GRID_MU / space.mu) ** _OPENNESS
    if published:
        openness = float(np.exp(np.mean([np.log(passed(one.grid_v) / one.grid_a) for one in published])))
    high = max([10.0, *(one.grid_v for one in published)])
    at_one, there = passed(1.0) / openness, passed(high) / openness
    power = float(np.log(there / at_one) / np.log(high))
    return replace(space, grid_g=at_one, grid_xi=power, grid_c=_GRID_TAIL / power)


def _best(residuals: Callable[[Vector], Vector], starts: Sequence[Vector]) -> list[Vector]:
    """Where the best fit is, and after it those from other starts that are hardly worse."""
    from scipy.optimize import least_squares  # takes half a second to import, and only a fit needs it

    def watched(x: Vector) -> Vector:
        budget.check("fitting a tube's coefficients")
        return residuals(x)

    low, high = np.full(len(starts[0]), -np.inf), np.full(len(starts[0]), np.inf)
    low[1], high[1] = np.log(_EXPONENT)
    result = [least_squares(watched, start, x_scale=0.1, max_nfev=400, bounds=(low, high)) for start in starts]
    result.sort(key=lambda one: one.cost)
    return [one.x for one in result if one.cost < result[0].cost + _HARDLY_WORSE]


def _leaves_mu_open(rows: Callable[[Vector], Vector], ends: Sequence[Vector]) -> bool:
    """Whether the points alone leave the first parameter, ln mu, open, at the fits that ``_best`` found.

    The points' own Jacobian, with the weak pull only on the others, gives its standard deviation; and where fits that
    are as good as each other end further apart than that may be, it is open whatever the slopes at one of them say.
    """
    if np.ptp([x[0] for x in ends]) > 2 * _SETTLED:
        return True
    x, h = ends[0], 1e-4
    columns = [(rows(x + h * unit) - rows(x - h * unit)) / (2 * h) for unit in np.eye(len(x))]
    jacobian = np.array(columns).T
    pull = np.array([0.0, *[1.0 / 0.3**2] * (len(x) - 1)])
    information = jacobian.T @ jacobian + np.diag(pull)
    values, vectors = np.linalg.eigh(information)
    return bool(np.sqrt((vectors[0] ** 2 / np.maximum(values, 1e-12)).sum()) > _SETTLED)


def fit(
    points: Sequence[Point],
    stages: Sequence[PublishedStage] = (),
    cutoffs: Sequence[Cutoff] = (),
    grid_currents: Sequence[GridCurrent] = (),
) -> TriodeCoefficients:
    """The triode coefficients that fit ``points``, published ``stages`` and cut-offs best.

    Raises FitRefused if the points cannot determine mu or the scale of the current: they must give mu, or lie at
    several grid and several anode voltages.
    """
    live = [point for point in points if point.anode_a > 0]
    given = [point.mu for point in live if point.mu]
    _need_points(live)

    def device(x: Vector) -> Triode:
        return Triode(_space(*(float(value) for value in np.exp(x))))

    def rows(x: Vector) -> Vector:
        return np.array(point_rows(device(x), live, ACCURACY))

    def residuals(x: Vector) -> Vector:
        triode = device(x)
        result = point_rows(triode, points, ACCURACY) + cutoff_rows(triode, cutoffs)
        for stage in stages:
            solved = solve_stage(triode, stage)
            result.append((solved.anode_a / stage.anode_a - 1.0) / _STAGE_CURRENT)
            result.append((solved.gain / stage.gain - 1.0) / _STAGE_GAIN)
            if stage.thd:
                result.append(float(np.log(solved.thd / stage.thd)) / _STAGE_DISTORTION)
        mu, ex, _, kp, kvb, coarse, share = (float(value) for value in np.exp(x))
        result += family_rows(float(np.median(given)) if given else mu, ex, kp, kvb)
        if given:
            result.append(float(np.log(mu / np.median(given))) / _MU_WIDTH)
        return np.array(result + coarse_rows(coarse, share, is_remote(cutoffs)))

    guesses = [float(np.median(given))] if given else [3.0, 8.0, 20.0, 50.0, 100.0]
    share = REMOTE_SHARE if is_remote(cutoffs) else COARSE_SHARE
    ends = _best(residuals, [np.log([mu, 1.4, 1000.0, 40.0 + 6.0 * mu, 300.0, COARSE, share]) for mu in guesses])
    if _leaves_mu_open(rows, ends):
        raise FitRefused(
            "These points cannot determine a triode: its amplification factor stays open. Give it (mu), or points at "
            "two or more grid and two or more anode voltages."
        )
    return with_grid_current(device(ends[0]).coefficients, 0.5 * max(live[0].anode_v, 2.0), grid_currents)


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


@dataclass(frozen=True)
class _PentodeFit:
    """What a pentode is fitted to: points of it as such and ``strapped`` as a triode, output stages, cut-offs; the
    ``known_mu`` of control grid to screen, if it is known."""

    plain: list[Point]
    strapped: list[Point]
    outputs: Sequence[OutputStage]
    cutoffs: Sequence[Cutoff]
    known_mu: float | None

    @property
    def screen_volt(self) -> float:
        return self.plain[0].screen_v or 0.0

    @staticmethod
    def coefficients(x: Vector) -> PentodeCoefficients:
        """Those of the unknowns: logarithms, and two powers."""
        mu, ex, kg1, kp, kvb, shield, ratio, line, sharpness, coarse, share = (float(u) for u in np.exp(x[:11]))
        space = _space(mu, ex, kg1, kp, kvb, coarse, share)
        # Next to nothing is nothing.
        slope, drive = (float(u) if u > _LEAST_POWER else 0.0 for u in x[11:])
        return PentodeCoefficients(space, shield, ratio / (1 + ratio), line, sharpness, slope, drive)

    def rows(self, x: Vector) -> Vector:
        """What the points are missed by."""
        pentode = Pentode(self.coefficients(x))
        plain = point_rows(pentode, self.plain, _PENTODE_ACCURACY)
        return np.array(plain + point_rows(pentode, self.strapped, _STRAPPED_ACCURACY))

    def residuals(self, x: Vector) -> Vector:
        """What everything is missed by, and how unusual the coefficients are."""
        pentode = Pentode(self.coefficients(x))
        missed = [*self.rows(x), *cutoff_rows(pentode, self.cutoffs)]
        for stage in self.outputs:
            missed += _output_rows(pentode, stage)
        mu, ex, _, kp, kvb, shield, _, line, sharpness, coarse, share = (float(value) for value in np.exp(x[:11]))
        missed += family_rows(mu, ex, kp, kvb)
        missed.append(float(np.log(sharpness / _SHARPNESS[0])) / _SHARPNESS[1])
        missed.append(float(np.log(shield / 25.0)) / _SHIELD_WIDTH)
        missed += [float(x[11]) / _SLOPE_WIDTH, float(x[12]) / _DRIVE_WIDTH]
        missed += coarse_rows(coarse, share, is_remote(self.cutoffs))
        full = np.sum(pentode.currents(np.array([0.0, self.screen_volt, self.screen_volt]))[0][1:])
        usual_line = _LINE * full / self.screen_volt**1.5
        missed.append(float(np.log(line / usual_line)) / _LINE_WIDTH)
        if self.known_mu:
            missed.append(float(np.log(mu / self.known_mu)) / 0.04)
        return np.array(missed)

    def starts(self) -> list[Vector]:
        """Unknowns to begin with."""
        ratio = float(np.median([point.screen_a / point.anode_a for point in self.plain if point.screen_a]))
        starts = []
        for mu in [self.known_mu] if self.known_mu else [8.0, 18.0, 35.0]:
            for shield in (10.0, 60.0):
                kg1 = 700.0 * 8.0 / mu
                line = _LINE * 2 * self.plain[0].anode_a / self.screen_volt**1.5
                some = REMOTE_SHARE if is_remote(self.cutoffs) else COARSE_SHARE
                logs = np.log([mu, 1.4, kg1, 40.0 + 6.0 * mu, 300.0, shield, ratio, line, 2.0, COARSE, some])
                starts.append(np.append(logs, [0.05, 0.1]))
        return starts


def _output_rows(pentode: Pentode, stage: OutputStage) -> list[float]:
    """What a published output stage is missed by."""
    solved = solve_output(pentode, stage)
    trust = 0.5 if stage.unsure else 1.0
    missed = [
        trust * float(np.log(max(solved.power_w, 1e-6) / stage.power_w)) / _OUTPUT_POWER,
        trust * (solved.thd - stage.thd) / _OUTPUT_DISTORTION,
    ]
    if stage.anode_max_a:
        missed.append(trust * float(np.log(solved.anode_max_a / stage.anode_max_a)) / _OUTPUT_ANODE)
    if stage.screen_max_a:
        missed.append(trust * float(np.log(solved.screen_max_a / stage.screen_max_a)) / _OUTPUT_SCREEN)
    return missed


def fit_pentode(
    points: Sequence[Point],
    outputs: Sequence[OutputStage] = (),
    usual_mu: float | None = None,
    cutoffs: Sequence[Cutoff] = (),
    grid_currents: Sequence[GridCurrent] = (),
) -> PentodeCoefficients:
    """The pentode coefficients that fit ``points``, published output stages and cut-offs best.

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
    fit = _PentodeFit(plain, strapped, outputs, cutoffs, known_mu)
    if not fit.screen_volt:
        raise FitRefused("A pentode's points must give the screen voltage.")
    ends = _best(fit.residuals, fit.starts())
    if not known_mu and not outputs and _leaves_mu_open(fit.rows, ends):
        raise FitRefused(
            "These points cannot determine a pentode: the amplification factor of its grid to its screen stays open. "
            "Give points at two or more grid and two or more screen voltages, or the transconductance."
        )
    best = fit.coefficients(ends[0])
    return replace(best, space=with_grid_current(best.space, fit.screen_volt, grid_currents))


def fit_rectifier(drops: Sequence[Drop]) -> float:
    """The perveance, A/V^1.5 an anode, that fits published drops best. Raises FitRefused if there is none."""
    if not drops:
        raise FitRefused("A rectifier's fit needs at least one drop at one current.")
    logs = [np.log(drop.anode_a / drop.drop_v**1.5) for drop in drops if drop.anode_a > 0]
    if not logs:
        raise FitRefused("A rectifier's drop must be given at a current above zero.")
    weights = [0.5 if drop.unsure else 1.0 for drop in drops if drop.anode_a > 0]
    return float(np.exp(np.average(logs, weights=weights)))
