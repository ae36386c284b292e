"""How a rule looks at a supply on the mains that the house may have: usual, and at its worst."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from thermionic.amplifier import SolvedAmplifier
from thermionic.findings.base import Severity
from thermionic.supplies.moments import Moment, house_volts

Look = Callable[[SolvedAmplifier, float], Moment]


@dataclass(frozen=True)
class Worst:
    """A value past its limit: the moment in words, and how bad that is."""

    value: float
    words: str
    severity: Severity


def worst(
    amplifier: SolvedAmplifier,
    limit: float,
    looks: Iterable[Look],
    value: Callable[[Moment], float],
    *,
    severity: Severity = Severity.OVER,
    grows: float = 1.0,
) -> Worst | None:
    """The highest value at the usual mains or at the highest, where it is past ``limit``; None if it never is.

    What happens on the usual mains, or on one that was read in that house, is as severe as is said; what would happen
    on one that nobody has read is worth knowing. ``grows`` is the power of the mains that the value grows with at the
    most: where it cannot come to the limit the highest mains is not solved.
    """
    _, usual, high = house_volts(amplifier.design)
    read = amplifier.design.brief.mains_high_volt is not None
    result: Worst | None = None
    most = limit
    for volt, how in ((usual, severity), (high, severity if read else Severity.NOTE)):
        if volt == high and result is None and most * (high / usual) ** grows <= limit:
            return None
        moments = [look(amplifier, volt) for look in looks]
        values = [(value(moment), moment) for moment in moments]
        most, moment = max(values, key=lambda pair: pair[0])
        if most > limit and (result is None or how >= result.severity):
            result = Worst(most, moment.words, how)
    return result
