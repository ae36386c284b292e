"""What a finding is, and what every rule has."""

from __future__ import annotations

import dataclasses
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
    cured: Callable[[SolvedAmplifier], bool],
    text: Callable[[str], str],
) -> Cure | None:
    """The first of ``candidates`` at ``path`` with which the re-solved amplifier is ``cured``, if any.

    The candidates go from the mildest to the strongest change. A rule that can foresee what is enough begins with
    that: the search goes from the first in strides that double, then halves what is left between. Where it takes too
    long the finding goes without.
    """

    trials: dict[float, Design] = {}

    def enough(candidate: float) -> bool:
        try:
            trials[candidate] = changed(amplifier.design, path, candidate)
            return cured(solve(trials[candidate], amplifier))
        except BudgetSpent:
            raise
        except ThermionicError:
            return False

    ladder = list(candidates)
    low, high = 0, len(ladder)
    try:
        with budget.share(_CURE_SHARE):
            while low < high:
                probe = min(max(2 * low - 1, 0), (low + high) // 2)
                low, high = (low, probe) if enough(ladder[probe]) else (probe + 1, high)
    except BudgetSpent:
        return None
    if low == len(ladder):
        return None
    written = field(trials[ladder[low]], path).text
    return Cure(path, written, text(written))


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
