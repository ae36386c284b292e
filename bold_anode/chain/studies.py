"""What takes longer than a page may: studies of a revision that a worker makes, kept with it."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from bold_anode.amps.models import Project, Revision
from bold_anode.amps.solved import solved
from bold_anode.tasks import operations as tasks
from bold_anode.tasks.kinds import Report
from bold_anode.tasks.models import Work
from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.edition import edition
from thermionic.errors import BudgetSpent, ThermionicError
from thermionic.findings import examine
from thermionic.performance.burst import burst
from thermionic.performance.comparing import compared
from thermionic.performance.power import intermodulations
from thermionic.performance.schools import made, schools
from thermionic.performance.tolerances import tolerances

Arguments = dict[str, Any]


@dataclass(frozen=True)
class Study:
    """One kind of study. ``make`` makes it of a solved amplifier with its arguments and reports how far it is;
    ``first`` are the arguments where none are given. One that is ``at_once`` is asked for by looking at it."""

    slug: str
    make: Callable[[SolvedAmplifier, Arguments, Report], Any]
    first: Arguments
    at_once: bool = True

    @property
    def kind(self) -> str:
        """Its name among all kinds of work."""
        return f"chain: {self.slug}"


def _two_tones(amplifier: SolvedAmplifier, _: Arguments, report: Report) -> Any:
    report(0.1, "Balancing two tones together")
    return [asdict(one) for one in intermodulations(amplifier)]


def _burst(amplifier: SolvedAmplifier, _: Arguments, report: Report) -> Any:
    report(0.1, "Following a burst in time")
    return plain(asdict(burst(amplifier)))


def _tolerances(amplifier: SolvedAmplifier, arguments: Arguments, report: Report) -> Any:
    builds = int(arguments["builds"])
    return asdict(
        tolerances(
            amplifier,
            builds,
            matched=bool(arguments["matched"]),
            told=lambda part: report(part, f"Building it {builds} times"),
        )
    )


def _schools(amplifier: SolvedAmplifier, _: Arguments, report: Report) -> Any:
    found = []
    wanted = schools(amplifier)
    for place, school in enumerate(wanted):
        report(place / len(wanted), f"{school.title}: changing the design and solving it")
        row: dict[str, Any] = {"slug": school.slug, "title": school.title, "why": school.why}
        try:
            design, _school = made(amplifier, school.slug)
            after = solve(design, amplifier)
            row["numbers"] = asdict(compared(after, examine(after)))
        except BudgetSpent:
            raise
        except ThermionicError as refusal:
            row["refusal"] = str(refusal)
        found.append(row)
    return found


STUDIES = {
    study.slug: study
    for study in (
        Study("two-tones", _two_tones, {}),
        Study("burst", _burst, {}),
        Study("schools", _schools, {}),
        Study("tolerances", _tolerances, {"builds": 1000, "matched": True}, at_once=False),
    )
}


def plain(value: Any) -> Any:
    """Data with its arrays as lists."""
    if isinstance(value, np.ndarray):
        return value.tolist()
    if isinstance(value, dict):
        return {name: plain(one) for name, one in value.items()}
    if isinstance(value, (list, tuple)):
        return [plain(one) for one in value]
    return value


def do(work: Work, report: Report) -> Any:
    """Make the study that is asked for. Raises ThermionicError."""
    assert work.revision is not None
    study = next(one for one in STUDIES.values() if one.kind == work.kind)
    return study.make(solved(work.revision).amplifier, work.arguments, report)


def asked(user: Any, revision: Revision, study: Study, arguments: Arguments) -> Work | None:
    """The latest work of a study of a revision; None if it was never asked for."""
    return tasks.asked(user, study.kind, _about(revision, arguments))


def latest(user: Any, revision: Revision, study: Study) -> Work | None:
    """The latest of a study of this very design, whatever its arguments."""
    about = _about(revision, {}).rstrip("{}")
    return Work.objects.of(user).filter(kind=study.kind, about__startswith=about).first()


def ask(user: Any, project: Project, study: Study, arguments: Arguments) -> Work:
    """Ask for a study of the project's current revision. Raises ValueRefused."""
    revision = project.at
    return tasks.ask(user, study.kind, _about(revision, arguments), arguments, revision)


def _about(revision: Revision, arguments: Arguments) -> str:
    """Equal designs with equal arguments are studied once."""
    return f"{edition()} {revision.document_hash} {json.dumps(arguments, sort_keys=True)}"
