"""One reading against its test point."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

from thermionic.powerup.plan import TestPoint

_MISSING = 0.9  # of what is expected


class Verdict(Enum):
    """What a reading amounts to."""

    AS_EXPECTED = "as expected"
    LOW = "low"
    HIGH = "high"
    STOP_LOW = "far too low"
    STOP_HIGH = "far too high"

    @property
    def stop(self) -> bool:
        """Whether the next step must wait."""
        return self in (Verdict.STOP_LOW, Verdict.STOP_HIGH)

    @property
    def good(self) -> bool:
        """Whether the reading lies in its band."""
        return self is Verdict.AS_EXPECTED


@dataclass(frozen=True)
class Judgement:
    """A reading, V, with its verdict; ``deviation`` is (reading - expected) / expected, or None where
    about 0 V is expected."""

    point: TestPoint
    reading: float
    verdict: Verdict
    deviation: float | None

    @property
    def words(self) -> str:
        """The verdict as it is said; of what is negative, whether there is too little of it or too much."""
        if self.verdict.good or self.point.expected >= 0 or self.deviation is None:
            return self.verdict.value
        if self.deviation < -_MISSING:
            return f"the {self.point.what} is missing"
        far = "far " if self.verdict.stop else ""
        return f"{far}too {'little' if self.deviation < 0 else 'much'} {self.point.what}"


def judge(point: TestPoint, reading: float) -> Judgement:
    """The verdict on a reading: within its band, outside it, or outside by twice the band's half width again and
    a quarter of what is expected, where going on could cost a tube or a transformer."""
    half = (point.high - point.low) / 2
    off = reading - point.expected
    if abs(off) <= half * (1 + 1e-9):
        verdict = Verdict.AS_EXPECTED
    else:
        far = not point.ac and abs(off) > max(3 * half, 0.25 * abs(point.expected), 2.0)
        if off < 0:
            verdict = Verdict.STOP_LOW if far else Verdict.LOW
        else:
            verdict = Verdict.STOP_HIGH if far else Verdict.HIGH
    deviation = off / point.expected if abs(point.expected) > 2 * half else None
    return Judgement(point, reading, verdict, deviation)
