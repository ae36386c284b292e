"""What a finding is, and what every rule has."""

from __future__ import annotations

import dataclasses
import math
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from enum import IntEnum
from typing import ClassVar

from thermionic import budget
from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.design import Design, changed, field, fit_part
from thermionic.errors import BudgetSpent, ThermionicError
from thermionic.lazily import lazily

FIT = "fit"
_CURE_SHARE = 0.1  # of the budget, for each cure that is looked for
_CLEARLY = 0.02  # short of enough, by a power between two solved ones that is itself good to a few thousandths


class Severity(IntEnum):
    """How bad it is, worst highest."""

    NOTE = 1
    POOR = 2
    OVER = 3
    DANGER = 4

    @property
    def words(self) -> str:
        """As it is said to the builder."""
        return {1: "worth knowing", 2: "will not work well", 3: "over its rating", 4: "danger"}[self]


@dataclass(frozen=True)
class Cure:
    """One change to the design that cures a finding: a path, the value to set (as typed; "fit" for a part that is
    to be put in), and what it is."""

    path: str
    typed: str
    text: str


def applied(design: Design, cure: Cure) -> Design:
    """The design with a cure made."""
    if cure.typed == FIT:
        return fit_part(design, cure.path, True)
    return changed(design, cure.path, cure.typed)


@dataclass(frozen=True)
class Finding:
    """One opinion. ``path`` says what it is about, ``value`` and ``limit`` (same unit) by how much; ``evidence`` says
    that in words, ``why`` what it leads to; ``remedy`` is what cures it, or what looks for that by solving again."""

    rule: str
    severity: Severity
    path: str
    designator: str
    title: str
    evidence: str
    why: str
    value: float
    limit: float
    remedy: Cure | Callable[[], Cure | None] | None = dataclasses.field(default=None, compare=False, repr=False)

    @lazily
    def cure(self) -> Cure | None:
        """The change that cures it, if there is one. May solve the design many times; see ``is_cure_known``."""
        return self.remedy() if callable(self.remedy) else self.remedy

    @property
    def is_cure_known(self) -> bool:
        """Whether ``cure`` can be had without looking for it."""
        return not callable(self.remedy) or "cure" in vars(self)

    @property
    def key(self) -> str:
        """Names this finding among all of its design."""
        return f"{self.rule}:{self.path}"


class Rule(ABC):
    """A rule looks at a solved amplifier and says what is wrong.

    ``name`` is its own among all rules. ``fires_on`` and ``quiet_on`` are edits (path to typed value) to an
    ``example`` amplifier on which it must, and must not, find something; the tests try them. A rule asks for facets
    (tubes, rails, loads, parts), never for kinds of block.
    """

    name: ClassVar[str]
    example: ClassVar[str] = "lantern"
    fires_on: ClassVar[dict[str, str]]
    quiet_on: ClassVar[dict[str, str]] = {}

    @abstractmethod
    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        """All that this rule has to say about ``amplifier``."""


def preferred_cure(
    amplifier: SolvedAmplifier,
    path: str,
    candidates: Iterable[float],
    enough: Callable[[SolvedAmplifier], float],
    text: Callable[[str], str],
    likely: float | None = None,
) -> Cure | None:
    """The first of ``candidates`` at ``path`` with which the re-solved amplifier has ``enough``, if any.

    The candidates go from the mildest to the strongest change. ``enough`` says which part it has of what it needs: 1
    or more where it is cured. Where that is a figure, and not just true or false, it is taken as a power of the
    candidate between those that have been solved: that says which one to solve next, and that the one before the
    first that cures need not be solved where it is short by more than a little (_CLEARLY). Else the search goes in
    strides that double, then halves what is left between. ``likely`` is where to begin. What is offered has always
    been solved; where it takes too long the finding goes without.
    """
    trials: dict[int, Design] = {}
    rungs = [float(field(amplifier.design, path).value), *candidates]  # the first is as it is
    had: dict[int, float] = {}

    def figure(rung: int) -> float:
        try:
            if rung == 0:
                return float(enough(amplifier))
            trials[rung] = changed(amplifier.design, path, rungs[rung])
            return float(enough(solve(trials[rung], amplifier)))
        except BudgetSpent:
            raise
        except ThermionicError:
            return 0.0

    low, high = 1, len(rungs)
    probe = 1 if likely is None else next((rung for rung in range(1, high) if _reaches(rungs, rung, likely)), 1)
    try:
        with budget.share(_CURE_SHARE):
            while low < high:
                had[probe] = figure(probe)
                if 0 not in had and had[probe] not in (0.0, 1.0):
                    had[0] = figure(0)
                low, high = (low, probe) if had[probe] >= 1 else (probe + 1, high)
                line = _power(rungs, had, high if high in had else low)
                if line is None:
                    probe = 1 + min(max(2 * low - 3, 0), (low + high - 2) // 2)
                    continue
                if high in had and line(rungs[high - 1]) < 1 - _CLEARLY:
                    low = high
                probe = next((rung for rung in range(low, high) if line(rungs[rung]) >= 1), high - 1)
    except BudgetSpent:
        return None
    if high == len(rungs):
        return None
    written = field(trials[high], path).text
    return Cure(path, written, text(written))


def _reaches(rungs: list[float], rung: int, value: float) -> bool:
    """Whether a rung is at ``value`` or past it, as the rungs go."""
    return rungs[rung] >= value if rungs[rung] > rungs[0] else rungs[rung] <= value


def _power(rungs: list[float], had: dict[int, float], where: int) -> Callable[[float], float] | None:
    """The power of the candidate that goes through the two tried ones nearest to a rung; None if there is none, or it
    falls along the rungs."""
    near = sorted(had, key=lambda rung: abs(rung - where))[:2]
    first, last = min(near), max(near)
    if not (0 < had[first] < had[last] < math.inf and rungs[first] * rungs[last] > 0):
        return None
    exponent = math.log(had[last] / had[first]) / math.log(rungs[last] / rungs[first])
    return lambda value: had[last] * (value / rungs[last]) ** exponent if value * rungs[last] > 0 else 0.0


def next_above(needed: float, ladder: tuple[float, ...]) -> float | None:
    """The first standard size not below ``needed``."""
    return next((size for size in ladder if size >= needed), None)


def worst_first(findings: Iterable[Finding]) -> list[Finding]:
    """Findings in the order that the builder should read them."""
    return sorted(findings, key=lambda f: (-f.severity, -f.value / f.limit if f.limit else 0.0))


def steps_down(value: float, series: Callable[[float], float], least: float, count: int) -> Iterator[float]:
    """Up to ``count`` values below ``value``, each from the last, none below ``least``."""
    for _ in range(count):
        value = series(value)
        if value < least:
            return
        yield value


def steps_up(value: float, series: Callable[[float], float], count: int) -> Iterator[float]:
    """``count`` values above ``value``, each from the last."""
    for _ in range(count):
        value = series(value)
        yield value
