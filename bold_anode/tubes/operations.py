"""Every change to a user's tube drawer."""

from __future__ import annotations

from typing import Any

from django.db import transaction
from django.http import Http404

from bold_anode.tubes.models import OwnTube
from thermionic import budget, tubes
from thermionic import design as documents
from thermionic.errors import FitRefused

MOST_TUBES = 200
FIT_SECONDS = 20.0


@transaction.atomic
def add_tube(user: Any, name: str, kind: str, points: str, anode_volt: str, anode_watt: str) -> OwnTube:
    """A new type in the drawer, fitted to ``points`` (CSV). Raises ThermionicError; then nothing is stored."""
    name = name.strip()
    if not name:
        raise FitRefused("Give the tube a name.")
    if name.upper() in tubes.library_names():
        raise FitRefused(f"{name} is a type of the library; call your own otherwise.")
    if OwnTube.objects.of(user).filter(name__iexact=name).exists():
        raise FitRefused(f"There is a {name} in your drawer already. Take that out first, or use another name.")
    if OwnTube.objects.of(user).count() >= MOST_TUBES:
        raise FitRefused(f"The drawer holds {MOST_TUBES} types of your own; take one out first.")
    read = tubes.read_points(points, kind)
    with budget.limit(FIT_SECONDS):
        fitted = tubes.fit_points(kind, read)
    document: dict[str, Any] = {}
    if kind == "triode":
        document = documents.triode_from_fit(name, fitted, anode_volt, anode_watt).model_dump(mode="json")
    return OwnTube.objects.create(
        owner=user, name=name, kind=kind, points=points, fitted=fitted.as_dict(), document=document
    )


@transaction.atomic
def remove_tube(user: Any, tube_id: int) -> str:
    """Take a type out of the drawer; designs that hold it keep their own copy. Returns its name."""
    tube = OwnTube.objects.of(user).filter(pk=tube_id).first()
    if tube is None:
        raise Http404
    tube.delete()
    return tube.name
