"""Every change to a user's tube drawer."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

from django.db import IntegrityError, transaction
from django.shortcuts import get_object_or_404

from bold_anode.frame.apart import apart
from bold_anode.frame.owned import alone
from bold_anode.tasks import operations as tasks
from bold_anode.tasks.kinds import Report
from bold_anode.tasks.models import Work
from bold_anode.tubes.models import OwnTube
from thermionic import design as documents
from thermionic import tubes
from thermionic.errors import FitRefused

MOST_TUBES = 200
FITTING = "fit a tube"
# A fit of these takes longer than a page may.
FITTED_BY_A_WORKER = ("pentode",)
# A table of more characters than this is read in a process of its own.
_SHORT = 10_000


@dataclass(frozen=True)
class Measured:
    """What was typed of a tube that was measured: ``points`` is CSV; the two ratings are of a triode only."""

    name: str
    kind: str
    points: str
    anode_volt: str
    anode_watt: str


def _check(user: Any, measured: Measured) -> None:
    """Raise FitRefused for what can be seen to be no tube for this drawer before anything is fitted."""
    name = measured.name
    if not name:
        raise FitRefused("Give the tube a name.")
    documents.check_own_tube(name, measured.anode_volt, measured.anode_watt)
    if name.upper() in tubes.library_names():
        raise FitRefused(f"{name} is a type of the library; call your own otherwise.")
    if OwnTube.objects.of(user).filter(name__iexact=name).exists():
        raise _there_already(name)
    if OwnTube.objects.of(user).count() >= MOST_TUBES:
        raise FitRefused(f"The drawer holds {MOST_TUBES} types of your own; take one out first.")


def _points(measured: Measured) -> Any:
    """The points that were typed. Raises FitRefused, ValueRefused."""
    if len(measured.points) <= _SHORT:
        return tubes.read_points(measured.points, measured.kind)
    return apart(tubes.read_points, measured.points, measured.kind)


def _there_already(name: str) -> FitRefused:
    return FitRefused(f"There is a {name} in your drawer already. Take that out first, or use another name.")


def add_tube(user: Any, measured: Measured) -> OwnTube:
    """A new type in the drawer, fitted to its points. Raises ThermionicError; then nothing is stored."""
    _check(user, measured)
    name, kind = measured.name, measured.kind
    fitted = tubes.fit_points(kind, _points(measured))
    document: dict[str, Any] = {}
    if kind == "triode":
        made = documents.triode_from_fit(name, fitted, measured.anode_volt, measured.anode_watt)
        document = made.model_dump(mode="json")
    try:
        with alone(user):
            _check(user, measured)
            return OwnTube.objects.create(
                owner=user, name=name, kind=kind, points=measured.points, fitted=fitted.as_dict(), document=document
            )
    except IntegrityError:  # another window added one of that name meanwhile
        raise _there_already(name) from None


def ask_for_tube(user: Any, measured: Measured) -> Work:
    """Have a worker fit a type and put it into the drawer. Raises ThermionicError for what can be refused at once."""
    _check(user, measured)
    _points(measured)
    about = measured.name.upper()
    tasks.forget(user, FITTING, about)
    return tasks.ask(user, FITTING, about, asdict(measured))


def fit_tube(work: Work, report: Report) -> int:
    """Fit what was asked for: the work of ``ask_for_tube``. Returns the tube's key."""
    report(0.0, f"Fitting {work.arguments['name']} to its points")
    # The worker before this one may have got as far as that.
    there = OwnTube.objects.of(work.owner).filter(name=work.arguments["name"], made_at__gte=work.asked_at).first()
    return (there or add_tube(work.owner, Measured(**work.arguments))).pk


@transaction.atomic
def remove_tube(user: Any, tube_id: int) -> str:
    """Take a type out of the drawer; designs that hold it keep their own copy. Returns its name."""
    tube = get_object_or_404(OwnTube.objects.of(user), pk=tube_id)
    tube.delete()
    return tube.name
