"""What takes longer than a page may: studies of a revision that a worker makes, kept with it."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from django.http import Http404, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_http_methods

from bold_anode.amps.models import Project, Revision
from bold_anode.amps.rooms import owned
from bold_anode.amps.solved import solved
from bold_anode.frame.refusing import refuse
from bold_anode.frame.requests import Request
from bold_anode.tasks import kinds
from bold_anode.tasks import operations as tasks
from bold_anode.tasks.kinds import Report
from bold_anode.tasks.models import State, Work
from thermionic.amplifier import SolvedAmplifier
from thermionic.edition import edition
from thermionic.errors import ThermionicError

Arguments = dict[str, Any]


def _none(request: Request, project: Project) -> Arguments:
    """No arguments, whatever a form says."""
    return {}


@dataclass(frozen=True)
class Study:
    """One kind of study.

    ``make`` makes it, as plain data, of a solved amplifier with its arguments, and reports how far it is; ``show`` is
    what its ``template`` needs of that, for a user. ``read`` takes the arguments from a form about a project and
    raises ThermionicError; one that is ``at_once`` is asked for by looking at it; one that is ``long`` can
    take minutes. What is studied besides the design (its layout) is the ``subject``, which gives the arguments as
    they stand: a study of another subject is not shown, and is called off where one of this is asked for.
    """

    slug: str
    template: str
    make: Callable[[SolvedAmplifier, Arguments, Report], Any]
    show: Callable[[SolvedAmplifier, Any, Any], dict[str, Any]]
    read: Callable[[Request, Project], Arguments] = field(default=_none)
    at_once: bool = True
    long: bool = False
    subject: Callable[[Project], Arguments] | None = None

    @property
    def kind(self) -> str:
        """Its name among all kinds of work."""
        return f"study: {self.slug}"


_studies: dict[str, Study] = {}


def register(*studies: Study) -> None:
    """Add studies; called once by each room's app."""
    for study in studies:
        assert study.slug not in _studies, f"two studies are called {study.slug}"
        _studies[study.slug] = study
        kinds.register(study.kind, _do, long=study.long)


def named(slug: str) -> Study:
    """The study of that name. Raises Http404."""
    if slug not in _studies:
        raise Http404
    return _studies[slug]


def plain(value: Any) -> Any:
    """Data with its arrays as lists."""
    if isinstance(value, np.ndarray):
        return value.tolist()
    if isinstance(value, dict):
        return {name: plain(one) for name, one in value.items()}
    if isinstance(value, (list, tuple)):
        return [plain(one) for one in value]
    return value


def _do(work: Work, report: Report) -> Any:
    assert work.revision is not None
    study = _studies[work.kind.removeprefix("study: ")]
    return study.make(solved(work.revision).amplifier, work.arguments, report)


def latest(user: Any, project: Project, study: Study) -> Work | None:
    """The latest work of a study of this very design and subject, else whatever its arguments."""
    if study.subject is not None:
        return tasks.asked(user, study.kind, _about(project.at, study.subject(project)))
    return Work.objects.of(user).filter(kind=study.kind, about__startswith=_design(project.at)).first()


def result(user: Any, project: Project, study: Study) -> Any:
    """What came of the latest work of a study; None where it is not done."""
    work = latest(user, project, study)
    return work.result if work is not None and work.state == State.DONE else None


def ask(user: Any, project: Project, study: Study, arguments: Arguments) -> Work:
    """Ask for a study of the project's current revision. Raises ValueRefused."""
    about = _about(project.at, arguments)
    if study.subject is not None:
        for work in Work.objects.of(user).filter(kind=study.kind).under_way().exclude(about=about):
            tasks.cancel(user, work.pk)
    return tasks.ask(user, study.kind, about, arguments, project.at)


def _design(revision: Revision) -> str:
    return f"{edition()} {revision.document_hash} "


def _about(revision: Revision, arguments: Arguments) -> str:
    """Equal designs with equal arguments are studied once."""
    return _design(revision) + hashlib.sha256(json.dumps(arguments, sort_keys=True).encode()).hexdigest()[:24]


def shown(request: Request, project: Project, slug: str, work: Work | None = None) -> dict[str, Any]:
    """What the template of a study needs, under the study's name."""
    study = named(slug)
    work = work or latest(request.user, project, study)
    context: dict[str, Any] = {
        "slug": slug,
        "work": work,
        "worker_alive": tasks.is_worker_alive() if work is not None and work.is_under_way else True,
        "pending": work is None and study.at_once,
    }
    if work is not None and work.state == State.DONE:
        context |= study.show(solved(project.at).amplifier, work.result, request.user)
    return {"project": project, slug.replace("-", "_"): context}


@require_http_methods(["GET", "HEAD", "POST"])
def view(request: Request, project_id: int, slug: str) -> HttpResponse:
    """A study of the current revision: what came of it, or how far it is. A POST asks for it, or once more."""
    project = owned(request, project_id)
    study = named(slug)
    try:
        work = latest(request.user, project, study)
        if request.method == "POST":
            work = ask(request.user, project, study, study.read(request, project))
        elif work is None and study.at_once:
            work = ask(request.user, project, study, {})
        context = shown(request, project, slug, work)
    except ThermionicError as reason:
        return refuse(request, str(reason))
    return render(request, study.template, context)
