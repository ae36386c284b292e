"""Full output: where distortion first reaches 5 % as the drive rises."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

FULL_DISTORTION = 0.05
_FINE = 400  # levels that are looked at between the lowest and the highest solved


@dataclass(frozen=True)
class DrivenPoint:
    """The amplifier at one drive: source level (V rms), output (V rms at the load, and W into it), total harmonic
    distortion and its second to fifth harmonics as fractions of the fundamental."""

    source_volt: float
    output_volt: float
    power_watt: float
    distortion: float
    harmonics: tuple[float, ...]


def full_output(points: Sequence[DrivenPoint], load_ohm: float) -> DrivenPoint:
    """Where distortion first reaches 5 %, from points at rising levels; the last of them if it never does.

    Between the levels solved, everything is interpolated with monotone cubics over the drive (F. N. Fritsch and
    J. Butland, SIAM J. Sci. Stat. Comput. 5 (1984), p. 300). Below the lowest, distortion goes as the output, as a
    second harmonic does.
    """
    from scipy.interpolate import (
        PchipInterpolator,  # takes a while to import, which nothing before the first page needs
    )

    first = points[0]
    if first.distortion >= FULL_DISTORTION:
        share = FULL_DISTORTION / first.distortion
        return DrivenPoint(
            first.source_volt * share, first.output_volt * share, first.power_watt * share**2, FULL_DISTORTION,
            tuple(share * size for size in first.harmonics),
        )  # fmt: skip
    rows = np.array([[p.source_volt, p.power_watt**0.5, p.distortion, *p.harmonics] for p in points], dtype=float)
    fine = np.linspace(rows[0, 0], rows[-1, 0], _FINE)
    between = PchipInterpolator(rows[:, 0], rows[:, 1:])(fine)
    past = np.flatnonzero(between[:, 1] >= FULL_DISTORTION)
    place = past[0] if len(past) else -1
    at = between[place]
    return DrivenPoint(
        source_volt=float(fine[place]),
        output_volt=float(at[0] * load_ohm**0.5),
        power_watt=float(at[0] ** 2),
        distortion=float(at[1]),
        harmonics=tuple(float(size) for size in at[2:]),
    )
