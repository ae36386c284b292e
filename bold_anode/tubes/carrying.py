"""The user's own tubes in an export."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import AwareDatetime, Field

from bold_anode.frame.carried import AccountPart, Carried, stored, when
from bold_anode.tubes.curves import sheet
from bold_anode.tubes.models import KINDS, OwnTube
from bold_anode.tubes.operations import MOST_TUBES
from thermionic.errors import DesignRefused


class _Tube(Carried):
    name: str = Field(min_length=1, max_length=40)
    kind: str = Field(pattern="|".join(f"^{key}$" for key, _ in KINDS))
    points: str
    fitted: dict[str, Any]
    document: dict[str, Any]
    made_at: AwareDatetime


def _pack(user: Any) -> list[dict[str, Any]]:
    return [
        {
            "name": tube.name,
            "kind": tube.kind,
            "points": tube.points,
            "fitted": tube.fitted,
            "document": tube.document,
            "made_at": when(tube.made_at),
        }
        for tube in OwnTube.objects.of(user).order_by("pk")
    ]


def _store(user: Any, tubes: list[_Tube]) -> int:
    """A tube that is in the drawer already by that name stays as it is there."""
    have = {name.upper() for name in OwnTube.objects.of(user).values_list("name", flat=True)}
    count = 0
    for tube in tubes:
        if tube.name.upper() in have:
            continue
        if len(have) >= MOST_TUBES:
            raise DesignRefused(f"The drawer holds {MOST_TUBES} types of your own; take some out first.")
        have.add(tube.name.upper())
        row = stored(OwnTube(owner=user, **tube.model_dump(exclude={"made_at"})), made_at=tube.made_at)
        try:
            sheet(row)
        except Exception:
            raise DesignRefused(f"The curves of {tube.name} cannot be drawn from its fit.") from None
        count += 1
    return count


_List = Annotated[list[_Tube], Field(max_length=MOST_TUBES)]


def _forget(user: Any) -> None:
    OwnTube.objects.of(user).delete()


TUBES = AccountPart("tubes.json", _List, [], _pack, _store, _forget, things="tubes", needed=True)
