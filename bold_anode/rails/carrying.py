"""The log of the mains in an export."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import AwareDatetime, Field

from bold_anode.frame.carried import AccountPart, Carried, checked, when
from bold_anode.rails.models import HIGHEST, LOWEST, MainsReading
from bold_anode.rails.operations import MOST_READINGS
from thermionic.errors import DesignRefused


class _MainsReading(Carried):
    volt: float = Field(ge=LOWEST, le=HIGHEST)
    read_at: AwareDatetime


def _pack(user: Any) -> list[dict[str, Any]]:
    return [
        {"volt": mains_reading.volt, "read_at": when(mains_reading.read_at)}
        for mains_reading in MainsReading.objects.of(user).order_by("pk")
    ]


def _store(user: Any, readings: list[_MainsReading]) -> int:
    if MainsReading.objects.of(user).count() + len(readings) > MOST_READINGS:
        raise DesignRefused(f"The log of the mains holds {MOST_READINGS} readings; take some out first.")
    rows = [MainsReading(owner=user, **reading.model_dump()) for reading in readings]
    for row in rows:
        checked(row)
    MainsReading.objects.bulk_create(rows)
    return len(rows)


_List = Annotated[list[_MainsReading], Field(max_length=MOST_READINGS)]


def _forget(user: Any) -> None:
    MainsReading.objects.of(user).delete()


MAINS = AccountPart("mains.json", _List, [], _pack, _store, _forget)
