"""A fitted tube's curves through the points that were measured, as SVG geometry."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from django.utils.safestring import mark_safe

from bold_anode.tubes.models import OwnTube
from thermionic import tubes
from thermionic.devices import Pentode, PentodeCoefficients, Triode, TriodeCoefficients, VacuumRectifier
from thermionic.devices.base import Array

LEFT, TOP, WIDTH, HEIGHT = 68.0, 10.0, 320.0, 190.0
_MOST_CURVES = 9


@dataclass(frozen=True)
class Sheet:
    """Polylines of the model, and where the measured points lie, in pixels; ends of the axes in words."""

    curves: tuple[str, ...]
    points: tuple[tuple[str, str], ...]
    most_volt: str
    most_milliampere: str
    frame: tuple[float, float, float, float] = (LEFT, TOP, WIDTH, HEIGHT)
    size: tuple[float, float] = (LEFT + WIDTH + 12, TOP + HEIGHT + 30)


def sheet(tube: OwnTube) -> Sheet:
    """The curves of a type in the drawer at the grid (and screen) voltages that it was measured at."""
    read = tubes.read_points(tube.points, tube.kind)
    coefficients = tube.fit.coefficients
    if isinstance(coefficients, float):
        drops = [one for one in read if isinstance(one, tubes.Drop)]
        measured = [(drop.drop_v, drop.anode_a) for drop in drops]
        volts = np.linspace(0, 1.15 * max(v for v, _ in measured), 80)
        law = VacuumRectifier(coefficients)
        families = [(volts, law.currents(np.stack([volts, 0 * volts], axis=-1))[0][:, 0])]
    else:
        points = [one for one in read if isinstance(one, tubes.Point)]
        measured = [(point.anode_v, point.anode_a) for point in points]
        volts = np.linspace(0, 1.1 * max(v for v, _ in measured), 80)
        families = [(volts, current) for current in _families(coefficients, points, volts)]
    most_volt = float(volts[-1])
    most_ampere = 1.15 * max(max(i for _, i in measured), 1e-6)

    def place(volt: float, ampere: float) -> str:
        return f"{LEFT + WIDTH * volt / most_volt:.1f},{TOP + HEIGHT * (1 - ampere / most_ampere):.1f}"

    curves = tuple(
        mark_safe(" ".join(place(v, i) for v, i in zip(along.tolist(), current.tolist(), strict=True)
                           if i <= most_ampere))
        for along, current in families
    )  # fmt: skip
    dots = tuple(tuple(mark_safe(part) for part in place(v, i).split(",")) for v, i in measured)
    return Sheet(curves, dots, f"{most_volt:.0f} V", f"{most_ampere * 1e3:.3g} mA")  # type: ignore[arg-type]


def _families(
    coefficients: TriodeCoefficients | PentodeCoefficients, points: list[tubes.Point], volts: Array
) -> list[Array]:
    """Anode current along ``volts`` at each pair of grid and screen voltage among the points."""
    bias = sorted({(point.grid_v, point.screen_v or 0.0) for point in points})[-_MOST_CURVES:]
    if isinstance(coefficients, TriodeCoefficients):
        triode = Triode(coefficients)
        return [triode.currents(np.stack([0 * volts + grid, volts], axis=-1))[0][:, 1] for grid, _ in bias]
    pentode = Pentode(coefficients)
    return [
        pentode.currents(np.stack([0 * volts + grid, 0 * volts + screen, volts], axis=-1))[0][:, 2]
        for grid, screen in bias
    ]
